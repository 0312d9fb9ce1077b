//! An image sent through the web server to a host and onto its volume, beside a plain copy of the same file.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    reason = "a benchmark fails loudly"
)]

#[path = "../../engine/tests/all/lab.rs"]
#[expect(dead_code, reason = "shared with the tests")]
mod lab;
#[path = "../../engine/tests/all/media.rs"]
mod media;

use lab::Lab;
use std::{
    io::{Read, Write},
    net::TcpStream,
    time::Instant,
};
use zastrugi_core::rooms::images;
use zastrugi_core::{
    permits::Role, rooms::Proposal, rooms::images::AddImage, runs::RunState, units::Bytes,
};
use zastrugi_store::testkit::Scratch;
use zastrugi_web::WebSettings;

const SIZE: usize = 1 << 30;
const PIECE: usize = 8 << 20;

/// One exchange on a kept connection; answers status line, headers and body.
fn ask(to: &mut TcpStream, head: &str, body: &[u8]) -> (String, String) {
    write!(
        to,
        "{head}\r\nHost: bench\r\nSec-Fetch-Site: same-origin\r\nContent-Length: {}\r\n\r\n",
        body.len()
    )
    .unwrap();
    to.write_all(body).unwrap();
    let mut read = Vec::new();
    let mut buffer = [0; 65_536];
    loop {
        let n = to.read(&mut buffer).unwrap();
        assert!(n > 0, "the server ended the connection");
        read.extend_from_slice(&buffer[..n]);
        let text = String::from_utf8_lossy(&read);
        let Some((headers, rest)) = text.split_once("\r\n\r\n") else {
            continue;
        };
        let length = headers.lines().find_map(|l| {
            let (name, value) = l.split_once(": ")?;
            name.eq_ignore_ascii_case("content-length")
                .then(|| value.parse::<usize>().unwrap())
        });
        if rest.len() >= length.unwrap_or(0) {
            return (headers.to_owned(), rest.to_owned());
        }
    }
}

fn sign_in(port: u16) -> (TcpStream, String) {
    let mut to = TcpStream::connect(("127.0.0.1", port)).unwrap();
    to.set_nodelay(true).unwrap();
    let form = "Content-Type: application/x-www-form-urlencoded";
    let head = format!("POST /sign-in HTTP/1.1\r\n{form}");
    let (headers, _) = ask(&mut to, &head, b"name=bench.admin&password=harbour-lights");
    let cookies = headers
        .lines()
        .filter_map(|l| l.strip_prefix("set-cookie: ")?.split(';').next());
    let cookie = cookies.collect::<Vec<_>>().join("; ");
    let (_, page) = ask(
        &mut to,
        &format!("GET /settings HTTP/1.1\r\nCookie: {cookie}"),
        b"",
    );
    let token = page.split("data-csrf=\"").nth(1).unwrap();
    let token = token.split('"').next().unwrap();
    (to, format!("Cookie: {cookie}\r\nX-CSRF-Token: {token}"))
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at(&scratch.url, 2, true).await;
    lab.ready().await;
    let desk = &lab.desk;
    desk.add_person("bench.admin", Role::Admin, "harbour-lights")
        .await
        .unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(zastrugi_web::serve(
        desk.clone(),
        WebSettings::default(),
        listener,
    ));

    let mut file = zastrugi_formats::iso9660::write("BENCH", &[]).unwrap();
    file.resize(SIZE, 0x5a);
    let run = lab
        .start(Proposal::Images(images::Ask::Add(AddImage {
            holds: Default::default(),
            name: "bench".into(),
            volume: Some(lab.volume_named("slab").id),
            size: Bytes(SIZE as u64),
            mark: "".into(),
            label: Ok("BENCH".into()),
            expected: "".into(),
        })))
        .await;
    let image = lab.estate().image_named("bench").unwrap().id;
    while desk.received(&lab.admin, image).await.is_err() {
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    let sent = file.clone();
    let upload = tokio::task::spawn_blocking(move || {
        let (mut to, signed) = sign_in(port);
        let began = Instant::now();
        for from in (0..SIZE).step_by(PIECE) {
            let path = format!("/storage/images/{}/bytes?from={from}", image.0);
            let head = format!("PUT {path} HTTP/1.1\r\n{signed}");
            let (headers, body) = ask(&mut to, &head, &sent[from..SIZE.min(from + PIECE)]);
            assert!(headers.starts_with("HTTP/1.1 200"), "{headers} {body}");
        }
        began.elapsed()
    })
    .await
    .unwrap();
    let began = Instant::now();
    lab.until(run, &[RunState::Done]).await;
    let sealed = began.elapsed();

    let dir = tempfile::tempdir().unwrap();
    let (from, to) = (dir.path().join("a"), dir.path().join("b"));
    std::fs::write(&from, &file).unwrap();
    let began = Instant::now();
    std::fs::copy(&from, &to).unwrap();
    let copy = began.elapsed();
    let rate = |took: std::time::Duration| SIZE as f64 / 1_048_576.0 / took.as_secs_f64();
    println!(
        "1 GiB sent in pieces of 8 MiB: {:.0} MiB/s (two hops, one by TLS, with SHA-256); a plain copy of the same file: {:.0} MiB/s; checksum and label after the last piece: {:.2} s",
        rate(upload),
        rate(copy),
        sealed.as_secs_f64()
    );
    let Lab { engine, .. } = lab;
    engine.stop().await;
    scratch.remove().await;
}
