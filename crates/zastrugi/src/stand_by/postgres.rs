//! A copy of a database by PostgreSQL's own programs. As root they run as `postgres`, else as whoever starts them.

use super::Invitation;
use std::{
    fs,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};

pub(super) struct Copy {
    /// Where the programs are; where Debian puts them, if nothing is said.
    pub(super) bin: Option<PathBuf>,
    pub(super) dir: PathBuf,
    pub(super) port: u16,
}

/// Where the server's own files lie elsewhere, as Debian's do, the copy gets these.
const CONF: &str = "listen_addresses = '127.0.0.1'\nunix_socket_directories = ''\n";
const WHO: &str =
    "host all all 127.0.0.1/32 scram-sha-256\nhost replication all 127.0.0.1/32 scram-sha-256\n";

fn failed(path: &Path, error: &std::io::Error) -> String {
    format!("{}: {error}", path.display())
}

impl Copy {
    fn programs(&self) -> Option<PathBuf> {
        if let Some(bin) = &self.bin {
            return Some(bin.clone());
        }
        let versions = fs::read_dir("/usr/lib/postgresql").ok()?;
        let versions = versions.filter_map(|e| e.ok()?.file_name().to_str()?.parse::<u32>().ok());
        let newest = versions.max()?;
        Some(format!("/usr/lib/postgresql/{newest}/bin").into())
    }

    fn program(&self, name: &str) -> Result<Command, String> {
        let bin = self.programs().ok_or(
            "PostgreSQL's programs are not there: install its server, or say with --bin where they are.",
        )?;
        let path = bin.join(name);
        if !rustix::process::geteuid().is_root() {
            return Ok(Command::new(path));
        }
        let mut command = Command::new("runuser");
        command.args(["-u", "postgres", "--"]).arg(path);
        Ok(command)
    }

    /// Copies the database into a directory that is not there yet, or empty.
    pub(super) fn make(&self, from: &Invitation) -> Result<(), String> {
        if fs::read_dir(&self.dir).is_ok_and(|mut d| d.next().is_some()) {
            return Err(format!(
                "{} is not empty: the copy needs a directory of its own.",
                self.dir.display()
            ));
        }
        self.own_dir()?;
        let Invitation {
            host,
            port,
            role,
            slot,
            ..
        } = from;
        let to = format!(
            "host={host} port={port} user={role} application_name={slot} connect_timeout=10"
        );
        let mut copy = self.program("pg_basebackup")?;
        copy.arg("--pgdata").arg(&self.dir).args(["--dbname", &to]);
        copy.args(["--write-recovery-conf", "--create-slot", "--slot", slot]);
        copy.args(["--wal-method=stream", "--checkpoint=fast", "--no-password"]);
        copy.env("PGPASSWORD", &from.password).stdout(Stdio::null());
        run(copy, "The database was not copied")?;
        self.settle(from)
    }

    /// A directory that is for the server's user alone, as it wants it.
    fn own_dir(&self) -> Result<(), String> {
        let dir = &self.dir;
        fs::create_dir_all(dir).map_err(|e| failed(dir, &e))?;
        fs::set_permissions(dir, fs::Permissions::from_mode(0o700)).map_err(|e| failed(dir, &e))?;
        if !rustix::process::geteuid().is_root() {
            return Ok(());
        }
        let given = Command::new("chown").arg("postgres").arg(dir).status();
        match given.is_ok_and(|s| s.success()) {
            true => Ok(()),
            false => Err(format!("{} could not be given to postgres.", dir.display())),
        }
    }

    /// What the copy's own server needs: a port, as much of some things as the other has, and files that lie elsewhere there.
    fn settle(&self, from: &Invitation) -> Result<(), String> {
        let own = |name: &str, text: &str| {
            let path = self.dir.join(name);
            match path.exists() {
                true => Ok(()),
                false => fs::write(&path, text).map_err(|e| failed(&path, &e)),
            }
        };
        own("postgresql.conf", CONF)?;
        own("pg_hba.conf", WHO)?;
        own("pg_ident.conf", "")?;
        let path = self.dir.join("postgresql.auto.conf");
        let mut text = fs::read_to_string(&path).map_err(|e| failed(&path, &e))?;
        text += &format!(
            "port = '{}'\nhot_standby = 'on'\nhot_standby_feedback = 'on'\n",
            self.port
        );
        for (name, value) in &from.settings {
            text += &format!("{name} = '{value}'\n");
        }
        // Written over: its owner stays.
        fs::write(&path, text).map_err(|e| failed(&path, &e))
    }

    pub(super) fn start(&self) -> Result<(), String> {
        let log = self.dir.join("log-of-the-start");
        let mut start = self.program("pg_ctl")?;
        start.arg("-D").arg(&self.dir).arg("-l").arg(&log);
        start.args(["-w", "start"]).stdout(Stdio::null());
        let (log, dir) = (log.display(), self.dir.display());
        run(start, "The copy did not start").map_err(|e| {
            format!(
                "{e} Its words are in {log}. Once it can start, remove {dir}, then invite and join again."
            )
        })
    }
}

fn run(mut command: Command, what: &str) -> Result<(), String> {
    // What a server that goes on has open must not be waited for.
    let status = command.stdin(Stdio::null()).status();
    match status {
        Ok(status) if status.success() => Ok(()),
        Ok(status) => Err(format!("{what}: {status}.")),
        Err(error) => Err(format!("{what}: {error}.")),
    }
}
