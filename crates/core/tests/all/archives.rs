//! Files of disks: what can be packed and written, and what the author of an archive asks.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    copying::Source,
    estate::{Consistent, Estate, Fact, Holds, Image, Machine, Snapshot, Uplink},
    evidence::{Answer, EvidenceBook, Probe},
    ids::{ImageId, MachineId},
    moment::Moment,
    ovf::{Descriptor, Disk, File, Hardware, Item, Member, Package, Property, RAW},
    rooms::{
        Assessment, Proposal,
        machines::{self, Copied, CreateMachines, NewDisk, Taken},
        packages::{Ask, Pack, Write, described},
    },
    testkit::{Small, machines as wanted, read},
    units::Bytes,
};

const DB: MachineId = MachineId(7);
const OLD: MachineId = MachineId(9);
const OVA: ImageId = ImageId(400);

fn small() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\nmachine 9 old 16 off",
    );
    for host in [1, 2] {
        small.alter_host(host, |h| {
            h.uplinks = vec![Uplink {
                name: "storage-1".into(),
                mbit: 10_000,
                up: true,
                mac: String::new(),
                switch: String::new(),
                port: String::new(),
            }];
        });
    }
    small
}

fn on(small: &mut Small, id: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&id]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn image(small: &mut Small, id: ImageId, holds: Holds, size: Bytes) {
    let volume = small.view.estate.machines[&DB].disks[0].volume;
    small.alter(|estate: &mut Estate| {
        estate.put(Fact::Image(Arc::new(Image {
            id,
            carries_agent: false,
            uuid: Uuid::from_u128(u128::from(id.0)),
            name: format!("file-{}", id.0),
            volume,
            size,
            mark: "m".into(),
            expected: None,
            sha256: Some("00".into()),
            label: String::new(),
            ready: true,
            holds,
            added: Moment(0),
        })));
    });
}

fn stops(assessment: &Assessment) -> Vec<String> {
    let all = assessment.findings().iter().filter(|f| f.stops());
    all.map(|f| format!("{}: {}", f.field.clone().unwrap_or_default(), f.text))
        .collect()
}

fn pack(machine: MachineId) -> Pack {
    Pack {
        machine,
        snapshot: None,
        disk: None,
        gzip: true,
        name: "".into(),
        volume: None,
    }
}

fn packing(small: &Small, ask: Pack) -> Assessment {
    put(small, &Proposal::Packages(Ask::Pack(ask)))
}

/// If this fails, disks are read while their guest writes them, and what comes out is of no moment at all.
#[test]
fn only_what_stands_still_is_packed() {
    let mut small = small();
    assert_eq!(worse(&packing(&small, pack(OLD))), Vec::<String>::new());
    let said = stops(&packing(&small, pack(DB)));
    assert!(
        said.len() == 1 && said[0].starts_with("snapshot: db is on"),
        "{said:?}"
    );
    let then = Uuid::from_u128(77);
    on(&mut small, DB, |m| {
        m.snapshots.all.push(Snapshot {
            uuid: then,
            parent: None,
            name: "then".into(),
            note: String::new(),
            taken: Moment(0),
            consistent: Consistent::Crash,
            memory: None,
            ends: None,
            disks: Some(1),
        });
    });
    let ask = Pack {
        snapshot: Some(then),
        ..pack(DB)
    };
    assert_eq!(stops(&packing(&small, ask)), Vec::<String>::new());
    let ask = Pack {
        disk: Some(Uuid::from_u128(1)),
        ..pack(OLD)
    };
    assert!(stops(&packing(&small, ask))[0].starts_with("disk: "));
    image(&mut small, ImageId(401), Holds::Disk, Bytes::gib(1));
    let ask = Pack {
        name: "file-401".into(),
        ..pack(OLD)
    };
    assert!(stops(&packing(&small, ask))[0].starts_with("name: There is a file"));
}

