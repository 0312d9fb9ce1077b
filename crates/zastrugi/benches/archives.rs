//! A machine with a disk of 2 GiB goes into an archive, out through the web server, in again and onto a disk, beside a plain
//! copy of the same bytes in the same run; and what that takes of memory.
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
    time::{Duration, Instant},
};
use zastrugi_core::{
    copying::Source,
    estate::{Holds, Provisioning},
    ids::ImageId,
    permits::Role,
    rooms::{
        Proposal, images,
        images::AddImage,
        machines::{self, Copied, CreateMachines, NewDisk, PowerAct},
        packages::{self, Pack},
    },
    runs::RunState,
    testkit,
    units::Bytes,
};
use zastrugi_store::testkit::Scratch;
use zastrugi_web::WebSettings;

const SIZE: u64 = 2 << 30;
const PIECE: usize = 8 << 20;

/// Resident memory of this process, in MiB: manager and stand-ins together.
fn resident() -> u64 {
    let text = std::fs::read_to_string("/proc/self/status").unwrap();
    let line = text.lines().find(|l| l.starts_with("VmRSS")).unwrap();
    let kib: u64 = line.split_whitespace().nth(1).unwrap().parse().unwrap();
    kib / 1024
}

/// The headers of an answer, up to the blank line.
fn headers(to: &mut TcpStream) -> String {
    let mut read = Vec::new();
    let mut byte = [0];
    while !read.ends_with(b"\r\n\r\n") {
        to.read_exact(&mut byte).unwrap();
        read.push(byte[0]);
    }
    String::from_utf8(read).unwrap()
}

/// Signs in, and keeps what is sent at this address in a file.
fn fetched(port: u16, image: ImageId, into: &std::path::Path) -> u64 {
    let mut to = TcpStream::connect(("127.0.0.1", port)).unwrap();
    let body = "name=bench.admin&password=harbour-lights";
    write!(to, "POST /sign-in HTTP/1.1\r\nHost: bench\r\nSec-Fetch-Site: same-origin\r\nContent-Type: application/x-www-form-urlencoded\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len()).unwrap();
    let said = headers(&mut to);
    let cookies = said
        .lines()
        .filter_map(|l| l.strip_prefix("set-cookie: ")?.split(';').next());
    let cookie = cookies.collect::<Vec<_>>().join("; ");
    let mut to = TcpStream::connect(("127.0.0.1", port)).unwrap();
    write!(to, "GET /storage/images/{}/file HTTP/1.1\r\nHost: bench\r\nCookie: {cookie}\r\nConnection: close\r\n\r\n", image.0).unwrap();
    let said = headers(&mut to);
    assert!(said.starts_with("HTTP/1.1 200"), "{said}");
    std::io::copy(&mut to, &mut std::fs::File::create(into).unwrap()).unwrap()
}

async fn packed(lab: &Lab, name: &str, gzip: bool) -> (ImageId, u64, Duration) {
    let began = Instant::now();
    lab.done(Proposal::Packages(packages::Ask::Pack(Pack {
        machine: lab.machine("m"),
        snapshot: None,
        disk: None,
        gzip,
        name: name.into(),
        volume: None,
    })))
    .await;
    let image = lab.estate().image_named(name).unwrap().clone();
    (image.id, image.size.0, began.elapsed())
}

fn disk() -> NewDisk {
    NewDisk {
        size: Bytes(SIZE),
        provisioning: Provisioning::Thin,
    }
}

/// The file goes in, piece by piece, from where it lies.
async fn sent(lab: &Lab, from: &std::path::Path, size: u64) -> (ImageId, Duration) {
    let run = lab
        .start(Proposal::Images(images::Ask::Add(AddImage {
            holds: Holds::Package,
            name: "back.ova".into(),
            volume: Some(lab.volume_named("slab").id),
            size: Bytes(size),
            mark: "back".into(),
            label: Err("none".into()),
            expected: "".into(),
        })))
        .await;
    let image = lab.estate().image_named("back.ova").unwrap().id;
    while lab.desk.received(&lab.admin, image).await.is_err() {
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    let began = Instant::now();
    let mut file = std::fs::File::open(from).unwrap();
    let mut at = 0;
    while at < size {
        let mut piece = vec![0; PIECE.min(usize::try_from(size - at).unwrap())];
        file.read_exact(&mut piece).unwrap();
        at = lab
            .desk
            .feed(&lab.admin, image, at, piece.into())
            .await
            .unwrap();
    }
    lab.until(run, &[RunState::Done]).await;
    (image, began.elapsed())
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at_speed(&scratch.url, 2, 40.0).await;
    lab.ready().await;
    lab.desk
        .add_person("bench.admin", Role::Admin, "harbour-lights")
        .await
        .unwrap();
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let port = listener.local_addr().unwrap().port();
    tokio::spawn(zastrugi_web::serve(
        lab.desk.clone(),
        WebSettings::default(),
        listener,
    ));
    let cluster = lab.estate().clusters.keys().next().copied();
    let create = |name: &str, copied| {
        Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
            pledge: None,
            disks: vec![disk()],
            copied,
            start: copied.is_none(),
            ..testkit::machines(name, 1, cluster, 2)
        })))
    };
    lab.done(create("m", None)).await;
    lab.standins.world.write("m", SIZE * 3 / 4);
    tokio::time::sleep(Duration::from_secs(1)).await;
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![lab.machine("m")],
        act: PowerAct::Off,
    }))
    .await;

    let before = resident();
    let (_, small, took_gzip) = packed(&lab, "small.ova", true).await;
    let (image, size, took_raw) = packed(&lab, "large.ova", false).await;
    let dir = tempfile::tempdir().unwrap();
    let file = dir.path().join("a");
    let path = file.clone();
    let began = Instant::now();
    let there = tokio::task::spawn_blocking(move || fetched(port, image, &path))
        .await
        .unwrap();
    let out = began.elapsed();
    assert_eq!(there, size);
    let mut most = resident();
    let began = Instant::now();
    std::fs::copy(&file, dir.path().join("b")).unwrap();
    let copy = began.elapsed();
    let (back, into) = sent(&lab, &file, size).await;
    most = most.max(resident());
    lab.desk.ask_for_package(back).await;
    let copied = Copied {
        source: Source::Package { image: back },
        dependent: false,
        seal: false,
    };
    let began = Instant::now();
    lab.done(create("twin", Some(copied))).await;
    let made = began.elapsed();
    most = most.max(resident());
    let same = lab.standins.world.content("twin", None) == lab.standins.world.content("m", None);
    assert!(same, "the same bytes");
    let rate = |took: Duration| SIZE as f64 / 1_048_576.0 / took.as_secs_f64();
    println!(
        "a disk of 2 GiB: packed as it is {:.0} MiB/s, compressed {:.0} MiB/s to {} MiB; fetched through the web server {:.0} MiB/s; sent in {:.0} MiB/s with checksum; made of it {:.0} MiB/s; a plain copy {:.0} MiB/s; memory {before} MiB before, at most {most} MiB",
        rate(took_raw),
        rate(took_gzip),
        small >> 20,
        rate(out),
        rate(into),
        rate(made),
        rate(copy)
    );
    let Lab { engine, .. } = lab;
    engine.stop().await;
    scratch.remove().await;
}
