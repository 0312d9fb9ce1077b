//! Sheets of snapshots: what is refused and where, what it costs as foretold, and what becomes of the tree.

use crate::{put, worse};
use roaring::RoaringBitmap;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Estate, Machine, MachineState, Snapshot, Snapshots, Uplink},
    evidence::{Answer, Probe},
    finding::Severity,
    ids::{HostId, MachineId},
    layers::{Chain, DEEPEST, GRAIN, Layer},
    loads::{DiskUse, HostLoad, Loads, MachineLoad, Writes},
    moment::{Moment, Span},
    observe::{HostReport, compare},
    road::Work,
    rooms::{
        Assessment, Event, Proposal, Step,
        snapshots::{self, Ask, Back, Forget, Keep, Quiet, Take, Which},
    },
    testkit::{Small, read},
    units::{Bytes, Mhz, Rate},
};

const DB: MachineId = MachineId(7);
const OLD: MachineId = MachineId(9);

fn id(n: u128) -> Uuid {
    Uuid::from_u128(n)
}

fn snapshot(n: u128, parent: Option<u128>, taken: Moment) -> Snapshot {
    Snapshot {
        uuid: id(n),
        name: format!("s{n}"),
        note: String::new(),
        taken,
        parent: parent.map(id),
        consistent: Consistent::Crash,
        memory: None,
        disks: None,
        ends: None,
    }
}

/// Machine 7 runs and its agent answers, 9 is off; 7 writes so many MiB a second and holds 50 GiB.
fn fixture(writes_mib: u64) -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 64 on 1\nmachine 9 old 16 off",
    );
    on(&mut small, DB, |m| {
        m.state = MachineState::Running { guest: true }
    });
    small.alter_host(1, |h| {
        h.uplinks = ["storage-1", "storage-2"]
            .map(|name| Uplink {
                name: name.into(),
                mac: "06:00:00:00:00:01".into(),
                mbit: 10_000,
                up: true,
                switch: "s".into(),
                port: name.into(),
            })
            .to_vec();
    });
    let load = MachineLoad {
        cpu: Mhz(1),
        active: Bytes::gib(4),
        writes: Some(Writes {
            dirty: Rate(1 << 20),
            touched: Bytes::gib(20),
            working_set: Bytes::gib(1),
        }),
        disk: Some(DiskUse {
            used: Bytes::gib(50),
            writes: Rate(writes_mib << 20),
        }),
    };
    let mut loads = Loads::default();
    let sample = HostLoad {
        at: small.now,
        cpu: Mhz(1),
        active: Bytes::gib(4),
        machines: vec![(DB, load)],
    };
    loads.take(HostId(1), sample);
    small.view.loads = loads.into();
    small
}

fn on(small: &mut Small, machine: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&machine]);
        change(&mut m);
        estate.put(zastrugi_core::estate::Fact::Machine(Arc::new(m)));
    });
}

fn layer(parent: Option<u64>, snapshot: Option<u128>, blocks: std::ops::Range<u32>) -> Layer {
    let mut all = RoaringBitmap::new();
    all.insert_range(blocks);
    Layer {
        parent,
        snapshot: snapshot.map(id),
        disks: vec![all],
    }
}

/// 7 has s1 ← s2, and stands on s2; its layers were read.
fn with_two(small: &mut Small) {
    let now = small.now;
    let ago = |days: i64| Moment(now.0 - 86_400_000 * days);
    on(small, DB, |m| {
        *m.snapshots = Snapshots {
            all: vec![snapshot(1, None, ago(40)), snapshot(2, Some(1), ago(5))],
            rests_on: Some(id(2)),
        };
    });
    let chain = Chain {
        layers: [
            (0, layer(None, Some(1), 0..1000)),
            (1, layer(Some(0), Some(2), 900..1100)),
            (2, layer(Some(1), None, 1050..1060)),
        ]
        .into(),
        current: 2,
    };
    let mut book = (*small.view.evidence).clone();
    book.put(Probe::Layers(DB), Answer::Layers(Box::new(chain)), now);
    small.view.evidence = book.into();
}