/// If this fails, somebody loses what a disk holds without having been told, or beneath snapshots that need it.
#[test]
fn a_disk_is_written_only_where_nothing_rests_on_it() {
    let mut small = small();
    image(&mut small, ImageId(401), Holds::Disk, Bytes::gib(1));
    image(&mut small, ImageId(402), Holds::Disk, Bytes::gib(400));
    image(&mut small, ImageId(403), Holds::Package, Bytes::gib(1));
    let key = |id: MachineId| small.view.estate.machines[&id].disks[0].key;
    let (db, old) = (key(DB), key(OLD));
    let write = |machine, disk, image, typed: &str| {
        let ask = Write {
            machine,
            disk,
            image: Some(ImageId(image)),
            typed: typed.into(),
        };
        stops(&put(&small, &Proposal::Packages(Ask::Write(ask))))
    };
    assert_eq!(write(OLD, old, 401, "old"), Vec::<String>::new());
    assert!(write(OLD, old, 401, "olt")[0].starts_with("typed: "));
    assert!(write(DB, db, 401, "db")[0].starts_with("machine: db is on"));
    assert!(
        write(OLD, old, 402, "old")[0].starts_with("image: "),
        "larger than the disk"
    );
    assert!(
        write(OLD, old, 403, "old")[0].starts_with("image: "),
        "an archive"
    );
}

fn package() -> Package {
    let item = |hardware| Item {
        configurations: vec![],
        hardware,
    };
    Package {
        descriptor: Descriptor {
            name: "gate".into(),
            files: vec![File {
                id: "f".into(),
                href: "gate.raw".into(),
                gzip: false,
            }],
            disks: vec![Disk {
                id: "d".into(),
                file: Some("f".into()),
                capacity: Bytes::gib(4),
                format: RAW.into(),
            }],
            licences: vec!["Be kind.".into()],
            properties: vec![Property {
                key: "dns".into(),
                label: String::new(),
                value: "10.1.2.53".into(),
                asked: true,
                password: false,
            }],
            items: vec![
                item(Hardware::Vcpus(2)),
                item(Hardware::Memory {
                    size: Bytes::gib(2),
                    kept: None,
                }),
                item(Hardware::Disk("d".into())),
                item(Hardware::Card {
                    network: "crew".into(),
                    mac: Some("02:00:00:00:00:07".into()),
                }),
            ],
            ..Descriptor::default()
        },
        members: vec![Member {
            name: "gate.raw".into(),
            at: 2048,
            size: 4 << 30,
        }],
        sums: vec![],
        manifest: false,
    }
}

fn made(small: &Small, taken: Taken, count: u32) -> Assessment {
    let cluster = small.view.estate.clusters.keys().next().copied();
    let disk = NewDisk {
        size: Bytes::gib(4),
        provisioning: zastrugi_core::estate::Provisioning::Thin,
    };
    let ask = CreateMachines {
        pledge: None,
        disks: vec![disk],
        copied: Some(Copied {
            source: Source::Package { image: OVA },
            dependent: false,
            seal: false,
        }),
        taken: Some(Box::new(taken)),
        ..wanted("gate-{1}", count, cluster, 2)
    };
    put(
        small,
        &Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    )
}

fn with(answer: Answer) -> Small {
    let mut small = small();
    image(&mut small, OVA, Holds::Package, Bytes::gib(5));
    let mut book = EvidenceBook::default();
    book.put(Probe::Package(OVA), answer, small.now);
    small.view.evidence = Arc::new(book);
    small
}

