//! The keeper as a process: what it can't open it says, and it ends with whoever runs it.

use std::{process::Stdio, time::Duration};
use tokio::{
    io::{AsyncBufReadExt, AsyncWriteExt, BufReader},
    process::Command,
    time::timeout,
};

/// If this fails, keepers outlive the host that ran them, or print what they were given.
#[tokio::test]
async fn a_keeper_says_what_it_can_t_open_and_ends_with_its_host() {
    let mut keeper = Command::new(env!("CARGO_BIN_EXE_zastrugi"))
        .args(["keeper", "--serial", "SN1", "--cluster", "cluster-4"])
        .env("NO_COLOR", "1")
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .kill_on_drop(true)
        .spawn()
        .unwrap();
    let mut input = keeper.stdin.take().unwrap();
    let mut said = BufReader::new(keeper.stderr.take().unwrap()).lines();
    let mut next = async || {
        let line = timeout(Duration::from_secs(20), said.next_line()).await;
        line.unwrap().unwrap().unwrap()
    };
    input.write_all(b"no line of ours\n").await.unwrap();
    let line = next().await;
    assert!(line.contains("makes no sense"), "{line}");
    input
        .write_all(b"{\"sealed\": \"c2VhbGVkIGZvciBzb21lYm9keSBlbHNl\", \"key\": \"cGxhbnRlZC1zZWNyZXQ\"}\n")
        .await
        .unwrap();
    let line = next().await;
    assert!(line.contains("can't be opened"), "{line}");
    assert!(!line.contains("cGxhbnRlZC1zZWNyZXQ"), "{line}");
    assert!(keeper.try_wait().unwrap().is_none(), "it waits for better");
    drop(input);
    let ended = timeout(Duration::from_secs(20), keeper.wait()).await;
    assert!(ended.unwrap().unwrap().success());
}
