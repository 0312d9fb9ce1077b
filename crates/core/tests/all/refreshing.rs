//! A disk of one machine copied to another: what is written over and what comes as one more, and what is refused where.

use crate::{copying::fixture, put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Disk, Estate, Fact, Machine, Snapshot},
    finding::Severity,
    ids::MachineId,
    moment::Moment,
    road::{Premise, Work},
    rooms::{
        Assessment, Proposal, Step,
        refreshing::{self, Ask, CopyDisk},
    },
    testkit::Small,
    units::Bytes,
};

/// Machine 7 runs, 9 is off.
const A: MachineId = MachineId(7);
const B: MachineId = MachineId(9);
const EVE: Uuid = Uuid::from_u128(1);

fn on(small: &mut Small, id: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&id]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn with_snapshot(disks: Option<usize>) -> Small {
    let mut small = fixture();
    for (id, n) in [(A, 70u128), (B, 90)] {
        on(&mut small, id, |m| {
            for (place, disk) in (0u128..).zip(&mut m.disks) {
                disk.key = Uuid::from_u128(n + place);
            }
        });
    }
    on(&mut small, A, |m| {
        m.snapshots.all = vec![Snapshot {
            uuid: EVE,
            name: "eve".into(),
            note: String::new(),
            taken: Moment(0),
            parent: None,
            consistent: Consistent::Off,
            memory: None,
            disks,
            ends: None,
        }];
    });
    small
}

fn key(small: &Small, id: MachineId) -> Uuid {
    small.view.estate.machines[&id].disks[0].key
}

fn ask(small: &Small, change: impl FnOnce(&mut CopyDisk)) -> Assessment {
    let mut ask = CopyDisk {
        machine: B,
        onto: Some(key(small, B)),
        from: Some(A),
        snapshot: Some(EVE),
        disk: 0,
        typed: "old".into(),
    };
    change(&mut ask);
    put(small, &Proposal::Refreshing(Ask::Copy(ask)))
}

fn says(said: &Assessment, severity: Severity, field: &str, words: &str) {
    let hit = said.findings().iter().any(|f| {
        f.severity == severity
            && f.field.as_deref().unwrap_or("") == field
            && f.text.contains(words)
    });
    assert!(
        hit,
        "{severity:?} at {field}: {words}\n{:#?}",
        said.findings()
    );
}

fn step(said: &Assessment) -> refreshing::Step {
    match &said.steps()[0].step {
        Step::Refreshing(step) => step.clone(),
        other => panic!("{other:?}"),
    }
}

/// If this fails, a disk is written over without the name typed, or another one than was meant.
#[test]
fn a_disk_is_written_over_with_what_a_snapshot_held() {
    let small = with_snapshot(None);
    let said = ask(&small, |_| {});
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(
        &said,
        Severity::Mind,
        "onto",
        "holds what disk 1 of db in “eve” holds afterwards",
    );
    let refreshing::Step::Copy {
        machine,
        disk,
        new,
        from,
        snapshot,
        place,
        ..
    } = step(&said);
    assert_eq!((machine, disk.key, new), (B, key(&small, B), false));
    assert_eq!((from, snapshot, place), (A, Some(EVE), 0));
    says(
        &ask(&small, |a| a.typed = "db".into()),
        Severity::Stop,
        "typed",
        "old",
    );
    // In between somebody switched it on.
    let mut later = with_snapshot(None);
    let home = later.view.estate.machines[&A].host;
    on(&mut later, B, |m| (m.state, m.host) = (later_state(), home));
    assert!(matches!(
        step(&said).premise(&later.view),
        Premise::Broken(_)
    ));
    assert_eq!(step(&said).premise(&small.view), Premise::Holds);
}

fn later_state() -> zastrugi_core::estate::MachineState {
    zastrugi_core::estate::MachineState::Running { guest: true }
}

#[test]
fn one_more_needs_no_name_and_may_come_while_it_runs() {
    let mut small = with_snapshot(None);
    on(&mut small, B, |m| m.disks[0].size = Bytes::gib(50));
    let said = ask(&small, |a| (a.onto, a.typed) = (None, "".into()));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let refreshing::Step::Copy { disk, new, .. } = step(&said);
    assert!(new && disk.key != key(&small, A), "its own identity");
    assert_eq!(disk.size, small.view.estate.machines[&A].disks[0].size);
    // To the machine itself too.
    let said = ask(&small, |a| (a.machine, a.onto) = (A, None));
    assert!(!said.blocked(), "{:#?}", worse(&said));
}

#[test]
fn what_can_not_be_copied_is_refused_at_its_field() {
    let small = with_snapshot(Some(1));
    says(
        &ask(&small, |a| a.from = None),
        Severity::Stop,
        "from",
        "Choose the machine",
    );
    says(
        &ask(&small, |a| a.snapshot = None),
        Severity::Stop,
        "snapshot",
        "db is on, and writes",
    );
    says(
        &ask(&small, |a| a.snapshot = Some(Uuid::from_u128(9))),
        Severity::Stop,
        "snapshot",
        "no such snapshot",
    );
    says(
        &ask(&small, |a| a.disk = 5),
        Severity::Stop,
        "disk",
        "no such disk in “eve”",
    );
    says(
        &ask(&small, |a| a.onto = Some(Uuid::from_u128(5))),
        Severity::Stop,
        "onto",
        "no such disk",
    );
    let itself = |a: &mut CopyDisk| {
        (a.machine, a.onto, a.typed) = (A, Some(Uuid::from_u128(70)), "db".into())
    };
    says(
        &ask(&small, itself),
        Severity::Stop,
        "onto",
        "is on; power it off first",
    );
    let mut off = with_snapshot(None);
    on(&mut off, A, |m| {
        (m.state, m.host, m.snapshots.all) =
            (zastrugi_core::estate::MachineState::Off, None, vec![])
    });
    let itself = |a: &mut CopyDisk| {
        (a.machine, a.onto, a.typed, a.snapshot) = (A, Some(Uuid::from_u128(70)), "db".into(), None)
    };
    says(
        &ask(&off, itself),
        Severity::Stop,
        "from",
        "what it held itself",
    );
    let mut small = with_snapshot(None);
    on(&mut small, A, |m| {
        m.disks.push(Disk {
            key: Uuid::from_u128(71),
            size: Bytes::gib(900),
            ..m.disks[0]
        })
    });
    says(
        &ask(&small, |a| a.disk = 1),
        Severity::Stop,
        "onto",
        "make that larger first",
    );
}