fn take(change: impl FnOnce(&mut Take)) -> Proposal {
    let mut ask = Take {
        machines: vec![DB],
        name: "before".into(),
        note: "".into(),
        quiet: Quiet::IfPossible,
        memory: false,
        together: false,
        ends: Some(Span::days(1)),
    };
    change(&mut ask);
    Proposal::Snapshots(Ask::Take(ask))
}

fn forget(which: Which) -> Proposal {
    Proposal::Snapshots(Ask::Forget(Forget {
        machines: vec![DB, OLD],
        which,
    }))
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    let all: Vec<_> = said
        .findings()
        .iter()
        .map(|f| (f.severity, f.text.clone()))
        .collect();
    let hit = all.iter().any(|(s, t)| *s == severity && t.contains(words));
    assert!(hit, "{severity:?}: {words}\n{all:#?}");
}

fn field(said: &Assessment, words: &str) -> Option<String> {
    let hit = said.findings().iter().find(|f| f.text.contains(words));
    hit.and_then(|f| f.field.clone())
}

fn bytes_of(said: &Assessment) -> Vec<Bytes> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Snapshots(snapshots::Step::Forget { bytes, .. }) => Some(*bytes),
        _ => None,
    });
    all.collect()
}

/// If this fails, a snapshot is begun that can't be taken, or one that fills the volume comes as a surprise.
#[test]
fn what_speaks_against_a_snapshot_is_said_beside_its_field() {
    use Severity::{Clear, Stop};
    let small = fixture(1);
    let said = put(&small, &take(|_| {}));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Clear, "for 10 s at most");
    assert_eq!(
        field(
            &put(&small, &take(|t| t.name = " ".into())),
            "Give it a name"
        )
        .as_deref(),
        Some("name")
    );
    says(
        &put(&small, &take(|t| t.machines.clear())),
        Stop,
        "No machine is selected",
    );
    says(
        &put(&small, &take(|t| t.ends = Some(Span(0)))),
        Stop,
        "as soon as it is taken",
    );
    // 1 MiB/s for a day are 84 GiB, but no more than it holds can be written over.
    let said = put(&small, &take(|_| {}));
    let room = said
        .findings()
        .iter()
        .find(|f| f.text.contains("until it ends"))
        .unwrap();
    let most = Bytes::gib(50).to_string();
    assert!(room.text.contains(&most), "{}", room.text);
    let said = put(&small, &take(|t| t.memory = true));
    says(
        &said,
        Clear,
        &format!("{} of memory are written in about", Bytes::gib(20)),
    );
    // Off: nothing stands still, nothing of memory.
    let said = put(
        &small,
        &take(|t| (t.machines, t.memory) = (vec![OLD], true)),
    );
    assert!(
        !said.findings().iter().any(|f| f.text.contains("of memory")),
        "{:#?}",
        worse(&said)
    );
}

/// If this fails, somebody relies on a state that no database can start from, or takes one where none can be taken.
#[test]
fn what_a_machine_does_not_allow_is_said_of_it() {
    use Severity::{Mind, Stop, Unchecked};
    let mut silent = fixture(1);
    on(&mut silent, DB, |m| {
        m.state = MachineState::Running { guest: false }
    });
    says(
        &put(&silent, &take(|_| {})),
        Mind,
        "theirs are as after a power cut",
    );
    says(
        &put(&silent, &take(|t| t.quiet = Quiet::Only)),
        Mind,
        "no snapshot of them is taken",
    );

    let mut unmeasured = fixture(1);
    unmeasured.view.loads = Loads::default().into();
    says(
        &put(&unmeasured, &take(|_| {})),
        Unchecked,
        "Nobody measured how fast db write",
    );

    let mut moving = fixture(1);
    on(&mut moving, DB, |m| m.arriving = Some(HostId(2)));
    says(&put(&moving, &take(|_| {})), Stop, "db is being moved");

    let mut deep = fixture(1);
    let chain = |m: &mut Machine, n: u128| {
        m.snapshots.all = (1..=n)
            .map(|i| snapshot(i, i.checked_sub(1).filter(|p| *p > 0), Moment(0)))
            .collect();
        m.snapshots.rests_on = Some(id(n));
    };
    on(&mut deep, DB, |m| chain(m, 5));
    says(
        &put(&deep, &take(|_| {})),
        Mind,
        "its reads take about 12 % longer",
    );
    on(&mut deep, DB, |m| {
        chain(m, u128::try_from(DEEPEST).unwrap() - 1)
    });
    says(
        &put(&deep, &take(|_| {})),
        Stop,
        "more than 24 are not taken",
    );
}

