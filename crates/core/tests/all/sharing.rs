//! Disks that several machines have: who may have one, what differs and is healed, and what nobody does to its nodes.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Consistent, Estate, Fact, Holder, Machine, MachineState, Mode, Provisioning, SharedAs,
        SharedDisk, SharedDisks, Slot, Snapshot, SpareDisk, TakeOver, Unattached, Volume,
    },
    evidence::SeenVolume,
    finding::Severity,
    ids::MachineId,
    moment::{Moment, Span},
    observe::{HostReport, ShareReport, compare},
    placement::{Ledger, choose},
    road::{Premise, Tale, Work},
    rooms::{
        Assessment, Event, Proposal, Step, edits, hardware, machines, moving,
        sharing::{self, Ask, Make, Source},
        snapshots,
    },
    shared::{Heals, statements, troubles},
    testkit::{Small, read, reported},
    units::Bytes,
};

const A: MachineId = MachineId(7);
const B: MachineId = MachineId(8);
const C: MachineId = MachineId(9);
const KEY: Uuid = Uuid::from_u128(77);
const PLACE: Slot = Slot {
    controller: 1,
    unit: 0,
};

fn on(small: &mut Small, id: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&id]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn machine(small: &Small, id: MachineId) -> Arc<Machine> {
    small.view.estate.machines[&id].clone()
}

fn volume(small: &Small) -> Arc<Volume> {
    small.view.estate.volumes[&machine(small, A).disks[0].volume].clone()
}

/// `a` and `b` run on two of three hosts, `c` is off.
fn bare() -> Small {
    read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nhost 3 512\nmachine 7 a 16 on 1\nmachine 8 b 16 on 2\nmachine 9 c 16 off",
    )
}

fn disk(small: &Small, holder: Option<MachineId>) -> SharedDisk {
    let since = Moment(5);
    let registered = [A, B].map(|id| (machine(small, id).uuid, since));
    SharedDisk {
        name: "quorum".into(),
        size: Bytes::gib(10),
        provisioning: Provisioning::Thin,
        takes: Bytes::mib(1),
        slot: PLACE,
        registered: registered.into(),
        holder: holder.map(|id| Holder {
            machine: machine(small, id).uuid,
            since,
        }),
        takeovers: vec![],
    }
}

fn tells(small: &mut Small, seq: u64, disk: SharedDisk) {
    let all = Box::new(SharedDisks {
        seq,
        disks: [(KEY, disk)].into(),
    });
    let volume = volume(small).id;
    small.fold(&[Event::Sharing(sharing::Event::Told { volume, all })]);
}

fn share(small: &Small) -> SharedAs {
    SharedAs {
        disk: KEY,
        volume: volume(small).id,
        slot: PLACE,
        mode: Mode::Reservations,
    }
}

/// `a` and `b` have a disk in common, and `a` writes to it.
fn fixture() -> Small {
    let mut small = bare();
    let (disk, share) = (disk(&small, Some(A)), share(&small));
    tells(&mut small, 1, disk);
    for id in [A, B] {
        on(&mut small, id, |m| m.shares = vec![share]);
    }
    small
}

fn make(small: &Small, nodes: &[MachineId]) -> Make {
    Make {
        name: "quorum".into(),
        volume: Some(volume(small).id),
        source: Source::Empty {
            size: Bytes::gib(10),
            provisioning: Provisioning::Thin,
        },
        nodes: nodes.to_vec(),
    }
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    let mut all = said.findings().iter();
    assert!(
        all.any(|f| f.severity == severity && f.text.replace('\u{a0}', " ").contains(words)),
        "{severity:?}: {words}\n{:#?}",
        said.findings()
    );
}

fn steps(said: &Assessment) -> Vec<sharing::Step> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Sharing(step) => Some(step.clone()),
        _ => None,
    });
    all.collect()
}

