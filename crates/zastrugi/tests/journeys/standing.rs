//! A second manager, by its commands and in the browser: set up at another site, it stands by, takes over in the same process, and
//! lets go afterwards what is begun by itself.

use crate::{browser::Browser, road::sign_in};
use std::{net::TcpListener, path::Path, process::Stdio, time::Duration};
use tokio::{
    io::AsyncWriteExt,
    net::TcpStream,
    process::{Child, Command},
    time::sleep,
};
use zastrugi_store::testkit::Server;

fn free_port() -> u16 {
    let held = TcpListener::bind("127.0.0.1:0").unwrap();
    held.local_addr().unwrap().port()
}

fn zastrugi(dir: &Path, database: &str) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_zastrugi"));
    command.current_dir(dir).env("DATABASE_URL", database);
    command.stdin(Stdio::null()).kill_on_drop(true);
    command
}

async fn told(command: &mut Command, input: &str) -> (bool, String) {
    command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = command.spawn().unwrap();
    let mut stdin = child.stdin.take().unwrap();
    stdin.write_all(input.as_bytes()).await.unwrap();
    drop(stdin);
    let out = child.wait_with_output().await.unwrap();
    let words = [out.stdout, out.stderr].concat();
    (
        out.status.success(),
        String::from_utf8_lossy(&words).into_owned(),
    )
}

async fn done(command: &mut Command, input: &str) -> String {
    let (fine, words) = told(command, input).await;
    assert!(fine, "{words}");
    words
}

async fn serves(dir: &Path, database: &str, key: &str, stand_by: bool) -> (Child, u16) {
    let port = free_port();
    let mut command = zastrugi(dir, database);
    command.args([
        "serve",
        "--announcements",
        "0",
        "--port",
        &port.to_string(),
        "--key-file",
        key,
    ]);
    if stand_by {
        command.arg("--stand-by");
    }
    let child = command.spawn().unwrap();
    for _ in 0..300 {
        if TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
            return (child, port);
        }
        sleep(Duration::from_millis(100)).await;
    }
    (child, port)
}

/// What `join` wrote for the process that stands by.
fn address(dir: &Path) -> String {
    let text = std::fs::read_to_string(dir.join("stand-by.env")).unwrap();
    text.trim()
        .strip_prefix("DATABASE_URL=")
        .unwrap()
        .to_owned()
}

/// The manager invites, and the other site joins; answers the address of the copy.
pub(crate) async fn set_up(dir: &Path, first: &Server, copy: &Server) -> String {
    let invite = |name: &str| {
        let mut command = zastrugi(dir, &first.url());
        command.args([
            "stand-by",
            "invite",
            "--name",
            name,
            "--key-file",
            "seal.key",
        ]);
        command
    };
    let (fine, words) = told(&mut invite("hilltop"), "").await;
    assert!(
        !fine && words.contains("--admin-database"),
        "who may not is told how: {words}"
    );
    let (fine, words) = told(&mut invite("Hill top"), "").await;
    assert!(!fine && words.contains("small letters"), "{words}");
    let mut invite = invite("hilltop");
    invite.env("ADMIN_DATABASE_URL", first.admin());
    let words = done(&mut invite, "").await;
    assert!(words.contains("hilltop is invited"), "{words}");
    assert!(!words.contains("password"), "{words}");
    let join = || {
        let mut command = zastrugi(dir, "unused");
        command.args([
            "stand-by",
            "join",
            "--port",
            &copy.port.to_string(),
            "--data",
        ]);
        command.arg(&copy.dir);
        command
    };
    let words = done(&mut join(), "").await;
    assert!(words.contains("follows"), "{words}");
    let (fine, words) = told(&mut join(), "").await;
    assert!(
        !fine && words.contains("there already"),
        "nothing is written over: {words}"
    );
    address(dir)
}

