//! What machines boot with: what new ones get, what copies lack, and what a host tells of it.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    copying::Source,
    estate::{Chip, Estate, Fact, Firmware, FirmwareKind, FirmwareWish, Machine, Provisioning},
    finding::Severity,
    ids::MachineId,
    moment::Moment,
    observe::{HostReport, compare},
    rooms::{
        Assessment, Event, Proposal, edits,
        edits::{Set, Target},
        machines::{self, Copied, CreateMachines, NewDisk},
    },
    testkit::{Small, machines, read, reported},
    units::Bytes,
};

const DB: MachineId = MachineId(7);

fn fixture(firmware: Option<Firmware>) -> Small {
    let mut small = read("cluster eider careless\nhost 1 512\nmachine 7 db 16 off");
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&DB]);
        m.firmware = firmware.map(Box::new);
        estate.put(Fact::Machine(Arc::new(m)));
    });
    small
}

fn sealed(holds: &[&str]) -> Firmware {
    Firmware {
        kind: FirmwareKind::Secure,
        chip: Some(Chip {
            id: uuid::Uuid::from_u128(1),
            holds: holds.iter().map(|h| (*h).to_owned()).collect(),
        }),
    }
}

fn ask(
    had: Option<Firmware>,
    copied: bool,
    firmware: FirmwareWish,
) -> (Assessment, Option<Firmware>) {
    let mut small = fixture(had);
    let cluster = small.view.estate.clusters.keys().next().copied();
    let disk = small.view.estate.machines[&DB].disks[0].size;
    let ask = CreateMachines {
        pledge: None,
        copied: copied.then_some(Copied {
            source: Source::Machine {
                machine: DB,
                snapshot: None,
            },
            dependent: false,
            seal: true,
        }),
        disks: vec![NewDisk {
            size: disk.max(Bytes::gib(1)),
            provisioning: Provisioning::Thin,
        }],
        firmware,
        start: false,
        ..machines("new", 1, cluster, 4)
    };
    let said = put(
        &small,
        &Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    );
    // Nobody begins what is stopped.
    let planned = said.clone().accept().ok().and_then(|plan| {
        small.begin(plan);
        let made = small.view.estate.machine_named("new")?;
        made.firmware.as_deref().cloned()
    });
    (said, planned)
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    assert!(
        said.findings()
            .iter()
            .any(|f| f.severity == severity && f.text.contains(words)),
        "{severity:?}: {words}\n{:#?}",
        said.findings()
    );
}

fn wish(kind: FirmwareKind, chip: bool) -> FirmwareWish {
    FirmwareWish {
        kind: Some(kind),
        chip: Some(chip),
    }
}

/// If this fails, a machine is made with firmware that nobody asked for, or a chip is promised that BIOS can't use.
#[test]
fn what_was_asked_for_is_made_and_what_nobody_asked_for_is_plain() {
    let (said, plain) = ask(None, false, FirmwareWish::default());
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(plain, Some(Firmware::default()));
    let (_, made) = ask(None, false, wish(FirmwareKind::Secure, true));
    let made = made.unwrap();
    assert_eq!(
        (made.kind, made.chip.is_some()),
        (FirmwareKind::Secure, true)
    );
    let (said, _) = ask(None, false, wish(FirmwareKind::Bios, true));
    says(&said, Severity::Stop, "BIOS knows no security chip");
    let field = said
        .findings()
        .iter()
        .find(|f| f.text.contains("BIOS knows"))
        .unwrap()
        .field
        .clone();
    assert_eq!(field.as_deref(), Some("chip"));
}

/// If this fails, a copy can't start and nobody was told: its disk asks for a key that only the original's chip has.
#[test]
fn a_copy_says_which_secrets_it_lacks() {
    let had = || Some(sealed(&["the key of disk 1"]));
    let (said, made) = ask(had(), true, FirmwareWish::default());
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(
        &said,
        Severity::Mind,
        "without what that of db holds: the key of disk 1",
    );
    let made = made.unwrap();
    assert_eq!(made.kind, FirmwareKind::Secure, "as what is copied");
    assert_eq!(
        made.chip,
        Some(Chip::default()),
        "its own, with nothing in it"
    );
    let (said, _) = ask(had(), true, wish(FirmwareKind::Secure, false));
    says(
        &said,
        Severity::Mind,
        "The copies have no security chip, without what",
    );
    says(
        &ask(Some(sealed(&[])), true, FirmwareWish::default()).0,
        Severity::Clear,
        "holds no secret",
    );
    // Of one whose host says nothing of it nothing is said.
    let (said, _) = ask(None, true, FirmwareWish::default());
    assert!(
        !said
            .findings()
            .iter()
            .any(|f| f.text.contains("security chip"))
    );
}

