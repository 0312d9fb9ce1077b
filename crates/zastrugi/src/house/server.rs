//! The demo's database server, so that it can die with its site and be started again as it was.

use rustix::process::{Pid, Signal, kill_process};
use std::{
    ffi::OsString,
    fs, io,
    os::unix::{ffi::OsStringExt, fs::MetadataExt, process::CommandExt},
    process::{Command, Stdio},
};

/// How a server that runs was started.
pub(super) struct Server {
    pid: i32,
    words: Vec<OsString>,
    owner: (u32, u32),
}

impl Server {
    /// The server to which one of its processes belongs; none where the system does not say.
    pub(super) fn of(process: i32) -> Option<Server> {
        let status = fs::read_to_string(format!("/proc/{process}/status")).ok()?;
        let parent = status.lines().find_map(|l| l.strip_prefix("PPid:"))?;
        let pid: i32 = parent.trim().parse().ok()?;
        let line = fs::read(format!("/proc/{pid}/cmdline")).ok()?;
        let words = line.split(|b| *b == 0).filter(|w| !w.is_empty());
        let words: Vec<OsString> = words.map(|w| OsString::from_vec(w.to_vec())).collect();
        let about = fs::metadata(format!("/proc/{pid}")).ok()?;
        (!words.is_empty()).then_some(Server {
            pid,
            words,
            owner: (about.uid(), about.gid()),
        })
    }

    /// It ends without tidying up, as when the power fails.
    pub(super) fn dies(&self) {
        let _gone = Pid::from_raw(self.pid).map(|pid| kill_process(pid, Signal::QUIT));
    }

    pub(super) fn starts(&self) -> io::Result<()> {
        let Some((program, words)) = self.words.split_first() else {
            return Ok(());
        };
        let mut command = Command::new(program);
        command.args(words).current_dir("/");
        command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null());
        // Ctrl-C is for the demo, which ends it in its own time.
        command.process_group(0);
        if rustix::process::geteuid().is_root() {
            command.uid(self.owner.0).gid(self.owner.1);
        }
        command.spawn().map(drop)
    }
}