/// If this fails, a manager can't be had at another site with what the documents say, or is of no use when it is needed.
#[tokio::test(flavor = "multi_thread")]
async fn a_manager_at_another_site_is_set_up_and_takes_over() {
    let dir = tempfile::tempdir().unwrap();
    let (first, copy) = (Server::make(), Server::place());
    let url = first.url();
    let mut add = zastrugi(dir.path(), &url);
    add.args([
        "add-person",
        "--key-file",
        "seal.key",
        "duty.admin",
        "admin",
    ]);
    done(&mut add, "harbour-lights").await;
    let follows = set_up(dir.path(), &first, &copy).await;
    let (mut manager, _) = serves(dir.path(), &url, "seal.key", false).await;
    let (mut stands, port) = serves(dir.path(), &follows, "stand-by.key", true).await;

    let b = Browser::start().await;
    let base = format!("http://127.0.0.1:{port}");
    sign_in(&b, &base, "duty.admin", "harbour-lights").await;
    b.says("This manager stands by").await;
    b.go(&format!("{base}/settings/stand-by")).await;
    b.says("The manager was heard a moment ago").await;
    b.go(&format!("{base}/sheet/claim")).await;
    b.says("This manager stands by, and changes nothing").await;

    manager.kill().await.unwrap();
    first.die();
    b.go(&format!("{base}/settings/stand-by")).await;
    b.fill("#typed", "that one").await;
    b.press("form[action='/settings/take-over'] button").await;
    b.says("Type Zastrugi, as it stands above").await;
    b.fill("#typed", "Zastrugi").await;
    b.press("form[action='/settings/take-over'] button").await;
    // The same process, begun anew; the page comes by itself, and nobody signs in again.
    b.says("This manager took over from another").await;
    assert!(
        stands.try_wait().unwrap().is_none(),
        "it is the process that it was"
    );
    b.press("form[action='/settings/let-go'] button").await;
    b.says("What is begun by itself is begun again").await;
    b.go(&format!("{base}/")).await;
    assert!(!b.text().await.contains("stands by"));
    stands.kill().await.unwrap();

    // Started as it was, it is the manager.
    let (mut again, port) = serves(dir.path(), &follows, "stand-by.key", true).await;
    let _ = rustls::crypto::ring::default_provider().install_default();
    let ready = reqwest::get(format!("http://127.0.0.1:{port}/readyz")).await;
    assert_eq!(ready.unwrap().text().await.unwrap(), "ready\n");
    again.kill().await.unwrap();
}

/// If this fails, inviting a second stand-by locks the first one out as soon as it has to connect again, and nobody hears of it
/// before it is needed.
#[tokio::test(flavor = "multi_thread")]
async fn two_stand_bys_follow_side_by_side() {
    let dir = tempfile::tempdir().unwrap();
    let first = Server::make();
    let copies = [Server::place(), Server::place()];
    for (name, copy) in ["hilltop", "lantern"].iter().zip(&copies) {
        let file = |what: &str| format!("{name}.{what}");
        let mut invite = zastrugi(dir.path(), &first.url());
        invite.args([
            "stand-by",
            "invite",
            "--name",
            name,
            "--key-file",
            "seal.key",
        ]);
        invite.args(["--out", &file("json")]);
        invite.env("ADMIN_DATABASE_URL", first.admin());
        done(&mut invite, "").await;
        let mut join = zastrugi(dir.path(), "unused");
        join.args(["stand-by", "join", "--invitation", &file("json")]);
        join.args(["--key-file", &file("key"), "--env-file", &file("env")]);
        join.args(["--port", &copy.port.to_string(), "--data"]);
        join.arg(&copy.dir);
        done(&mut join, "").await;
    }
    copies[0].die();
    copies[0].start();
    let pool = zastrugi_store::connect(&first.url(), 1).await.unwrap();
    let stand_bys = zastrugi_store::StandBys::new(pool);
    let mut seen = vec![];
    for _ in 0..150 {
        seen = stand_bys.all().await.unwrap();
        if seen.iter().all(|s| s.link == zastrugi_store::Link::Follows) {
            break;
        }
        sleep(Duration::from_millis(100)).await;
    }
    let seen: Vec<_> = seen.iter().map(|s| (s.name.as_str(), s.link)).collect();
    let follows = zastrugi_store::Link::Follows;
    assert_eq!(seen, [("hilltop", follows), ("lantern", follows)]);
}
