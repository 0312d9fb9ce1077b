//! Records on volumes that no machine is held for: which are found, what settles them, and what is refused meanwhile.

use crate::put;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Disk, Estate, Fact, Machine, MachineState, Memory, Provisioning, Stray, Strays, Volume, Why,
    },
    ids::{MachineId, VolumeId},
    moment::Moment,
    observe::{DiskReport, RecordReport, left_over},
    road::Work,
    rooms::{
        Event, Proposal, Step, machines,
        records::{self, Ask, Differs, Records},
    },
    testkit::{self, Folding, Small, read, reported},
    units::Bytes,
};

/// Machine 7 runs on the first volume, 9 lies there and is off; the second volume is empty.
const A: MachineId = MachineId(7);
const B: MachineId = MachineId(9);
const HOME: VolumeId = VolumeId(951);
const OTHER: VolumeId = VolumeId(952);
const NOBODY: Uuid = Uuid::from_u128(77);

fn fixture() -> Small {
    let mut small = read(
        "cluster eider
         host 1 512
         host 2 512
         machine 7 db 16 on 1
         machine 9 web 16 off",
    );
    small.alter(|estate| {
        let first = estate.volumes[&HOME].clone();
        estate.put(Fact::Volume(Arc::new(Volume {
            id: OTHER,
            name: "quay".into(),
            uid: "vol-952".into(),
            ..Volume::clone(&first)
        })));
        for id in [1, 2] {
            let mut host = (*estate.hosts[&zastrugi_core::ids::HostId(id)]).clone();
            host.mounts.insert(OTHER, testkit::paths(2));
            estate.put(Fact::Host(Arc::new(host)));
        }
    });
    small
}

fn uuid(small: &Small, id: MachineId) -> Uuid {
    small.view.estate.machines[&id].uuid
}

fn record(uuid: Uuid, name: &str, generation: u64) -> RecordReport {
    RecordReport {
        record: zastrugi_core::observe::MachineReport {
            disks: vec![DiskReport {
                key: Uuid::from_u128(uuid.as_u128() + 1),
                size: Bytes::gib(20),
                thick: false,
            }],
            ..reported(uuid, name, generation)
        },
        runs_on: None,
        deleted: false,
    }
}

/// What is left over of these on a volume, folded in.
fn seen(small: &mut Small, volume: VolumeId, all: &[RecordReport]) -> Option<Strays> {
    let before = small.view.estate.clone();
    let event = left_over(&small.view, &before, volume, all, small.now)?;
    small.fold(std::slice::from_ref(&event));
    let Event::Records(records::Event::Seen { strays, .. }) = event else {
        panic!("{event:?}")
    };
    Some(*strays)
}

fn ask(volume: VolumeId, all: &[Uuid]) -> Records {
    Records {
        volume,
        records: all.to_vec(),
    }
}

fn register(volume: VolumeId, all: &[Uuid]) -> Proposal {
    Proposal::Records(Ask::Register(ask(volume, all)))
}

fn forget(volume: VolumeId, all: &[Uuid]) -> Proposal {
    Proposal::Records(Ask::Forget(ask(volume, all)))
}

/// The stops of a proposal, in words.
fn stops(small: &Small, ask: &Proposal) -> Vec<String> {
    let said = put(small, ask);
    said.findings()
        .iter()
        .filter(|f| f.stops())
        .map(|f| f.text.clone())
        .collect()
}

/// If this fails, a record that nobody knows, or a second one of a machine, lies on a volume and nobody is told; or machines of
/// the estate are called unknown.
#[test]
fn what_is_left_over_is_what_nobody_knows_and_what_lies_twice() {
    let mut small = fixture();
    let (a, b) = (uuid(&small, A), uuid(&small, B));
    let all = [
        record(a, "db", 1),
        record(b, "web", 1),
        record(NOBODY, "payroll", 3),
    ];
    let strays = seen(&mut small, HOME, &all).unwrap();
    assert_eq!(strays.all.keys().collect::<Vec<_>>(), [&NOBODY]);
    assert_eq!(strays.all[&NOBODY].since, small.now);
    assert_eq!(
        seen(&mut small, HOME, &all),
        None,
        "the same again is told once"
    );

    let strays = seen(&mut small, OTHER, &[record(b, "web", 1)]).unwrap();
    assert_eq!(strays.all.keys().collect::<Vec<_>>(), [&b]);
    let estate = &small.view.estate;
    let found: Vec<_> = estate.volumes[&OTHER].strays(estate).collect();
    assert!(
        matches!(&found[..], [(_, _, Why::Twice(m))] if m.id == B),
        "{found:?}"
    );
    assert_eq!(
        estate.lies_twice(&estate.machines[&B]).map(|v| v.id),
        Some(OTHER)
    );
    assert_eq!(estate.lies_twice(&estate.machines[&A]), None);

    small.now = Moment(small.now.0 + 60_000);
    let strays = seen(&mut small, HOME, &[]).unwrap();
    assert_eq!(strays, Strays::default());
}

