//! A keeper as a process of its own, and how simulated hosts run one: what it is given comes as lines on its standard input,
//! whether it decides goes out as lines. It ends with its input.

use crate::{args::Keeper, serve::Failed};
use serde::{Deserialize, Serialize};
use std::{
    io::{BufRead, BufReader, Write},
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
        mpsc,
    },
    thread,
};
use tokio::sync::watch;
use zastrugi_core::guard::Times;
use zastrugi_keeper::{Given, Settings, keep};
use zastrugi_standins::{Runner, Runs};

#[derive(Debug, Serialize, Deserialize)]
struct GivenLine {
    sealed: String,
    key: String,
}

const DECIDES: &str = "decides";
const WAITS: &str = "waits";

pub(crate) async fn keeper(args: Keeper) -> Result<(), Failed> {
    let (give, given) = watch::channel(None);
    let (say, mut said) = watch::channel(false);
    thread::spawn(move || {
        for line in std::io::stdin().lock().lines().map_while(Result::ok) {
            match serde_json::from_str::<GivenLine>(&line) {
                Ok(GivenLine { sealed, key }) => drop(give.send(Some(Given { sealed, key }))),
                Err(error) => tracing::error!(%error, "a line that makes no sense"),
            }
        }
    });
    let settings = Settings {
        serial: args.serial,
        cluster: args.cluster,
        times: Times::default(),
    };
    let telling = async {
        while said.changed().await.is_ok() {
            let word = if *said.borrow_and_update() {
                DECIDES
            } else {
                WAITS
            };
            let mut out = std::io::stdout().lock();
            if writeln!(out, "{word}").and_then(|()| out.flush()).is_err() {
                return;
            }
        }
    };
    tokio::select! {
        () = keep(settings, given, say, |_| {}) => {}
        () = telling => {}
    }
    Ok(())
}

/// Runs keepers as processes of this same program.
pub(crate) struct Processes;

impl Runner for Processes {
    fn begin(&self, host: &str, serial: &str, cluster: &str) -> Box<dyn Runs> {
        match start(serial, cluster) {
            Ok(process) => Box::new(process),
            Err(error) => {
                tracing::error!(%error, host, "a keeper can't be started");
                Box::new(Nothing)
            }
        }
    }
}

struct Process {
    child: Child,
    lines: mpsc::Sender<GivenLine>,
    decides: Arc<AtomicBool>,
    ended: Arc<AtomicBool>,
}

fn start(serial: &str, cluster: &str) -> std::io::Result<Process> {
    let mut child = Command::new(std::env::current_exe()?)
        .args(["keeper", "--serial", serial, "--cluster", cluster])
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()?;
    let gone = || std::io::Error::other("it has no input or output");
    let mut input = child.stdin.take().ok_or_else(gone)?;
    let output = child.stdout.take().ok_or_else(gone)?;
    let (lines, wanted) = mpsc::channel::<GivenLine>();
    // Neither its input nor its output may keep a host waiting.
    thread::spawn(move || {
        for line in wanted {
            let written = serde_json::to_string(&line).map_err(std::io::Error::from);
            if written
                .and_then(|text| writeln!(input, "{text}").and_then(|()| input.flush()))
                .is_err()
            {
                return;
            }
        }
    });
    let (decides, ended) = (
        Arc::new(AtomicBool::new(false)),
        Arc::new(AtomicBool::new(false)),
    );
    let (says, ends) = (decides.clone(), ended.clone());
    thread::spawn(move || {
        for line in BufReader::new(output).lines().map_while(Result::ok) {
            says.store(line == DECIDES, Ordering::Relaxed);
        }
        ends.store(true, Ordering::Relaxed);
    });
    Ok(Process {
        child,
        lines,
        decides,
        ended,
    })
}

impl Runs for Process {
    fn hand(&mut self, given: &zastrugi_standins::Given) {
        let line = GivenLine {
            sealed: given.sealed.clone(),
            key: given.key.clone(),
        };
        drop(self.lines.send(line));
    }
    fn keeps(&self) -> Option<bool> {
        let runs = !self.ended.load(Ordering::Relaxed);
        runs.then(|| self.decides.load(Ordering::Relaxed))
    }
}

impl Drop for Process {
    /// As its host's power ends: at once.
    fn drop(&mut self) {
        drop(self.child.kill());
        drop(self.child.wait());
    }
}

/// One that could not be started.
struct Nothing;

impl Runs for Nothing {
    fn hand(&mut self, _given: &zastrugi_standins::Given) {}
    fn keeps(&self) -> Option<bool> {
        None
    }
}
