//! A hundred machines that lie on one version, against a hundred made with empty disks: what the copy costs each.
#![expect(
    clippy::unwrap_used,
    clippy::panic,
    clippy::print_stdout,
    reason = "a benchmark fails loudly and says what it measured"
)]

#[path = "../tests/all/lab.rs"]
#[expect(dead_code, reason = "shared with the tests")]
mod lab;
#[path = "../tests/all/media.rs"]
mod media;

use lab::Lab;
use std::time::Instant;
use zastrugi_core::{
    copying::Source,
    rooms::{
        Proposal,
        machines::{self, Copied, CreateMachines, NewDisk},
        templates::{Ask, Make},
    },
    testkit,
};
use zastrugi_store::testkit::Scratch;

const MANY: u32 = 100;

/// So many machines, off: as copies of the newest version, or with empty disks.
fn machines(lab: &Lab, name: &str, copies: bool) -> Proposal {
    let estate = lab.estate();
    let cluster = estate.clusters.keys().next().copied();
    let template = estate.template_named("base").unwrap();
    let version = template.newest().unwrap();
    let copied = Copied {
        source: Source::Template {
            template: template.id,
            version: version.number,
        },
        dependent: true,
        seal: false,
    };
    let disk = &version.disks[0];
    Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
        pledge: None,
        copied: copies.then_some(copied),
        disks: vec![NewDisk {
            size: disk.size,
            provisioning: disk.provisioning,
        }],
        start: false,
        ..testkit::machines(name, MANY, cluster, 1)
    })))
}

#[tokio::main]
async fn main() {
    let scratch = Scratch::make().await;
    let lab = Lab::at(&scratch.url, 16, true).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, false)).await;
    let make = Make {
        machine: lab.machine("m"),
        snapshot: None,
        of: None,
        name: "base".into(),
        volume: None,
        seal: true,
        first_boot: None,
        note: "".into(),
    };
    lab.done(Proposal::Templates(Ask::Make(make))).await;
    for round in 0..3 {
        for (what, copies) in [("with empty disks", false), ("lying on a version", true)] {
            let name = format!("{}{round}-{{001}}", if copies { "thin" } else { "bare" });
            let began = Instant::now();
            lab.done(machines(&lab, &name, copies)).await;
            let took = began.elapsed().as_secs_f64();
            println!(
                "{MANY} machines {what}: {took:.2} s, {:.1} ms each",
                took * 1e3 / f64::from(MANY)
            );
        }
    }
    lab.engine.stop().await;
    scratch.remove().await;
}
