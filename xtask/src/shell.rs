//! Running other programs, with words when they fail.

use std::{
    env,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

#[derive(Debug, thiserror::Error)]
pub(crate) enum Failed {
    #[error("{program} can't be started: {source}. {hint}")]
    Start {
        program: String,
        source: std::io::Error,
        hint: String,
    },
    #[error("{what} failed. {hint}")]
    Status { what: String, hint: String },
    #[error("{0}")]
    Words(String),
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

/// The workspace's root.
pub(crate) fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR"))
        .parent()
        .unwrap_or(Path::new("."))
        .to_owned()
}

/// Runs it, shows its output, and fails when it fails.
pub(crate) fn run(command: &mut Command) -> Result<(), Failed> {
    let program = command.get_program().to_string_lossy().into_owned();
    let status = command.status().map_err(|source| Failed::Start {
        program: program.clone(),
        source,
        hint: String::new(),
    })?;
    if status.success() {
        return Ok(());
    }
    let args: Vec<_> = command
        .get_args()
        .map(|a| a.to_string_lossy().into_owned())
        .collect();
    Err(Failed::Status {
        what: format!("{program} {}", args.join(" ")),
        hint: String::new(),
    })
}

/// Runs it and answers what it printed; none when it isn't there or failed.
pub(crate) fn ask(program: &str, args: &[&str]) -> Option<String> {
    let output = Command::new(program)
        .args(args)
        .stderr(Stdio::null())
        .output()
        .ok()?;
    output
        .status
        .success()
        .then(|| String::from_utf8_lossy(&output.stdout).trim().to_owned())
}

pub(crate) fn has(program: &str) -> bool {
    env::var_os("PATH")
        .is_some_and(|paths| env::split_paths(&paths).any(|dir| dir.join(program).is_file()))
}

pub(crate) fn is_root() -> bool {
    ask("id", &["-u"]).as_deref() == Some("0")
}

pub(crate) fn cargo() -> Command {
    let mut command = Command::new(env::var("CARGO").unwrap_or_else(|_| "cargo".into()));
    command.current_dir(root());
    command
}