fn shared(small: &Small, ask: Ask) -> Assessment {
    put(small, &Proposal::Sharing(ask))
}

fn nodes(small: &Small, nodes: &[MachineId]) -> Assessment {
    shared(
        small,
        Ask::Nodes {
            disk: KEY,
            nodes: nodes.to_vec(),
        },
    )
}

/// If this fails, the machines of a guest cluster see its disk at different places, or one gets it before it is there.
#[test]
fn a_new_one_is_made_first_and_given_to_all_at_one_place() {
    let small = bare();
    let said = shared(&small, Ask::Make(make(&small, &[A, B, C])));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let all = steps(&said);
    let sharing::Step::Make {
        slot, kept: false, ..
    } = &all[0]
    else {
        panic!("{all:?}")
    };
    assert_eq!(*slot, PLACE);
    let given: Vec<_> = all[1..]
        .iter()
        .map(|s| match s {
            sharing::Step::Give { machine, slot, .. } => (*machine, *slot),
            other => panic!("{other:?}"),
        })
        .collect();
    assert_eq!(given, [A, B, C].map(|m| (m, PLACE)));
    assert!(said.steps()[1..].iter().all(|s| s.after == [0]));
    says(&said, Severity::Mind, "no snapshot of them can be taken");
    says(&said, Severity::Clear, "different hosts");
}

/// If this fails, somebody shares a disk with nobody, under a name that there is, or one that is too small to be one.
#[test]
fn what_can_be_no_shared_disk_is_refused_at_its_field() {
    let small = fixture();
    let with = |change: &dyn Fn(&mut Make)| {
        let mut ask = Make {
            name: "journal".into(),
            ..make(&small, &[A, B])
        };
        change(&mut ask);
        let said = shared(&small, Ask::Make(ask));
        let stops = said
            .findings()
            .iter()
            .filter(|f| f.severity == Severity::Stop);
        stops
            .map(|f| (f.field.clone().unwrap_or_default(), f.text.clone()))
            .collect::<Vec<_>>()
    };
    let field = |change: &dyn Fn(&mut Make)| with(change).first().map(|s| s.0.clone());
    assert_eq!(field(&|_| {}), None);
    assert_eq!(field(&|a| a.name = " ".into()).as_deref(), Some("name"));
    assert_eq!(
        field(&|a| a.name = "quorum".into()).as_deref(),
        Some("name")
    );
    assert_eq!(
        field(&|a| a.name = "q".repeat(200).into()).as_deref(),
        Some("name")
    );
    assert_eq!(field(&|a| a.nodes = vec![A]).as_deref(), Some("nodes"));
    assert_eq!(field(&|a| a.nodes = vec![A, A]).as_deref(), Some("nodes"));
    assert_eq!(field(&|a| a.volume = None).as_deref(), Some("volume"));
    let sized = |size| Source::Empty {
        size,
        provisioning: Provisioning::Thin,
    };
    assert_eq!(
        field(&|a| a.source = sized(Bytes(1))).as_deref(),
        Some("size")
    );
    let thick = Source::Empty {
        size: Bytes::gib(1 << 20),
        provisioning: Provisioning::Thick,
    };
    assert_eq!(field(&|a| a.source = thick).as_deref(), Some("volume"));
    let unknown = Source::Unattached {
        disk: Uuid::from_u128(1),
    };
    assert_eq!(field(&|a| a.source = unknown).as_deref(), Some("source"));
}