/// If this fails, somebody deletes snapshots and learns an hour later that it takes a day, or that nothing is free.
#[test]
fn what_deleting_costs_is_told_from_the_bitmaps() {
    use Severity::{Mind, Stop, Unchecked};
    let mut small = fixture(1);
    with_two(&mut small);
    let said = put(&small, &forget(Which::These(vec![id(1)])));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    // |s1 \ s2| = 900 blocks, |s2| = 200: down. |s1 ∩ s2| = 100.
    assert_eq!(bytes_of(&said), [GRAIN.times(200)]);
    let freed = GRAIN.times(100);
    says(&said, Mind, &format!("{freed} are free again"));
    // Both: the 200 of s2, then the 10 that are written to.
    let said = put(&small, &forget(Which::Branch(vec![id(1)])));
    assert_eq!(bytes_of(&said), [GRAIN.times(210)]);
    assert_eq!(
        bytes_of(&put(&small, &forget(Which::All))),
        [GRAIN.times(210)]
    );
    assert_eq!(
        bytes_of(&put(&small, &forget(Which::OlderThan(Span::days(30))))),
        [GRAIN.times(200)]
    );
    says(
        &put(&small, &forget(Which::OlderThan(Span::days(50)))),
        Stop,
        "older than 50 days",
    );
    says(
        &put(&small, &forget(Which::These(vec![]))),
        Stop,
        "No snapshot is chosen",
    );
    says(
        &put(&small, &forget(Which::All)),
        Mind,
        "can't go back to 2 snapshots any more",
    );

    // A copy that is no faster than what is written never ends; one that rests does.
    let mut fast = fixture(2_000);
    with_two(&mut fast);
    says(
        &put(&fast, &forget(Which::All)),
        Stop,
        "it never gets there",
    );
    assert!(!put(&fast, &forget(Which::These(vec![id(1)]))).blocked());

    // What was read before is not what is: another snapshot came.
    on(&mut small, DB, |m| {
        m.snapshots.take(snapshot(3, Some(2), Moment(0)))
    });
    says(
        &put(&small, &forget(Which::All)),
        Unchecked,
        "were not read",
    );
}

/// If this fails, somebody goes back who did not know what that loses, or what runs afterwards.
#[test]
fn who_goes_back_reads_what_is_lost_and_what_runs_then() {
    use Severity::{Mind, Stop, Unchecked};
    let mut small = fixture(1);
    with_two(&mut small);
    let back = |to: Option<Uuid>, keep| {
        Proposal::Snapshots(Ask::Back(Back {
            machine: DB,
            to,
            keep,
        }))
    };
    let said = put(&small, &back(Some(id(1)), true));
    // 900..1100 and 1050..1060, each once.
    says(
        &said,
        Mind,
        &format!("without {} written since", GRAIN.times(200)),
    );
    says(&said, Mind, "as after a power cut");
    let kinds: Vec<_> = said.steps().iter().map(|p| p.step.group()).collect();
    assert_eq!(kinds, ["take a snapshot", "go back to a snapshot"]);
    assert_eq!(said.steps()[1].after, [0], "first what is now is kept");
    let said = put(&small, &back(Some(id(1)), false));
    says(&said, Mind, "is lost for good");
    assert_eq!(said.steps().len(), 1);
    says(&put(&small, &back(None, true)), Stop, "Choose the snapshot");
    says(
        &put(&small, &back(Some(id(8)), true)),
        Stop,
        "Choose the snapshot",
    );
    on(&mut small, DB, |m| {
        m.snapshots.all[0].consistent = Consistent::Memory
    });
    says(
        &put(&small, &back(Some(id(1)), true)),
        Mind,
        "goes on with the memory",
    );
    small.view.evidence = Default::default();
    says(
        &put(&small, &back(Some(id(1)), true)),
        Unchecked,
        "was not read",
    );
}