/// If this fails, a machine that was removed for good while its volume was being read comes back as unknown, and one that was
/// just moved lies twice.
#[test]
fn what_was_known_before_the_answer_came_is_not_left_over() {
    let small = fixture();
    let (before, b) = (small.view.estate.clone(), uuid(&small, B));
    let mut later = small;
    later.alter(|estate: &mut Estate| {
        let mut gone = Machine::clone(&estate.machines[&B]);
        gone.uuid = Uuid::from_u128(4711);
        estate.put(Fact::Machine(Arc::new(gone)));
    });
    let event = left_over(
        &later.view,
        &before,
        HOME,
        &[record(b, "web", 1)],
        later.now,
    );
    assert_eq!(
        event, None,
        "it is another now, and the old one was there when the host was asked"
    );

    let mut moved = fixture();
    let before = moved.view.estate.clone();
    moved.alter(|estate| {
        let mut m = Machine::clone(&estate.machines[&B]);
        m.disks.iter_mut().for_each(|d| d.volume = OTHER);
        estate.put(Fact::Machine(Arc::new(m)));
    });
    let event = left_over(
        &moved.view,
        &before,
        HOME,
        &[record(b, "web", 1)],
        moved.now,
    );
    assert_eq!(event, None, "it lay there when the host was asked");
    let now = moved.view.estate.clone();
    assert!(left_over(&moved.view, &now, HOME, &[record(b, "web", 1)], moved.now).is_some());
}

/// If this fails, a volume that was brought back with a thousand old machines makes a fact that nobody can store.
#[test]
fn of_very_many_the_first_are_kept_and_the_others_counted() {
    let mut small = fixture();
    let all: Vec<_> = (0..250u128)
        .map(|n| record(Uuid::from_u128(10_000 + n), &format!("old-{n:03}"), 1))
        .collect();
    let strays = seen(&mut small, HOME, &all).unwrap();
    assert_eq!((strays.all.len(), strays.more), (Strays::MOST, 150));
    assert!(
        strays.all.values().all(|s| s.name.as_str() < "old-100"),
        "by name"
    );
}

/// If this fails, a machine that runs somewhere is registered as one that is off, and can be started a second time.
#[test]
fn what_runs_is_neither_registered_nor_forgotten() {
    let mut small = fixture();
    let mut on = record(NOBODY, "payroll", 3);
    on.runs_on = Some("far-1".into());
    seen(&mut small, HOME, &[on]);
    for ask in [register(HOME, &[NOBODY]), forget(HOME, &[NOBODY])] {
        let stops = stops(&small, &ask);
        assert!(
            stops.iter().any(|s| s.contains("runs at far-1")),
            "{stops:?}"
        );
        assert!(put(&small, &ask).accept().is_err());
    }
}

/// If this fails, two machines have one name or one MAC address afterwards and nobody was told before.
#[test]
fn a_record_with_a_name_or_an_address_that_is_taken_is_said() {
    let mut small = fixture();
    let mac = small.view.estate.machines[&A]
        .nics
        .first()
        .map(|n| n.mac.clone());
    let mut same = record(NOBODY, "db", 3);
    same.record.nics = mac
        .iter()
        .map(|mac| zastrugi_core::observe::NicReport {
            mac: mac.clone(),
            network: None,
            addresses: vec![],
        })
        .collect();
    seen(&mut small, HOME, &[same]);
    let said = put(&small, &register(HOME, &[NOBODY]));
    let words: Vec<_> = said.findings().iter().map(|f| f.text.as_str()).collect();
    assert!(
        words.iter().any(|w| w.contains("There is a db already")),
        "{words:?}"
    );
    assert_eq!(
        mac.is_some(),
        words.iter().any(|w| w.contains("same MAC address")),
        "{words:?}"
    );
    assert!(said.accept().is_ok());
}

