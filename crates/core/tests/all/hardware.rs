//! Disks and cards of a machine: what is refused, what it has afterwards, and what becomes of disks that no machine has.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Condition, Consistent, Disk, Estate, Fact, Machine, MachineState, Nic, Provisioning,
        Snapshot, SpareDisk, Unattached, Volume,
    },
    finding::Severity,
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
    observe::{DiskReport, compare},
    permits::{Act, Permits, Role},
    road::{Premise, Work},
    rooms::{
        Assessment, Event, Proposal, Step,
        hardware::{self, Ask, CardWish, Change, DiskWish, Done, Spare, SpareAct},
    },
    testkit::{Small, read},
    units::Bytes,
};

const DB: MachineId = MachineId(7);
const OLD: MachineId = MachineId(9);

fn key(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn on(small: &mut Small, id: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&id]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn volume(small: &Small) -> Arc<Volume> {
    small.view.estate.volumes[&disk(small, DB, 0).volume].clone()
}

fn disk(small: &Small, id: MachineId, place: usize) -> Disk {
    small.view.estate.machines[&id].disks[place]
}

fn spare(had: &str) -> SpareDisk {
    SpareDisk {
        size: Bytes::gib(20),
        provisioning: Provisioning::Thin,
        takes: Bytes::gib(5),
        had: had.into(),
        since: Moment(0),
        deleted: None,
    }
}

/// Machine 7 runs with two disks, 9 is off with two; a disk that *gone* had is unattached beside them.
fn fixture() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\nmachine 9 old 16 off",
    );
    for (id, n) in [(DB, 72), (OLD, 92)] {
        on(&mut small, id, |m| {
            let more = Disk {
                key: key(n),
                size: Bytes::gib(30),
                ..m.disks[0]
            };
            m.disks.push(more);
        });
    }
    let all = Unattached {
        seq: 1,
        disks: [(key(5), spare("gone"))].into(),
    };
    let (volume, all) = (volume(&small).id, Box::new(all));
    small.fold(&[Event::Hardware(hardware::Event::Unattached { volume, all })]);
    small
}

fn change(machine: MachineId, disks: &[DiskWish], cards: &[CardWish]) -> Proposal {
    Proposal::Hardware(Ask::Change(Change {
        machine,
        disks: disks.to_vec(),
        cards: cards.to_vec(),
    }))
}

fn disks(small: &Small, machine: MachineId, wishes: &[DiskWish]) -> Assessment {
    put(small, &change(machine, wishes, &[]))
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    let mut all = said.findings().iter();
    assert!(
        all.any(|f| f.severity == severity && f.text.replace('\u{a0}', " ").contains(words)),
        "{severity:?}: {words}\n{:#?}",
        said.findings()
    );
}

fn steps(said: &Assessment) -> Vec<hardware::Step> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Hardware(step) => Some(step.clone()),
        _ => None,
    });
    all.collect()
}

/// If this fails, the disk that a machine runs from is taken away under it, or somebody isn't told what is lost.
#[test]
fn a_disk_is_taken_out_where_the_machine_can_do_without() {
    let small = fixture();
    let first = disk(&small, DB, 0).key;
    let second = DiskWish::Detach { disk: key(72) };
    let said = disks(&small, DB, &[second]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Mind, "did not write to disk 2 yet is lost");
    says(&said, Severity::Mind, "no machine has it");
    let running = disks(&small, DB, &[DiskWish::Detach { disk: first }]);
    says(&running, Severity::Stop, "runs from disk 1");
    let off = disk(&small, OLD, 0).key;
    let said = disks(&small, OLD, &[DiskWish::Delete { disk: off }]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Mind, "starts from the disk after it");
    says(&said, Severity::Mind, "brought back for 7 days");
    let both = [off, key(92)].map(|disk| DiskWish::Detach { disk });
    says(
        &disks(&small, OLD, &both),
        Severity::Stop,
        "would have no disk",
    );
    let twice = [second, second];
    says(
        &disks(&small, DB, &twice),
        Severity::Stop,
        "no such disk any more",
    );
    says(&disks(&small, DB, &[]), Severity::Stop, "is changed");
}