#[test]
fn until_when_one_is_kept_changes_nothing_but_that() {
    let mut small = fixture(1);
    with_two(&mut small);
    let keep = |ends| {
        Proposal::Snapshots(Ask::Keep(Keep {
            machine: DB,
            snapshot: Some(id(1)),
            note: " for the audit ".into(),
            ends,
        }))
    };
    says(
        &put(&small, &keep(Some(Span(0)))),
        Severity::Stop,
        "Delete it instead",
    );
    let accepted = put(&small, &keep(Some(Span::days(2)))).accept().unwrap();
    small.begin(accepted);
    let kept = small.view.estate.machines[&DB]
        .snapshots
        .get(id(1))
        .unwrap()
        .clone();
    assert_eq!(kept.note, "for the audit");
    assert_eq!(kept.ends, Some(small.now.plus(Span::days(2))));
}

/// If this fails, the tree on the page is another than that on the volume.
#[test]
fn the_tree_follows_what_is_taken_gone_back_to_and_deleted() {
    let mut all = Snapshots::default();
    for n in 1..=3 {
        let parent = all.rests_on.map(|u| u.as_u128());
        all.take(snapshot(n, parent, Moment(i64::try_from(n).unwrap())));
    }
    all.go_back(id(1));
    all.take(snapshot(4, Some(1), Moment(4)));
    assert_eq!(all.above(id(1)), [id(2), id(4), id(3)]);
    assert_eq!(all.below(id(3)), [id(3), id(2), id(1)]);
    all.forget(&[id(1), id(2)]);
    assert_eq!(all.get(id(3)).unwrap().parent, None);
    assert_eq!((all.rests_on, all.depth()), (Some(id(4)), 1));
    all.forget(&[id(4)]);
    assert_eq!((all.rests_on, all.depth()), (None, 0));
}

/// If this fails, a snapshot that somebody took at the host is not seen, or its end is forgotten with the next report.
#[test]
fn what_a_host_tells_of_snapshots_is_taken_in_and_our_own_words_stay() {
    let mut small = fixture(1);
    with_two(&mut small);
    on(&mut small, DB, |m| {
        m.snapshots.all[0].ends = Some(Moment(5))
    });
    let machine = small.view.estate.machines[&DB].clone();
    let known = &small.view.estate.machines[&DB];
    let state = (7, known.state.clone(), known.generation);
    let mut told = crate::observing::report(&small.view.estate, 9, &[state]);
    let seen = told
        .machines
        .iter_mut()
        .find(|m| m.uuid == machine.uuid)
        .unwrap();
    let mut there = machine.snapshots.clone();
    there.all[0].ends = None;
    seen.snapshots = Some(there.clone());
    let news = |told: &HostReport| {
        let events = compare(&small.view, HostId(1), told, small.now);
        events.into_iter().find_map(|e| match e {
            Event::Snapshots(snapshots::Event::Seen { snapshots, .. }) => Some(snapshots),
            _ => None,
        })
    };
    assert_eq!(news(&told), None, "nothing is new");
    there.all.push(snapshot(9, Some(2), Moment(9)));
    there.rests_on = Some(id(9));
    let seen = told
        .machines
        .iter_mut()
        .find(|m| m.uuid == machine.uuid)
        .unwrap();
    seen.snapshots = Some(there);
    let found = news(&told);
    let found = found.unwrap();
    assert_eq!(found.all.len(), 3);
    assert_eq!(found.get(id(1)).unwrap().ends, Some(Moment(5)));
}
