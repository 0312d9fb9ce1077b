//! `cargo xtask test`: everything that CI runs, with the time of each phase.

use crate::{
    assets, checks,
    cluster::Cluster,
    install,
    shell::{Failed, cargo, run},
};
use std::{
    ffi::OsString,
    path::PathBuf,
    process::Command,
    time::{Duration, Instant},
};

struct Phases(Vec<(&'static str, Duration)>);

impl Phases {
    fn run(
        &mut self,
        name: &'static str,
        work: impl FnOnce() -> Result<(), Failed>,
    ) -> Result<(), Failed> {
        println!("── {name}");
        let began = Instant::now();
        let done = work();
        self.0.push((name, began.elapsed()));
        done
    }
}

fn run_all(phases: &mut Phases) -> Result<(), Failed> {
    let mut database = String::new();
    let cluster = Cluster::at("test")?;
    phases.run("what is missing", || {
        install::browser()?;
        install::node()
    })?;
    // It waits for downloads most of its time, and nothing before the tests needs it.
    let moto = std::thread::spawn(install::moto);
    phases.run("styles and scripts", || assets::build(false))?;
    phases.run("format", || run(cargo().args(["fmt", "--all", "--check"])))?;
    phases.run("house rules", checks::run)?;
    let linted = linted();
    if linted.is_empty() {
        phases.run("lints", || {
            let all = ["clippy", "--workspace", "--all-targets", "--quiet", "--"];
            run(cargo().args(all).args(["-D", "warnings"]))
        })?;
    }
    phases.run("build and lints", || {
        let all = ["test", "--workspace", "--all-targets", "--no-run"];
        run(cargo().args(all).arg("--quiet").envs(linted.clone()))
    })?;
    phases.run("database", || {
        database = cluster.up()?;
        Ok(())
    })?;
    let without_moto = moto.join().map_or(true, |got| told(got).is_err());
    let tested = phases.run("tests", || tests(&database, &linted, without_moto));
    cluster.down()?;
    tested
}

/// A registry that does not answer is no fault of ours; that something was not tried is said.
fn told(got: Result<(), Failed>) -> Result<(), ()> {
    got.map_err(|why| {
        println!(
            "Not tried: whether what is locked stays at a server that nobody here wrote. {why}"
        );
    })
}

/// Clippy's compiler also makes what runs: with it every crate is compiled once, not once to be looked at and once to be run.
/// Cargo does so with its `check`; this is the same for what is built. Empty where there is no such compiler.
fn linted() -> Vec<(&'static str, OsString)> {
    let cargo = PathBuf::from(cargo().get_program());
    let driver = cargo.with_file_name("clippy-driver");
    if !driver.is_file() {
        return vec![];
    }
    let refused = "-D__CLIPPY_HACKERY__warnings__CLIPPY_HACKERY__";
    vec![
        ("RUSTC_WORKSPACE_WRAPPER", driver.into()),
        ("CLIPPY_ARGS", refused.into()),
    ]
}

fn tests(
    database: &str,
    linted: &[(&'static str, OsString)],
    without_moto: bool,
) -> Result<(), Failed> {
    let with = |command: &mut Command| {
        command.envs(linted.iter().cloned());
        if without_moto {
            command.env("WITHOUT_MOTO", "its installation failed");
        }
        run(command.env("DATABASE_URL", database))
    };
    if crate::shell::ask("cargo", &["nextest", "--version"]).is_some() {
        // Shows the slowest tests and gives each test a process of its own.
        return with(cargo().args([
            "nextest",
            "run",
            "--workspace",
            "--no-fail-fast",
            "--status-level",
            "slow",
            "--final-status-level",
            "slow",
        ]));
    }
    with(cargo().args(["test", "--workspace"]))
}

pub(crate) fn run_test() -> Result<(), Failed> {
    let mut phases = Phases(Vec::new());
    let began = Instant::now();
    let done = run_all(&mut phases);
    println!("\nphase                    seconds");
    for (name, took) in &phases.0 {
        println!("{name:<24} {:>7.1}", took.as_secs_f64());
    }
    println!("{:<24} {:>7.1}", "all", began.elapsed().as_secs_f64());
    done
}

/// Measures what the issues name, in a release build.
pub(crate) fn bench() -> Result<(), Failed> {
    assets::build(false)?;
    let cluster = Cluster::at("bench")?;
    let database = cluster.up()?;
    let done = run(cargo()
        .args(["bench", "--workspace"])
        .env("DATABASE_URL", database));
    cluster.down()?;
    done
}