/// If this fails, machines are made of an archive that nobody looked at, or against what its author asks.
#[test]
fn what_the_author_asks_is_asked() {
    let small = with(Answer::Package(Box::new(package())));
    let said = stops(&made(&small, Taken::default(), 1));
    assert!(
        said.len() == 1 && said[0].starts_with("accepted: "),
        "{said:?}"
    );
    let accepted = || Taken {
        accepted: true,
        ..Taken::default()
    };
    let good = made(&small, accepted(), 2);
    assert_eq!(stops(&good), Vec::<String>::new());
    assert!(
        good.findings()
            .iter()
            .any(|f| f.text.contains("has no manifest"))
    );
    let mut then = with(Answer::Package(Box::new(package())));
    then.begin(good.accept().unwrap());
    let first = then.view.estate.machine_named("gate-1").unwrap();
    assert_eq!(first.properties["dns"], "10.1.2.53");
    assert_ne!(first.nics[0].mac, "02:00:00:00:00:07");

    let keep = || Taken {
        keep_macs: true,
        ..accepted()
    };
    assert!(stops(&made(&small, keep(), 2))[0].starts_with("keep_macs: Several"));
    let said = stops(&made(&small, keep(), 1));
    assert!(said[0].contains("db has it"), "{said:?}");
    let odd = Taken {
        configuration: "huge".into(),
        ..accepted()
    };
    assert!(stops(&made(&small, odd, 1))[0].starts_with("configuration: "));
}

/// If this fails, a card gets an address that is none, other disks are made than those of the configuration, or a file that
/// nobody compared counts as compared.
#[test]
fn what_an_archive_says_is_not_believed() {
    let accepted = || Taken {
        accepted: true,
        ..Taken::default()
    };
    for mac in [
        "garbage",
        "01:00:00:00:00:07",
        "02:00:00:00:00",
        "02:00:00:00:00:zz",
    ] {
        let mut other = package();
        other
            .descriptor
            .items
            .retain(|i| !matches!(i.hardware, Hardware::Card { .. }));
        other.descriptor.items.push(Item {
            configurations: vec![],
            hardware: Hardware::Card {
                network: "crew".into(),
                mac: Some(mac.into()),
            },
        });
        let keep = Taken {
            keep_macs: true,
            ..accepted()
        };
        let said = stops(&made(&with(Answer::Package(Box::new(other))), keep, 1));
        assert!(
            said.iter()
                .any(|t| t.starts_with("keep_macs: ") && t.contains(mac)),
            "{said:?}"
        );
    }
    let mut listed = package();
    listed.manifest = true;
    let good = made(&with(Answer::Package(Box::new(listed))), accepted(), 1);
    assert!(
        good.findings()
            .iter()
            .any(|f| f.text.contains("says nothing of gate.raw"))
    );
}

/// If this fails, an archive that can't be read is taken in all the same.
#[test]
fn what_is_wrong_with_an_archive_is_said() {
    let why = "gate.raw: ends too early".to_owned();
    let said = stops(&made(&with(Answer::Refused { why }), Taken::default(), 1));
    assert!(
        said.iter()
            .any(|t| t.starts_with("from: ") && t.contains("gate.raw: ends too early")),
        "{said:?}"
    );
    let mut other = package();
    other.descriptor.disks[0].format = "urn:somebody-else".into();
    let said = stops(&made(
        &with(Answer::Package(Box::new(other))),
        Taken::default(),
        1,
    ));
    assert!(
        said.iter().any(|t| t.contains("urn:somebody-else")),
        "{said:?}"
    );
    let mut unread = small();
    image(&mut unread, OVA, Holds::Package, Bytes::gib(5));
    assert!(
        stops(&made(&unread, Taken::default(), 1))
            .iter()
            .any(|t| t.contains("not been looked through"))
    );
}

/// If this fails, a machine is described otherwise than it is.
#[test]
fn a_machine_is_described_as_it_is() {
    let small = small();
    let m = &small.view.estate.machines[&OLD];
    let d = described(&small.view.estate, m, None, true);
    let system = d.system(None);
    assert_eq!(
        (system.vcpus, system.memory, system.kept),
        (m.vcpus, m.memory.size, Some(m.memory.kept))
    );
    assert_eq!(system.disks.len(), m.disks.len());
    assert_eq!(
        system.cards,
        [("none".to_owned(), Some(m.nics[0].mac.clone()))]
    );
    assert_eq!(d.files[0].href, "old-disk1.raw.gz");
}
