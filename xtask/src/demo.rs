//! `cargo xtask demo`: one command from a fresh machine to a running demo.

use crate::{
    assets,
    cluster::Cluster,
    shell::{Failed, cargo, root, run as shell_run},
};
use clap::Args;
use std::{fs, net::TcpListener, path::Path, process::Command};

#[derive(Debug, Args)]
pub(crate) struct Demo {
    /// Start over: forget the estate and the devices' state.
    #[arg(long)]
    reset: bool,
    #[arg(long, default_value_t = 8470)]
    port: u16,
    /// The devices are there, and nothing is claimed.
    #[arg(long)]
    empty: bool,
    /// A second manager on a second database stands by at the other site.
    #[arg(long, conflicts_with = "empty")]
    two_sites: bool,
    /// Virtual seconds per second on the devices.
    #[arg(long, default_value_t = 1.0)]
    speed: f64,
}

pub(crate) fn run(args: &Demo) -> Result<(), Failed> {
    if TcpListener::bind(("127.0.0.1", args.port)).is_err() {
        return Err(Failed::Words(format!(
            "Port {} is taken; choose another with --port.",
            args.port
        )));
    }
    let name = if args.empty { "demo-empty" } else { "demo" };
    let cluster = Cluster::at(name)?;
    let other = Cluster::at("demo-hilltop")?;
    let dir = root().join(".state").join(name);
    if args.reset {
        other.remove()?;
        cluster.remove()?;
        if dir.exists() {
            fs::remove_dir_all(&dir)?;
        }
    }
    assets::build(false)?;
    run_build()?;
    let database = cluster.up()?;
    let mut command = zastrugi();
    if args.two_sites {
        let follows = follow(&cluster, &other, &database, &dir)?;
        command.env("STAND_BY_DATABASE_URL", follows);
    }
    command
        .arg("demo")
        .arg("--dir")
        .arg(&dir)
        .arg("--port")
        .arg(args.port.to_string());
    command
        .arg("--speed")
        .arg(args.speed.to_string())
        .env("DATABASE_URL", database);
    if args.empty {
        command.arg("--empty");
    }
    let served = run_quietly(&mut command);
    other.down()?;
    cluster.down()?;
    served
}

fn zastrugi() -> Command {
    Command::new(root().join("target/debug/zastrugi"))
}

/// The second database, by the same commands as in earnest; answers its address.
fn follow(leads: &Cluster, other: &Cluster, database: &str, dir: &Path) -> Result<String, Failed> {
    fs::create_dir_all(dir)?;
    let (invitation, key) = (dir.join("invitation.json"), dir.join("stand-by.key"));
    let port = match other.is_made() && key.exists() {
        true => other.begin()?,
        false => {
            other.remove()?;
            for file in [&invitation, &key, &dir.join("stand-by.env")] {
                if file.exists() {
                    fs::remove_file(file)?;
                }
            }
            println!("Copying the database to the other site …");
            shell_run(
                zastrugi()
                    .args(["stand-by", "invite", "--name", "hilltop", "--key-file"])
                    .arg(dir.join("seal.key"))
                    .arg("--out")
                    .arg(&invitation)
                    .env("DATABASE_URL", database)
                    .env("ADMIN_DATABASE_URL", leads.admin()?),
            )?;
            let port = other.prepare()?;
            shell_run(
                zastrugi()
                    .args(["stand-by", "join", "--port", &port.to_string(), "--data"])
                    .arg(other.data())
                    .arg("--invitation")
                    .arg(&invitation)
                    .arg("--key-file")
                    .arg(&key)
                    .arg("--env-file")
                    .arg(dir.join("stand-by.env")),
            )?;
            fs::remove_file(&invitation)?;
            port
        }
    };
    let (head, _) = database.rsplit_once(':').unwrap_or((database, ""));
    Ok(format!("{head}:{port}/zastrugi"))
}

fn run_build() -> Result<(), Failed> {
    println!("Building …");
    // The whole workspace, so that demo and tests share what is built.
    shell_run(cargo().args(["build", "--workspace", "--quiet"]))
}

/// Ctrl-C reaches the program as well; ours waits for it and then stops the database.
fn run_quietly(command: &mut Command) -> Result<(), Failed> {
    let child = command.spawn();
    let mut child = child.map_err(|source| Failed::Start {
        program: "zastrugi".into(),
        source,
        hint: String::new(),
    })?;
    ctrlc_ignore();
    let status = child.wait()?;
    if status.success() || status.code().is_none() {
        Ok(())
    } else {
        Err(Failed::Words(
            "The demo did not start; its words stand above.".into(),
        ))
    }
}

/// From here on Ctrl-C is the child's business.
fn ctrlc_ignore() {
    if let Err(error) = ctrlc::set_handler(|| {}) {
        eprintln!("xtask: Ctrl-C stops at once: {error}");
    }
}