/// If this fails, a guest is installed on a disk of which its firmware finds only the beginning, or its disk grows until it is so.
#[test]
fn a_bios_boots_only_from_the_first_two_tebibytes() {
    let of = |kind: FirmwareKind, size: Bytes| {
        let firmware = Firmware { kind, chip: None };
        let mut small = fixture(Some(firmware));
        let grow = Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Machine(DB)],
            sets: vec![Set::DiskSize {
                disk: 0,
                size,
                key: None,
            }],
        });
        let grown = worse(&put(&small, &grow));
        small.alter(|estate: &mut Estate| {
            let mut m = Machine::clone(&estate.machines[&DB]);
            m.disks[0].size = size;
            estate.put(Fact::Machine(Arc::new(m)));
        });
        let machine = &small.view.estate.machines[&DB];
        let said = zastrugi_core::booting::out_of_reach(machine).is_some();
        let warned = grown.iter().any(|w| w.contains("A BIOS boots only"));
        assert_eq!(said, warned, "made so, or grown so");
        said
    };
    let edge = Bytes::gib(2048);
    assert!(!of(FirmwareKind::Bios, edge));
    assert!(of(FirmwareKind::Bios, Bytes(edge.0 + 1)));
    assert!(!of(FirmwareKind::Uefi, Bytes::gib(4096)));
}

#[test]
fn disks_that_boot_with_one_kind_are_copied_to_no_other() {
    let bios = || {
        Some(Firmware {
            kind: FirmwareKind::Bios,
            chip: None,
        })
    };
    says(
        &ask(bios(), true, wish(FirmwareKind::Uefi, false)).0,
        Severity::Stop,
        "boots with BIOS; with UEFI no copy",
    );
    let (said, made) = ask(bios(), true, FirmwareWish::default());
    assert!(!said.blocked());
    assert_eq!(made.unwrap().kind, FirmwareKind::Bios);
    let (said, _) = ask(
        Some(Firmware::default()),
        true,
        wish(FirmwareKind::Secure, false),
    );
    says(&said, Severity::Unchecked, "is signed nobody looked");
    assert!(!said.blocked());
}

/// If this fails, a page says that a chip holds what it holds no more, or an agent that knows nothing of chips wipes what is known.
#[test]
fn what_its_host_tells_is_held() {
    let mut small = read("cluster eider careless\nhost 1 512\nmachine 7 db 16 on 1");
    let m = small.view.estate.machines[&DB].clone();
    let host = small.view.estate.hosts.values().next().unwrap().clone();
    let tell = |small: &Small, firmware: Option<Firmware>, seq: u64| {
        let mut seen = reported(m.uuid, "db", m.generation);
        seen.firmware = firmware.map(Box::new);
        let report = HostReport {
            boot: host.seen.0,
            seq: host.seen.1 + seq,
            obeyed: None,
            software: host.software.clone(),
            watchdog: host.watchdog,
            keepers: host.keepers.clone(),
            initiator: host.initiator.clone(),
            uplinks: host.uplinks.clone(),
            networks: host.networks.clone(),
            ended: Default::default(),
            machines: vec![seen],
            volumes: vec![],
            disks: host.disks.clone(),
        };
        let all = compare(&small.view, host.id, &report, Moment(0));
        all.into_iter()
            .filter(|e| matches!(e, Event::Machines(machines::Event::Firmware { .. })))
            .collect::<Vec<_>>()
    };
    let events = tell(&small, Some(sealed(&["a key"])), 1);
    assert_eq!(events.len(), 1);
    small.fold(&events);
    assert!(tell(&small, Some(sealed(&["a key"])), 2).is_empty());
    assert!(tell(&small, None, 3).is_empty(), "it says nothing of it");
    assert_eq!(
        small.view.estate.machines[&DB].firmware.as_deref(),
        Some(&sealed(&["a key"]))
    );
}