/// If this fails, a second disk comes to where machines see the first.
#[test]
fn a_second_one_comes_to_the_first_place_that_is_free_on_all() {
    let mut small = fixture();
    let second = SharedAs {
        disk: Uuid::from_u128(78),
        slot: Slot {
            controller: 1,
            unit: 1,
        },
        ..share(&small)
    };
    on(&mut small, C, |m| m.shares = vec![second]);
    let said = shared(
        &small,
        Ask::Make(Make {
            name: "journal".into(),
            ..make(&small, &[A, C])
        }),
    );
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let sharing::Step::Make { slot, .. } = steps(&said)[0] else {
        panic!()
    };
    assert_eq!(
        slot,
        Slot {
            controller: 1,
            unit: 2
        }
    );
    // Where all are taken there is none.
    let all: Vec<SharedAs> = Slot::all()
        .zip(100u128..)
        .map(|(slot, n)| SharedAs {
            disk: Uuid::from_u128(n),
            slot,
            ..second
        })
        .collect();
    assert_eq!(all.len(), 45);
    on(&mut small, C, |m| m.shares = all);
    let said = shared(
        &small,
        Ask::Make(Make {
            name: "journal".into(),
            ..make(&small, &[A, C])
        }),
    );
    says(&said, Severity::Stop, "no place in common");
}

#[test]
fn an_unattached_disk_becomes_one_with_what_is_on_it() {
    let mut small = bare();
    let key = Uuid::from_u128(5);
    let spare = SpareDisk {
        size: Bytes::gib(20),
        provisioning: Provisioning::Thick,
        takes: Bytes::gib(20),
        had: "gone".into(),
        since: Moment(0),
        deleted: None,
    };
    let all = Box::new(Unattached {
        seq: 1,
        disks: [(key, spare)].into(),
    });
    let volume = volume(&small).id;
    small.fold(&[Event::Hardware(hardware::Event::Unattached { volume, all })]);
    let ask = Make {
        source: Source::Unattached { disk: key },
        ..make(&small, &[A, B])
    };
    let said = shared(&small, Ask::Make(ask));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Clear, "20 GiB that gone had");
    let sharing::Step::Make {
        disk, size, kept, ..
    } = &steps(&said)[0]
    else {
        panic!()
    };
    assert_eq!((*disk, *size, *kept), (key, Bytes::gib(20), true));
}

/// If this fails, a difference is not named with its machine, or is not healed, or a node that is as it shall be is touched.
#[test]
fn each_difference_is_named_and_healed_and_nothing_else_is_touched() {
    let mut small = fixture();
    says(&nodes(&small, &[A, B]), Severity::Stop, "each as it shall");
    on(&mut small, B, |m| {
        m.shares[0].slot = Slot {
            controller: 2,
            unit: 0,
        };
        m.shares[0].mode = Mode::Unguarded;
    });
    let estate = &small.view.estate;
    let held = &volume(&small).shared.disks[&KEY];
    let found = troubles(estate, KEY, held);
    assert_eq!(found.len(), 2, "{found:?}");
    assert!(
        found
            .iter()
            .all(|t| t.machine == B && t.heals == Heals::Giving)
    );
    assert!(
        found[0]
            .words
            .contains("controller 2, unit 0, and shall be at controller 1, unit 0")
    );
    assert!(found[1].words.contains("no reservations"));
    let said = nodes(&small, &[A, B]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Mind, "b: it is at controller 2");
    says(&said, Severity::Mind, "loses quorum for a moment");
    let all = steps(&said);
    assert_eq!(all.len(), 1);
    assert!(matches!(
        all[0],
        sharing::Step::Give {
            machine: B,
            slot: PLACE,
            ..
        }
    ));
}

