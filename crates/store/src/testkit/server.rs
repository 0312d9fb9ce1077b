//! A PostgreSQL server of a test's own: one that is followed by another, and dies.

use std::{
    fs,
    net::TcpListener,
    path::{Path, PathBuf},
    process::{Command, Stdio},
};
use uuid::Uuid;

/// It ends, and nothing is left of it, when this is dropped.
pub struct Server {
    pub dir: PathBuf,
    pub port: u16,
}

/// Whoever was invited to follow shows their password; everybody else is believed.
const WHO: &str = "host replication postgres 127.0.0.1/32 trust
host replication all 127.0.0.1/32 scram-sha-256
host all all 127.0.0.1/32 trust
";

fn free_port() -> u16 {
    let held = TcpListener::bind("127.0.0.1:0").unwrap();
    held.local_addr().unwrap().port()
}

fn program(name: &str) -> Command {
    let versions = fs::read_dir("/usr/lib/postgresql").unwrap();
    let versions = versions.filter_map(|e| e.unwrap().file_name().to_str()?.parse::<u32>().ok());
    let path = format!("/usr/lib/postgresql/{}/bin/{name}", versions.max().unwrap());
    // Root may not run a server.
    let root = fs::metadata("/proc/self").unwrap();
    if std::os::unix::fs::MetadataExt::uid(&root) != 0 {
        return Command::new(path);
    }
    let mut command = Command::new("runuser");
    command.args(["-u", "postgres", "--", &path]);
    command
}

fn run(command: &mut Command) {
    let status = command.stdin(Stdio::null()).stdout(Stdio::null()).status();
    assert!(status.unwrap().success(), "{command:?}");
}

impl Server {
    /// A directory and a port for one that is made elsewhere.
    pub fn place() -> Server {
        let dir = std::env::temp_dir().join(format!("zastrugi-server-{}", Uuid::new_v4().simple()));
        Server {
            dir,
            port: free_port(),
        }
    }

    /// A fresh one with a role and a database `zastrugi`, started.
    pub fn make() -> Server {
        let server = Server::place();
        let dir = server.dir.as_path();
        run(program("initdb")
            .args(["-U", "postgres", "-A", "trust", "-E", "UTF8", "-D"])
            .arg(dir));
        let conf = "listen_addresses='127.0.0.1'\nunix_socket_directories=''\nfsync=off\n";
        let path = dir.join("postgresql.conf");
        let all = fs::read_to_string(&path).unwrap() + conf;
        fs::write(path, all).unwrap();
        fs::write(dir.join("pg_hba.conf"), WHO).unwrap();
        server.start();
        server.tell("postgres", "create role zastrugi login createdb");
        server.tell("postgres", "create database zastrugi owner zastrugi");
        server
    }

    pub fn start(&self) {
        let port = format!("-p {}", self.port);
        run(program("pg_ctl")
            .arg("-D")
            .arg(&self.dir)
            .arg("-l")
            .arg(self.log())
            .args(["-w", "-o", &port, "start"]));
    }

    fn log(&self) -> PathBuf {
        let name = self.dir.file_name().unwrap().to_string_lossy();
        self.dir.with_file_name(format!("{name}.log"))
    }

    /// As when its site loses power.
    pub fn die(&self) {
        run(program("pg_ctl")
            .arg("-D")
            .arg(&self.dir)
            .args(["-m", "immediate", "-w", "stop"]));
    }

    /// A copy that follows it, started.
    pub fn copy(&self) -> Server {
        let copy = Server::place();
        let from = format!("host=127.0.0.1 port={} user=postgres", self.port);
        run(program("pg_basebackup")
            .arg("-D")
            .arg(&copy.dir)
            .args(["-d", &from, "-R", "-X", "stream", "-c", "fast"]));
        copy.start();
        copy
    }

    /// Has whoever administers it do something in a database.
    pub fn tell(&self, database: &str, sql: &str) {
        let port = self.port.to_string();
        run(Command::new("psql")
            .args(["-q", "-h", "127.0.0.1", "-U", "postgres"])
            .args(["-p", &port, "-d", database, "-c", sql]));
    }

    /// The address of its database, for the manager's role.
    pub fn url(&self) -> String {
        format!("postgres://zastrugi@127.0.0.1:{}/zastrugi", self.port)
    }

    /// The same for whoever administers the server.
    pub fn admin(&self) -> String {
        format!("postgres://postgres@127.0.0.1:{}/zastrugi", self.port)
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        let mut stop = program("pg_ctl");
        stop.arg("-D")
            .arg(&self.dir)
            .args(["-m", "immediate", "stop"]);
        drop(
            stop.stdin(Stdio::null())
                .stdout(Stdio::null())
                .stderr(Stdio::null())
                .status(),
        );
        let remove = |path: &Path| drop(fs::remove_dir_all(path));
        remove(&self.dir);
        drop(fs::remove_file(self.log()));
    }
}