/// If this fails, going back to a snapshot finds a disk missing.
#[test]
fn a_disk_that_a_snapshot_holds_stays() {
    let mut small = fixture();
    let holds = |small: &mut Small, disks| {
        on(small, OLD, |m| {
            m.snapshots.all = vec![Snapshot {
                uuid: key(1),
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
    };
    let second = [DiskWish::Detach { disk: key(92) }];
    for held in [None, Some(2)] {
        holds(&mut small, held);
        says(
            &disks(&small, OLD, &second),
            Severity::Stop,
            "“eve” of old holds disk 2",
        );
    }
    holds(&mut small, Some(1));
    let later = disks(&small, OLD, &second);
    assert!(
        !later.blocked(),
        "it came after the snapshot: {:#?}",
        worse(&later)
    );
    let back = Proposal::Snapshots(zastrugi_core::rooms::snapshots::Ask::Back(
        zastrugi_core::rooms::snapshots::Back {
            machine: OLD,
            to: Some(key(1)),
            keep: false,
        },
    ));
    says(&put(&small, &back), Severity::Stop, "does not hold disk 2");
    holds(&mut small, Some(2));
    assert!(!put(&small, &back).blocked());
}

/// If this fails, a volume is filled by a disk that was added, or two disks are taken for one.
#[test]
fn a_disk_is_added_where_there_is_room() {
    let small = fixture();
    let add = |size, provisioning| DiskWish::Add { size, provisioning };
    let thin = add(Bytes::gib(40), Provisioning::Thin);
    let said = disks(&small, DB, &[thin, thin]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let keys: Vec<Uuid> = steps(&said)
        .iter()
        .filter_map(|s| match s {
            hardware::Step::Add { disk, .. } => Some(disk.key),
            _ => None,
        })
        .collect();
    assert!(keys.len() == 2 && keys[0] != keys[1], "{keys:?}");
    assert_eq!(said.steps()[1].after, vec![0], "one after the other");
    let free = volume(&small).free();
    let whole = add(free + Bytes(1), Provisioning::Thick);
    says(&disks(&small, DB, &[whole]), Severity::Stop, "is short of");
    let none = add(Bytes(1), Provisioning::Thin);
    says(&disks(&small, DB, &[none]), Severity::Stop, "too small");
    says(
        &disks(&small, DB, &[thin; 15]),
        Severity::Stop,
        "at most 16",
    );
}

/// If this fails, a disk is given to two machines, or one that somebody deleted is given to anybody.
#[test]
fn whoever_comes_first_has_an_unattached_disk() {
    let mut small = fixture();
    let attach = [DiskWish::Attach { disk: key(5) }];
    let said = disks(&small, OLD, &attach);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Clear, "the disk of 20 GiB that gone had");
    says(
        &disks(&small, OLD, &[DiskWish::Attach { disk: key(6) }]),
        Severity::Stop,
        "no such unattached disk",
    );
    let step = steps(&said)[0].clone();
    assert_eq!(step.premise(&small.view), Premise::Holds);
    let (volume, seq) = (volume(&small).id, 2);
    let unattached = |seq, disks| {
        let all = Box::new(Unattached { seq, disks });
        Event::Hardware(hardware::Event::Unattached { volume, all })
    };
    small.fold(&[unattached(seq, Default::default())]);
    assert!(
        matches!(step.premise(&small.view), Premise::Broken(_)),
        "another took it meanwhile"
    );
    small.fold(&[unattached(1, [(key(5), spare("gone"))].into())]);
    assert!(
        small.view.estate.volumes[&volume]
            .unattached
            .disks
            .is_empty(),
        "what was said before counts no more"
    );
    let mut gone = spare("gone");
    gone.deleted = Some(Moment(1));
    small.fold(&[unattached(3, [(key(5), gone)].into())]);
    says(
        &disks(&small, OLD, &attach),
        Severity::Stop,
        "was deleted; bring it back",
    );
}

/// If this fails, a machine is told to have a card that it hasn't, or nobody is told that an address is gone.
#[test]
fn cards_come_go_and_change_their_network() {
    let mut small = fixture();
    let mac = small.view.estate.machines[&DB].nics[0].mac.clone();
    on(&mut small, DB, |m| {
        m.nics[0].addresses = vec!["10.2.0.9".parse().unwrap()]
    });
    let cards = |small: &Small, wishes: &[CardWish]| put(small, &change(DB, &[], wishes));
    let out = cards(&small, &[CardWish::Out { mac: mac.clone() }]);
    assert!(!out.blocked(), "{:#?}", worse(&out));
    says(&out, Severity::Mind, "has 10.2.0.9 no more");
    let more = cards(
        &small,
        &[
            CardWish::Add { network: None },
            CardWish::Add { network: None },
        ],
    );
    let [hardware::Step::Cards { cards: all, .. }] = &steps(&more)[..] else {
        panic!("{:#?}", more.steps());
    };
    let macs: std::collections::BTreeSet<&String> = all.iter().map(|c| &c.mac).collect();
    assert_eq!(
        (all.len(), macs.len()),
        (3, 3),
        "two equal ones are impossible"
    );
    let other = CardWish::Out {
        mac: "02:ff:ff:ff:ff:ff".into(),
    };
    says(&cards(&small, &[other]), Severity::Stop, "no card 02:ff");
    let nowhere = CardWish::Add {
        network: Some(zastrugi_core::ids::NetworkId(4242)),
    };
    says(
        &cards(&small, &[nowhere]),
        Severity::Stop,
        "network is gone",
    );
    says(
        &cards(&small, &vec![CardWish::Add { network: None }; 16]),
        Severity::Stop,
        "at most 16",
    );
}

/// If this fails, something is given to a machine by a host that doesn't run it.
#[test]
fn only_its_own_host_gives_anything_to_a_machine_that_is_on() {
    let mut small = fixture();
    small.alter_host(1, |h| {
        h.condition = Condition::Hangs {
            since: Moment(0),
            why: "slow".into(),
        }
    });
    let add = [DiskWish::Add {
        size: Bytes::gib(1),
        provisioning: Provisioning::Thin,
    }];
    let said = disks(&small, DB, &add);
    assert!(said.blocked(), "{:#?}", said.findings());
    assert_eq!(steps(&said), vec![]);
    assert!(!disks(&small, OLD, &add).blocked());
    on(&mut small, OLD, |m| m.state = MachineState::Planned);
    says(&disks(&small, OLD, &add), Severity::Stop, "is being made");
}

/// If this fails, a disk is gone without having been deleted before, or by somebody who mustn't.
#[test]
fn unattached_disks_are_deleted_brought_back_and_removed_in_that_order() {
    let mut small = fixture();
    let volume = volume(&small).id;
    let ask = |act| {
        Proposal::Hardware(Ask::Spare(Spare {
            volume,
            disks: vec![key(5)],
            act,
        }))
    };
    let purge = |typed: &str| {
        ask(SpareAct::Purge {
            typed: typed.into(),
        })
    };
    says(
        &put(&small, &purge("gone")),
        Severity::Stop,
        "must be deleted first",
    );
    says(
        &put(&small, &ask(SpareAct::Restore)),
        Severity::Stop,
        "was not deleted",
    );
    let said = put(&small, &ask(SpareAct::Delete));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(
        &said,
        Severity::Mind,
        "Recoverable for 7 days; until then 5 GiB",
    );
    let mut gone = spare("gone");
    gone.deleted = Some(Moment(1));
    assert_eq!(
        gone.recoverable_until(),
        Some(Moment(1).plus(Span::days(7)))
    );
    let all = Box::new(Unattached {
        seq: 2,
        disks: [(key(5), gone)].into(),
    });
    small.fold(&[Event::Hardware(hardware::Event::Unattached { volume, all })]);
    says(
        &put(&small, &ask(SpareAct::Delete)),
        Severity::Stop,
        "was deleted already",
    );
    says(
        &put(&small, &purge("")),
        Severity::Stop,
        "Type the name of the machine that had it to confirm: gone",
    );
    assert!(!put(&small, &purge("gone")).blocked());
    assert_eq!(purge("gone").acts(), [Act::Purge].into());
    assert!(!purge("gone").allowed(&Permits::of(Role::Operator)));
    assert!(ask(SpareAct::Delete).allowed(&Permits::of(Role::Operator)));
}

/// If this fails, what a host tells of disks is believed although it is older, or never believed at all.
#[test]
fn what_hosts_tell_of_disks_is_taken_in_once() {
    let mut small = fixture();
    let old = small.view.estate.machines[&DB].clone();
    let mut told = crate::observing::report(
        &small.view.estate,
        100,
        &[(7, MachineState::Running { guest: true }, old.generation)],
    );
    let news = |small: &Small, told: &zastrugi_core::observe::HostReport| -> Vec<Event> {
        let all = compare(&small.view, HostId(1), told, small.now).into_iter();
        all.filter(|e| matches!(e, Event::Hardware(_))).collect()
    };
    let seen = |key| DiskReport {
        key,
        size: Bytes::gib(40),
        thick: true,
    };
    told.machines[0].disks = vec![seen(Uuid::nil())];
    assert_eq!(
        news(&small, &told),
        vec![],
        "an agent that knows no keys tells of none"
    );
    told.machines[0].disks = vec![seen(key(1)), seen(key(2))];
    let events = news(&small, &told);
    assert_eq!(events.len(), 1);
    small.fold(&events);
    let now = small.view.estate.machines[&DB].disks.clone();
    assert_eq!(
        now.iter().map(|d| d.key).collect::<Vec<_>>(),
        [key(1), key(2)]
    );
    assert!(now.iter().all(|d| d.volume == old.disks[0].volume));
    assert_eq!(news(&small, &told), vec![], "said once");
    told.volumes[0].unattached = Some(Box::new(Unattached {
        seq: 1,
        disks: Default::default(),
    }));
    assert_eq!(news(&small, &told), vec![], "no newer than what is known");
    told.volumes[0].unattached = Some(Box::new(Unattached {
        seq: 2,
        disks: Default::default(),
    }));
    small.fold(&news(&small, &told));
    assert_eq!(volume(&small).unattached.seq, 2);
    assert_ne!(volume(&small).id, VolumeId(0));
    let nics: Vec<Nic> = vec![];
    let done = hardware::Event::Changed {
        machine: DB,
        disks: now,
        nics,
        as_of: None,
        done: Done::Cards,
    };
    small.fold(&[Event::Hardware(done)]);
    assert!(small.view.estate.machines[&DB].nics.is_empty());
}