/// If this fails, a disk is pulled from under the guest that writes to it.
#[test]
fn nothing_is_taken_from_the_one_that_writes() {
    let mut small = fixture();
    let said = nodes(&small, &[B, C]);
    says(&said, Severity::Stop, "a holds the reservation of quorum");
    says(
        &shared(&small, Ask::End { disk: KEY }),
        Severity::Stop,
        "a holds the reservation",
    );
    on(&mut small, A, |m| m.shares[0].mode = Mode::Unguarded);
    says(
        &nodes(&small, &[A, B]),
        Severity::Stop,
        "a holds the reservation",
    );
    // The other may leave and come.
    let small = fixture();
    let said = nodes(&small, &[A, C]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let all = steps(&said);
    assert!(matches!(
        all[..],
        [
            sharing::Step::Take { machine: B, .. },
            sharing::Step::Give { machine: C, .. }
        ]
    ));
    // Between the plan and its turn b took over.
    let Step::Sharing(step) = &said.steps()[0].step else {
        panic!()
    };
    assert_eq!(step.premise(&small.view), Premise::Holds);
    let mut later = fixture();
    let over = disk(&later, Some(B));
    tells(&mut later, 2, over);
    assert!(matches!(step.premise(&later.view), Premise::Broken(_)));
}

#[test]
fn one_that_is_off_lets_go_and_the_disk_stays_unattached() {
    let mut small = fixture();
    on(&mut small, A, |m| {
        (m.state, m.host) = (MachineState::Off, None)
    });
    let said = shared(&small, Ask::End { disk: KEY });
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Mind, "among the unattached disks");
    let all = said.steps();
    assert_eq!(all.len(), 3);
    assert_eq!(all[2].after, [0, 1], "only when nobody has it any more");
}

/// If this fails, two nodes of a guest cluster come to one host, and what takes it takes both.
#[test]
fn nodes_never_come_to_one_host() {
    let mut small = fixture();
    let cluster = small.view.estate.clusters.values().next().unwrap().clone();
    let b = machine(&small, B);
    let hosts: Vec<_> = small.view.estate.hosts_in(cluster.id).cloned().collect();
    let place = |small: &Small, to| {
        let ledger = Ledger::of(&small.view, hosts.clone(), &[B].into());
        choose(&small.view, &ledger, &cluster, &b, to).is_ok()
    };
    let (one, three) = (machine(&small, A).host, Some(hosts[2].id));
    assert!(!place(&small, one));
    assert!(place(&small, three));
    on(&mut small, A, |m| m.shares.clear());
    assert!(place(&small, one), "they have nothing in common any more");
}