/// If this fails, a machine that runs loses its disks to an old copy of them.
#[test]
fn another_record_is_taken_only_while_the_machine_is_off() {
    let mut small = fixture();
    let (a, b) = (uuid(&small, A), uuid(&small, B));
    seen(
        &mut small,
        OTHER,
        &[record(a, "db", 1), record(b, "web", 1)],
    );
    let stops_of = |ask: &Proposal| stops(&small, ask);
    assert!(
        stops_of(&register(OTHER, &[a]))
            .iter()
            .any(|s| s.starts_with("db runs"))
    );
    let said = put(&small, &register(OTHER, &[b]));
    let steps: Vec<Step> = said.steps().iter().map(|s| s.step.clone()).collect();
    assert!(
        matches!(
            &steps[..],
            [Step::Records(records::Step::Register {
                machine: Some(B),
                ..
            })]
        ),
        "{steps:?}"
    );
    // Meanwhile somebody settles it.
    assert!(steps[0].premise(&small.view) == zastrugi_core::road::Premise::Holds);
    seen(&mut small, OTHER, &[]);
    assert!(steps[0].premise(&small.view) != zastrugi_core::road::Premise::Holds);
}

/// If this fails, whoever takes the other record loses the first one from sight, or what people decided of the machine.
#[test]
fn the_record_that_was_its_own_stands_among_those_to_settle() {
    let mut small = fixture();
    let b = uuid(&small, B);
    seen(&mut small, OTHER, &[record(b, "web", 1)]);
    let held = Machine::clone(&small.view.estate.machines[&B]);
    let found = Machine {
        name: "web-as-it-was".into(),
        labels: Default::default(),
        restarts: !held.restarts,
        vcpus: held.vcpus + 1,
        memory: Memory {
            size: Bytes::gib(3),
            ..held.memory
        },
        disks: vec![Disk {
            key: NOBODY,
            size: Bytes::gib(9),
            provisioning: Provisioning::Thin,
            volume: OTHER,
        }],
        ..held.clone()
    };
    let event = Event::Records(records::Event::Taken {
        machine: Box::new(found.clone()),
        at: small.now,
    });
    let mut estate = (*small.view.estate).clone();
    estate.absorb(&event);
    let now = &estate.machines[&B];
    assert_eq!(
        (&now.name, now.restarts, now.vcpus),
        (&held.name, held.restarts, found.vcpus)
    );
    assert_eq!(now.disks, found.disks);
    let on = |v: VolumeId| {
        estate.volumes[&v]
            .strays(&estate)
            .map(|(u, ..)| u)
            .collect::<Vec<_>>()
    };
    assert_eq!((on(HOME), on(OTHER)), (vec![b], vec![]));
}

/// If this fails, a machine of which nobody knows which record is meant is deleted, changed or moved: at the wrong one.
#[test]
fn while_it_lies_twice_a_machine_that_is_off_is_only_started() {
    let mut small = fixture();
    let b = uuid(&small, B);
    let machines = vec![B];
    let delete = Proposal::Machines(machines::Ask::Delete {
        machines: machines.clone(),
    });
    let on = Proposal::Machines(machines::Ask::Power {
        machines,
        act: machines::PowerAct::On { host: None },
    });
    assert_eq!(stops(&small, &delete), Vec::<String>::new());
    seen(&mut small, OTHER, &[record(b, "web", 1)]);
    assert_eq!(
        stops(&small, &delete),
        ["A second record of web lies on quay."]
    );
    assert_eq!(stops(&small, &on), Vec::<String>::new());
    let said = put(&small, &on);
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("it starts by its own"))
    );
}

/// If this fails, the comparison hides a difference, or shows one that is none.
#[test]
fn two_records_are_compared_setting_by_setting() {
    let small = fixture();
    let held = &small.view.estate.machines[&B];
    let same = Stray::of(held, small.now);
    assert!(Differs::between(held, &same).iter().all(|(_, same)| *same));
    let other = Stray {
        generation: same.generation + 2,
        vcpus: same.vcpus + 1,
        ..same
    };
    let differs: Vec<_> = Differs::between(held, &other)
        .into_iter()
        .filter(|(_, same)| !same)
        .map(|(d, _)| d.what)
        .collect();
    assert_eq!(differs, ["Taken by hosts", "vCPUs"]);
    assert!(held.state == MachineState::Off);
}

/// If this fails, a copy of a machine that is removed again takes the address of the original with it: a third one may get it.
#[test]
fn of_two_machines_with_one_mac_address_each_is_found_as_long_as_it_is_there() {
    let small = fixture();
    let mut estate = Estate::clone(&small.view.estate);
    let original = Machine::clone(&estate.machines[&A]);
    let mac = original.nics[0].mac.clone();
    let copy = Machine {
        id: MachineId(99),
        uuid: NOBODY,
        name: "copy".into(),
        ..original
    };
    estate.put(Fact::Machine(Arc::new(copy)));
    estate.remove(zastrugi_core::estate::Kind::Machine, 99);
    assert_eq!(estate.machine_with_mac(&mac).map(|m| m.id), Some(A));
}
