//! The commands of the workspace: `cargo xtask demo`, `test`, `assets`, `bench`, `checks`.

mod assets;
mod checks;
mod cluster;
mod demo;
mod install;
mod shell;
mod test;

use clap::{Parser, Subcommand};
use std::process::ExitCode;

#[derive(Debug, Parser)]
#[command(name = "cargo xtask", about = "Commands of the workspace")]
struct Args {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Install what is missing, start the database, the devices and the application with the demo's data.
    Demo(demo::Demo),
    /// Install what is missing, check the format, the lints and the house rules, and run all tests.
    Test,
    /// Build what the browser gets.
    Assets,
    /// The house rules that no other tool checks.
    Checks,
    /// Measure what the issues name; needs the database.
    Bench,
    /// Install a server of buckets with object lock, which tests of stores ask.
    Moto,
    /// Start or stop the private database and print its address.
    Database {
        #[arg(value_parser = ["up", "down"])]
        what: String,
    },
}

fn main() -> ExitCode {
    let done = match Args::parse().command {
        Command::Demo(args) => demo::run(&args),
        Command::Test => test::run_test(),
        Command::Assets => assets::build(true),
        Command::Checks => checks::run(),
        Command::Bench => test::bench(),
        Command::Moto => install::moto(),
        Command::Database { what } => database(&what),
    };
    match done {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            eprintln!("\nxtask: {error}");
            ExitCode::FAILURE
        }
    }
}

fn database(what: &str) -> Result<(), shell::Failed> {
    let cluster = cluster::Cluster::at("dev")?;
    if what == "up" {
        println!("{}", cluster.up()?);
        Ok(())
    } else {
        cluster.down()
    }
}
