//! The binary: wiring only.

mod args;
mod compute;
mod demo;
mod house;
mod keeper;
mod key;
mod log;
mod ovf;
mod serve;
mod stand_by;
mod store;
mod weather;

use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    log::begin();
    let args = args::Args::parse();
    if let args::Command::Compute(what) = &args.command {
        return answer(compute::compute(what).map(|json| format!("{json:#}")));
    }
    if let args::Command::Ovf(what) = &args.command {
        return answer(ovf::ovf(what));
    }
    let runtime = match tokio::runtime::Builder::new_multi_thread()
        .enable_all()
        .build()
    {
        Ok(runtime) => runtime,
        Err(error) => {
            tracing::error!(%error, "no runtime");
            return ExitCode::FAILURE;
        }
    };
    if let args::Command::Store(what) = &args.command {
        return answer(runtime.block_on(store::store(what)));
    }
    if let args::Command::StandBy(what) = &args.command {
        return answer(runtime.block_on(stand_by::stand_by(what)));
    }
    match runtime.block_on(run(args.command)) {
        Ok(()) => ExitCode::SUCCESS,
        Err(error) => {
            tracing::error!("{error}");
            ExitCode::FAILURE
        }
    }
}

/// 0 and the answer, or 2 and what is wrong. Who stops reading is not told more.
fn answer(answer: Result<String, impl std::fmt::Display>) -> ExitCode {
    use std::io::Write;
    match answer {
        Ok(answer) => {
            drop(writeln!(std::io::stdout(), "{answer}"));
            ExitCode::SUCCESS
        }
        Err(wrong) => {
            drop(writeln!(std::io::stderr(), "{wrong}"));
            ExitCode::from(2)
        }
    }
}

async fn run(command: args::Command) -> Result<(), serve::Failed> {
    match command {
        args::Command::Serve(args) => serve::serve(args).await,
        args::Command::Standins(args) => serve::standins(args).await,
        args::Command::Demo(args) => demo::demo(args).await,
        args::Command::Keeper(args) => keeper::keeper(args).await,
        args::Command::Migrate(args) => serve::migrate(&args.database).await,
        args::Command::AddPerson(args) => serve::add_person(args).await,
        args::Command::AgentCheck(args) => serve::agent_check(args).await,
        // Answered before.
        args::Command::Compute(_)
        | args::Command::Ovf(_)
        | args::Command::Store(_)
        | args::Command::StandBy(_) => Ok(()),
    }
}
