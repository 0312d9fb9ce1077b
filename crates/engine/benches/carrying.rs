//! What copies reach: the first copy of 1 GiB into a store and an increment of it, beside a plain TLS copy of the same bytes in the
//! same run; and a job of a thousand machines. Manager, stand-ins and store share the machine, so that CPU is told beside time.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a benchmark fails loudly and says what it measured"
)]

#[path = "../tests/all/backups.rs"]
#[expect(dead_code, unused_imports, reason = "shared with the tests")]
mod backups;
#[path = "../tests/all/lab.rs"]
#[expect(dead_code, reason = "shared with the tests")]
mod lab;
#[path = "../tests/all/media.rs"]
mod media;
#[path = "../tests/all/packages.rs"]
#[expect(dead_code, unused_imports, reason = "shared with the tests")]
mod packages;

use backups::{back_up, make_store};
use lab::Lab;
use rustls::{
    ClientConfig, ClientConnection, RootCertStore, ServerConfig, ServerConnection, StreamOwned,
    pki_types::{PrivateKeyDer, ServerName},
};
use std::{
    io::{Read, Write},
    net::{TcpListener, TcpStream},
    sync::Arc,
    time::{Duration, Instant},
};
use zastrugi_core::{
    estate::{Goal, StoredPoint},
    rooms::{
        Proposal,
        backups::{Ask, JobRun},
        edits::{self, Set, Target},
        jobs::{self, Keep},
        machines::{self, PowerAct},
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_store::testkit::Scratch;

const SIZE: u64 = 1 << 30;
const MORE: u64 = 96 << 20;
const MANY: u32 = 1000;

/// CPU of this process so far: manager, stand-ins and store together.
fn cpu() -> Duration {
    let text = std::fs::read_to_string("/proc/self/stat").unwrap();
    let after = text.rsplit(')').next().unwrap();
    let ticks: Vec<u64> = after
        .split_whitespace()
        .skip(11)
        .take(2)
        .map(|t| t.parse().unwrap())
        .collect();
    Duration::from_millis((ticks[0] + ticks[1]) * 10)
}

fn rate(bytes: u64, took: Duration) -> f64 {
    bytes as f64 / took.as_secs_f64() / f64::from(1 << 20)
}

/// The same bytes from one end of a TLS connection to the other, and nothing else: what a line of this machine carries at best.
fn plain(bytes: &[u8]) -> (Duration, Duration) {
    let key = rcgen::KeyPair::generate().unwrap();
    let own = rcgen::CertificateParams::new(vec!["localhost".to_owned()]).unwrap();
    let own = own.self_signed(&key).unwrap();
    let cert = own.der().clone();
    let server = ServerConfig::builder()
        .with_no_client_auth()
        .with_single_cert(
            vec![cert.clone()],
            PrivateKeyDer::try_from(key.serialize_der()).unwrap(),
        )
        .unwrap();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap();
    let length = bytes.len();
    let (began, before) = (Instant::now(), cpu());
    let takes = std::thread::spawn(move || {
        let (to, _) = listener.accept().unwrap();
        let mut to = StreamOwned::new(ServerConnection::new(Arc::new(server)).unwrap(), to);
        let mut piece = vec![0; 1 << 20];
        let mut had = 0;
        while had < length {
            had += to.read(&mut piece).unwrap();
        }
    });
    let mut roots = RootCertStore::empty();
    roots.add(cert).unwrap();
    let client = ClientConfig::builder()
        .with_root_certificates(roots)
        .with_no_client_auth();
    let name = ServerName::try_from("localhost").unwrap();
    let from = ClientConnection::new(Arc::new(client), name).unwrap();
    let mut from = StreamOwned::new(from, TcpStream::connect(address).unwrap());
    for piece in bytes.chunks(1 << 20) {
        from.write_all(piece).unwrap();
    }
    from.flush().unwrap();
    takes.join().unwrap();
    (began.elapsed(), cpu() - before)
}

fn newest(lab: &Lab) -> StoredPoint {
    let estate = lab.estate();
    let all = estate.series.values().flat_map(|s| &s.points);
    all.max_by_key(|p| p.taken).unwrap().clone()
}

async fn power(lab: &Lab, act: PowerAct) {
    let machines = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
}

async fn written(lab: &Lab, bytes: u64) {
    power(lab, PowerAct::On { host: None }).await;
    let before = lab.standins.world.content("m", None);
    lab.standins.world.write("m", bytes);
    lab::eventually("it is written", || {
        lab.standins.world.content("m", None) != before
    })
    .await;
    power(lab, PowerAct::Off).await;
}

async fn one(scratch: &Scratch) {
    let lab = Lab::at_speed(&scratch.url, 2, 40.0).await;
    lab.ready().await;
    let Proposal::Machines(machines::Ask::Create(mut ask)) = lab.create("m", 1, false) else {
        panic!("no machine");
    };
    ask.disks[0].size = Bytes(SIZE);
    lab.done(Proposal::Machines(machines::Ask::Create(ask)))
        .await;
    written(&lab, SIZE).await;
    lab.done(make_store(&lab, "hill").await).await;
    for what in ["first copy", "increment"] {
        let (began, before) = (Instant::now(), cpu());
        lab.done(back_up(&lab, "m")).await;
        let (run, used) = (began.elapsed(), cpu() - before);
        let point = newest(&lab);
        println!(
            "{what}: {} read, {} stored, {:.0} MiB/s while it was carried, {:.0} MiB/s over the whole run, {:.0} MiB for each second of CPU",
            point.read,
            point.stored,
            rate(point.read.0, Duration::from_millis(point.took.0.max(1))),
            rate(point.read.0, run),
            rate(point.read.0, used)
        );
        let bytes = lab.standins.world.read_disk("m", 0).unwrap();
        let bytes = &bytes[..usize::try_from(point.read.0).unwrap().min(bytes.len())];
        let (took, used) = plain(bytes);
        println!(
            "  a plain TLS copy of as many bytes: {:.0} MiB/s, {:.0} MiB for each second of CPU",
            rate(bytes.len() as u64, took),
            rate(bytes.len() as u64, used)
        );
        written(&lab, MORE).await;
    }
    lab.engine.stop().await;
}

/// A job of a thousand machines that hold next to nothing: what a run of it costs beside the bytes.
async fn many(scratch: &Scratch) {
    let lab = Lab::at_speed(&scratch.url, 16, 40.0).await;
    lab.ready().await;
    // No more are made at once.
    for hundred in 0..MANY / 100 {
        let pattern = format!("m{hundred}-{{001}}");
        lab.done(packages::small(&lab, &pattern, 100)).await;
    }
    let estate = lab.estate();
    let targets = estate.machines.keys().map(|id| Target::Machine(*id));
    lab.done(Proposal::Edits(edits::Ask::Edit {
        targets: targets.collect(),
        sets: vec![Set::Label {
            key: "env".into(),
            value: "prod".into(),
        }],
    }))
    .await;
    lab.done(make_store(&lab, "hill").await).await;
    let keep = Keep {
        job: None,
        name: "often".into(),
        who: "env=prod".into(),
        to: lab.estate().stores.keys().next().copied().map(Goal::Store),
        rule: "FREQ=HOURLY;BYMINUTE=0,15,30,45".into(),
        zone: "UTC".into(),
        keeps: "last 4".into(),
        quiet: true,
        proves: None,
        begins: None,
        how: Default::default(),
    };
    lab.done(Proposal::Jobs(jobs::Ask::Keep(keep))).await;
    let job = *lab.estate().jobs.keys().next().unwrap();
    for what in ["first", "next"] {
        let (began, before) = (Instant::now(), cpu());
        let run = JobRun { job, by_hand: true };
        let run = lab.start(Proposal::Backups(Ask::Job(run))).await;
        // It is over when nothing goes on any more; what failed is told.
        loop {
            tokio::time::sleep(Duration::from_millis(500)).await;
            let state = lab.desk.look().runs.get(run).map(|r| r.state);
            match state {
                None | Some(RunState::Done) => break,
                Some(RunState::NeedsYou) => panic!("it needs somebody"),
                Some(_) => {}
            }
        }
        println!(
            "{what} run of a job of {MANY} machines: {:.0} s, {:.0} s of CPU, {:.0} ms each",
            began.elapsed().as_secs_f64(),
            (cpu() - before).as_secs_f64(),
            began.elapsed().as_secs_f64() * 1e3 / f64::from(MANY)
        );
    }
    lab.engine.stop().await;
}

#[tokio::main]
async fn main() {
    drop(rustls::crypto::ring::default_provider().install_default());
    let scratch = Scratch::make().await;
    one(&scratch).await;
    scratch.remove().await;
    let scratch = Scratch::make().await;
    many(&scratch).await;
    scratch.remove().await;
}