/// If this fails, both nodes stand still at the same moment.
#[test]
fn nodes_are_moved_one_after_the_other() {
    let text = "cluster eider careless\nhost 1 512\nhost 2 512\nhost 3 512\nhost 4 512\nmachine 7 a 16 on 1\nmachine 8 b 16 on 2\nmachine 9 c 16 off";
    let mut small = crate::moving::networked(text, 10_000);
    let moves = |small: &Small, machines: Vec<MachineId>| {
        put(
            small,
            &Proposal::Moving(moving::Ask::Move(moving::Move {
                machines,
                to: None,
                disks: None,
                slow: false,
                force: true,
                wire: true,
            })),
        )
    };
    let waits = |said: &Assessment| said.steps().iter().map(|s| s.after.len()).sum::<usize>();
    let said = moves(&small, vec![A, B]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(
        (said.steps().len(), waits(&said)),
        (2, 0),
        "they have nothing to do with each other"
    );
    let (disk, share) = (disk(&small, Some(A)), share(&small));
    tells(&mut small, 1, disk);
    for id in [A, B] {
        on(&mut small, id, |m| m.shares = vec![share]);
    }
    let said = moves(&small, vec![A, B]);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    assert_eq!(waits(&said), 1, "the one waits for the other");
    says(&said, Severity::Mind, "are moved one at a time");
    let far = small.view.estate.hosts.keys().nth(2).copied();
    on(&mut small, A, |m| m.arriving = far);
    says(&moves(&small, vec![B]), Severity::Stop, "one at a time");
}

/// If this fails, a snapshot holds half of what a cluster wrote, or a node is deleted under its cluster.
#[test]
fn no_snapshot_of_a_node_and_no_deletion() {
    let mut small = fixture();
    let take = Proposal::Snapshots(snapshots::Ask::Take(snapshots::Take {
        machines: vec![B],
        name: "eve".into(),
        note: "".into(),
        memory: false,
        together: false,
        quiet: snapshots::Quiet::No,
        ends: None,
    }));
    says(
        &put(&small, &take),
        Severity::Stop,
        "b shares quorum with other machines",
    );
    // Those that it had before are deleted all the same.
    on(&mut small, B, |m| {
        m.snapshots.all = vec![Snapshot {
            uuid: KEY,
            name: "dawn".into(),
            note: String::new(),
            taken: Moment(0),
            parent: None,
            consistent: Consistent::Off,
            memory: None,
            disks: None,
            ends: None,
        }];
    });
    let forget = Proposal::Snapshots(snapshots::Ask::Forget(snapshots::Forget {
        machines: vec![B],
        which: snapshots::Which::All,
    }));
    let said = put(&small, &forget);
    assert!(
        !said
            .findings()
            .iter()
            .any(|f| f.text.contains("with other machines")),
        "{:#?}",
        said.findings()
    );
    let back = Proposal::Snapshots(snapshots::Ask::Back(snapshots::Back {
        machine: B,
        to: Some(KEY),
        keep: false,
    }));
    says(&put(&small, &back), Severity::Stop, "with other machines");
    on(&mut small, B, |m| m.snapshots.all.clear());
    on(&mut small, B, |m| {
        (m.state, m.host) = (MachineState::Off, None)
    });
    let delete = Proposal::Machines(machines::Ask::Delete { machines: vec![B] });
    says(
        &put(&small, &delete),
        Severity::Stop,
        "node of guest cluster quorum",
    );
    on(&mut small, B, |m| m.shares.clear());
    assert!(!put(&small, &delete).blocked());
}

fn report(small: &Small, host: u64, seq: u64) -> HostReport {
    let host = &small.view.estate.hosts[&zastrugi_core::ids::HostId(host)];
    let v = volume(small);
    HostReport {
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
        machines: vec![],
        volumes: vec![SeenVolume {
            uid: v.uid.clone(),
            name: v.name.clone(),
            capacity: v.capacity,
            used: v.used,
            paths: host.mounts.get(&v.id).cloned().unwrap_or_default(),
            pool: None,
            unattached: None,
            shared: None,
            records: None,
        }],
        disks: host.disks.clone(),
    }
}

/// If this fails, a take-over is told twice, or not at all, or an old report puts back what was.
#[test]
fn a_take_over_is_told_once_with_how_long_nobody_wrote() {
    let mut small = fixture();
    let mut told = report(&small, 2, 1);
    let over = TakeOver {
        from: machine(&small, A).uuid,
        to: machine(&small, B).uuid,
        last: Moment(1_000),
        first: Moment(12_500),
    };
    let mut after = disk(&small, Some(B));
    after.takeovers = vec![over];
    told.volumes[0].shared = Some(Box::new(SharedDisks {
        seq: 2,
        disks: [(KEY, after)].into(),
    }));
    let host = zastrugi_core::ids::HostId(2);
    let took = |events: &[Event]| {
        let all = events.iter().filter_map(|e| match e {
            Event::Sharing(sharing::Event::TookOver { took, .. }) => Some(*took),
            _ => None,
        });
        all.collect::<Vec<_>>()
    };
    let events = compare(&small.view, host, &told, Moment(0));
    assert_eq!(took(&events), [Span::millis(11_500)]);
    let text = events.iter().find_map(|e| match e {
        Event::Sharing(e @ sharing::Event::TookOver { .. }) => e.tell(&small.view.estate),
        _ => None,
    });
    assert!(text.unwrap().text.contains("b took quorum over from a"));
    small.fold(&events);
    let held = |small: &Small| volume(small).shared.disks[&KEY].clone();
    assert!(held(&small).is_held_by(&machine(&small, B)));
    assert!(
        took(&compare(&small.view, host, &told, Moment(0))).is_empty(),
        "it is known"
    );
    let before = disk(&small, Some(A));
    let mut old = report(&small, 1, 1);
    old.volumes[0].shared = Some(Box::new(SharedDisks {
        seq: 1,
        disks: [(KEY, before)].into(),
    }));
    let events = compare(&small.view, zastrugi_core::ids::HostId(1), &old, Moment(0));
    small.fold(&events);
    assert!(held(&small).is_held_by(&machine(&small, B)));
}

/// If this fails, nobody hears that somebody changed at a host how a machine has its disk.
#[test]
fn what_a_host_has_otherwise_is_heard() {
    let mut small = fixture();
    let (b, v) = (machine(&small, B), volume(&small));
    let mut seen = reported(b.uuid, "b", b.generation);
    let as_it_is = ShareReport {
        disk: KEY,
        volume: v.uid.clone(),
        slot: PLACE,
        mode: Mode::Reservations,
    };
    let mut told = report(&small, 2, 1);
    let hears = |small: &Small, told: &HostReport| {
        let events = compare(&small.view, zastrugi_core::ids::HostId(2), told, Moment(0));
        events
            .into_iter()
            .find(|e| matches!(e, Event::Sharing(sharing::Event::Shares { .. })))
    };
    seen.shares = None;
    told.machines = vec![seen.clone()];
    assert_eq!(hears(&small, &told), None, "its agent says nothing of it");
    seen.shares = Some(vec![as_it_is.clone()]);
    told.machines = vec![seen.clone()];
    assert_eq!(hears(&small, &told), None);
    let other = ShareReport {
        mode: Mode::Unguarded,
        ..as_it_is
    };
    seen.shares = Some(vec![other]);
    told.machines = vec![seen];
    let event = hears(&small, &told).unwrap();
    small.fold(&[event]);
    assert_eq!(machine(&small, B).shares[0].mode, Mode::Unguarded);
}

#[test]
fn what_protects_it_is_said_from_what_is() {
    let mut small = fixture();
    let of = |small: &Small| {
        let v = volume(small);
        let all = statements(&small.view.estate, KEY, (&v, &v.shared.disks[&KEY]));
        all.into_iter()
            .map(|s| (s.protects, s.words))
            .collect::<Vec<_>>()
    };
    let says = |all: &[(bool, String)], protects: bool, words: &str| {
        assert!(
            all.iter().any(|(p, w)| *p == protects && w.contains(words)),
            "{words}: {all:#?}"
        );
    };
    let all = of(&small);
    says(&all, true, "2 machines are registered");
    says(&all, true, "never on the same host");
    says(&all, false, "No snapshot");
    says(&all, false, "if that volume is lost");
    let mut alone = disk(&small, Some(A));
    alone.registered.remove(&machine(&small, B).uuid);
    tells(&mut small, 2, alone);
    let host = machine(&small, A).host;
    on(&mut small, B, |m| m.host = host);
    let all = of(&small);
    says(&all, false, "1 of 2 machines are registered");
    says(&all, false, "on the same host");
    let v = volume(&small);
    let found = troubles(&small.view.estate, KEY, &v.shared.disks[&KEY]);
    let heals: Vec<_> = found.iter().map(|t| t.heals).collect();
    assert_eq!(heals, [Heals::Moving, Heals::Guest]);
}

/// If this fails, a rule can be set under which a node has no host to run on.
#[test]
fn nodes_are_kept_together_by_no_rule() {
    use zastrugi_core::estate::{PlaceRule, RuleKind, Who};
    let small = fixture();
    let cluster = *small.view.estate.clusters.keys().next().unwrap();
    let rule = PlaceRule {
        name: "close".into(),
        kind: RuleKind::Together,
        who: Who::Machines([A, B].into()),
        required: true,
    };
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![edits::Target::Cluster(cluster)],
        sets: vec![edits::Set::Rules(vec![rule])],
    });
    says(
        &put(&small, &ask),
        Severity::Stop,
        "“quorum” keeps them apart",
    );
}
