//! What a fresh machine lacks, from Debian's packages.

use crate::shell::{Failed, ask, has, is_root, root, run};
use std::{fs, path::Path, process::Command};

/// PostgreSQL's server programs, wherever Debian put the newest.
pub(crate) fn postgres_dir() -> Option<String> {
    let mut versions: Vec<u32> = fs::read_dir("/usr/lib/postgresql")
        .ok()?
        .filter_map(|e| e.ok()?.file_name().to_str()?.parse().ok())
        .filter(|v: &u32| Path::new(&format!("/usr/lib/postgresql/{v}/bin/initdb")).exists())
        .collect();
    versions.sort_unstable();
    versions
        .last()
        .map(|v| format!("/usr/lib/postgresql/{v}/bin"))
}

pub(crate) fn postgres() -> Result<(), Failed> {
    if postgres_dir().is_some() {
        return Ok(());
    }
    // No cluster of Debian's own is wanted; ours is private.
    let conf = "/etc/postgresql-common/createcluster.d";
    privileged("mkdir", &["-p", conf])?;
    privileged(
        "sh",
        &[
            "-c",
            &format!("echo 'create_main_cluster = false' > {conf}/zastrugi.conf"),
        ],
    )?;
    packages(&["postgresql"])
}

pub(crate) fn browser() -> Result<(), Failed> {
    if has("chromium") && has("chromedriver") {
        Ok(())
    } else {
        packages(&["chromium", "chromium-driver"])
    }
}

pub(crate) fn node() -> Result<(), Failed> {
    match ask("node", &["--version"]) {
        Some(_) if has("npm") => Ok(()),
        _ => Err(Failed::Words("Node.js 20 or newer with npm is needed for the pages' styles and scripts; install it and try again.".into())),
    }
}

/// A server of buckets with object lock that nobody here wrote, from PyPI: tests ask it whether what is locked stays.
pub(crate) fn moto() -> Result<(), Failed> {
    let at = root().join("target/moto");
    if at.join("bin/moto_server").exists() {
        return Ok(());
    }
    let fresh = || {
        let venv = ["-m", "venv", "--clear"];
        run(Command::new("python3").args(venv).arg(&at))
    };
    if fresh().is_err() {
        packages(&["python3", "python3-venv"])?;
        fresh()?;
    }
    let pip = ["install", "--quiet", "--disable-pip-version-check"];
    let wanted = ["moto[s3]==5.1.0", "flask", "flask-cors"];
    run(Command::new(at.join("bin/pip")).args(pip).args(wanted))
}

fn privileged(program: &str, args: &[&str]) -> Result<(), Failed> {
    if is_root() {
        run(Command::new(program).args(args))
    } else {
        run(Command::new("sudo").arg(program).args(args))
    }
}

fn packages(names: &[&str]) -> Result<(), Failed> {
    if !has("apt-get") {
        return Err(Failed::Words(format!(
            "{} can't be installed here: this is not Debian. Install them by hand and try again.",
            names.join(", ")
        )));
    }
    if !is_root() && !has("sudo") {
        return Err(Failed::Words(format!(
            "{} must be installed; run this as root, or install sudo.",
            names.join(", ")
        )));
    }
    println!("Installing {} …", names.join(", "));
    privileged("apt-get", &["update", "-qq"])?;
    let mut args = vec!["install", "-y", "-qq", "--no-install-recommends"];
    args.extend(names);
    privileged(
        "env",
        &[
            &["DEBIAN_FRONTEND=noninteractive", "apt-get"],
            args.as_slice(),
        ]
        .concat(),
    )
}
