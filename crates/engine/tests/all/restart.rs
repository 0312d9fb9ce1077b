//! The database is killed under load: no acknowledged write is lost, and the work goes on.

use crate::lab::{Lab, until};
use std::{
    fs,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::Duration,
};
use uuid::Uuid;
use zastrugi_core::{ids::RunId, runs::RunState};

/// A PostgreSQL of this test's own, so that it can be killed.
struct Private {
    bin: PathBuf,
    dir: tempfile::TempDir,
    port: u16,
}

impl Private {
    fn start() -> Private {
        let newest = fs::read_dir("/usr/lib/postgresql")
            .unwrap()
            .filter_map(|e| Some(e.ok()?.path().join("bin")));
        let bin = newest.filter(|b| b.join("initdb").exists()).max().unwrap();
        let dir = tempfile::Builder::new()
            .prefix("zastrugi-pg")
            .tempdir_in("/tmp")
            .unwrap();
        let port = std::net::TcpListener::bind("127.0.0.1:0")
            .unwrap()
            .local_addr()
            .unwrap()
            .port();
        let private = Private { bin, dir, port };
        if private.is_root() {
            assert!(
                Command::new("chown")
                    .arg("postgres")
                    .arg(private.dir.path())
                    .status()
                    .unwrap()
                    .success()
            );
        }
        private.tool(
            "initdb",
            &["-U", "postgres", "-A", "trust", "-D", &private.data()],
        );
        private.up();
        private
    }
    fn is_root(&self) -> bool {
        Command::new("id").arg("-u").output().unwrap().stdout == b"0\n"
    }
    fn data(&self) -> String {
        self.dir.path().join("data").display().to_string()
    }
    fn tool(&self, name: &str, args: &[&str]) {
        let path: &Path = &self.bin.join(name);
        let mut command = if self.is_root() {
            let mut c = Command::new("runuser");
            c.args(["-u", "postgres", "--"]).arg(path);
            c
        } else {
            Command::new(path)
        };
        assert!(
            command
                .args(args)
                .stdout(Stdio::null())
                .status()
                .unwrap()
                .success(),
            "{name}"
        );
    }
    fn up(&self) {
        let log = self.dir.path().join("log").display().to_string();
        // Durable, as where runs execute: an acknowledged write must survive.
        let how = format!(
            "-p {} -c listen_addresses=127.0.0.1 -c unix_socket_directories= -c synchronous_commit=on",
            self.port
        );
        self.tool(
            "pg_ctl",
            &["-w", "-D", &self.data(), "-l", &log, "-o", &how, "start"],
        );
    }
    fn kill(&self) {
        self.tool(
            "pg_ctl",
            &["-w", "-D", &self.data(), "-m", "immediate", "stop"],
        );
    }
    fn url(&self) -> String {
        format!("postgres://postgres@127.0.0.1:{}/postgres", self.port)
    }
}

impl Drop for Private {
    fn drop(&mut self) {
        if fs::metadata(self.dir.path().join("data/postmaster.pid")).is_ok() {
            self.kill();
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_killed_database_loses_no_acknowledged_write_and_the_work_goes_on() {
    let postgres = Private::start();
    let lab = Lab::at(&postgres.url(), 2, true).await;
    lab.ready().await;
    let mut acknowledged: Vec<RunId> = vec![];
    for i in 0..30 {
        if i == 10 || i == 20 {
            postgres.kill();
            tokio::time::sleep(Duration::from_millis(300)).await;
            postgres.up();
        }
        let request = Uuid::new_v4();
        // Somebody who is told to try again does, with the same sheet: never two runs.
        for _ in 0..40 {
            match lab
                .desk
                .start(
                    &lab.admin,
                    lab.create(&format!("m{i}"), 1, i % 3 == 0),
                    None,
                    request,
                )
                .await
            {
                Ok(run) => {
                    acknowledged.push(run);
                    break;
                }
                Err(_) => tokio::time::sleep(Duration::from_millis(250)).await,
            }
        }
    }
    assert_eq!(acknowledged.len(), 30);
    for run in &acknowledged {
        until(&lab.desk, *run, &[RunState::Done]).await;
    }
    assert_eq!(
        lab.estate().machines.len(),
        30,
        "each asked for once, each there once"
    );
    lab.assert_once();
}
