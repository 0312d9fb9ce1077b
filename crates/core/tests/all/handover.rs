//! Machines that go on at the other site: what they keep, what lies behind, and in which order a planned move does what.

use crate::{
    backups::{self, STORE},
    drilling::before,
    plans::{PLAN, WAY, fleet, plan, put, stage},
    pledges::{HOUR, NOW, on},
    replicas::{HERE, JOB, PAIR, REPLICA, THERE, assessed, replicated, stops},
};
use proptest::prelude::*;
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        AnyPoint, Consistent, Crossed, Disk, Equal, Fact, Job, Kind, Machine, MachineState, Nic,
        PassageKind, Pen, Pledged, Series, Snapshot, Stage, Then, Wanted, Way,
    },
    finding::Severity,
    ids::{HostId, MachineId, SeriesId},
    moment::Span,
    road::{Premise, Tale, Work},
    rooms::{
        Assessment, Proposal, Step, answers,
        backups::JobRun,
        handover::{self, Shift},
        machines::{self, AfterGrace},
        passages, plans,
        replicas::{self, Member},
        replicating, snapshots,
    },
    testkit::Small,
    units::Bytes,
};

pub(crate) const DB: MachineId = MachineId(7);
pub(crate) const LEADS: Crossed = Crossed {
    pair: PAIR,
    from: HERE,
    at: NOW,
};

/// The state that both hold, as a mark of the original.
pub(crate) fn marked(small: &mut Small, machine: u64, point: u128) {
    on(small, machine, |m| {
        m.state = MachineState::Off;
        m.wanted = Wanted::Off;
        m.host = None;
        m.snapshots.take(Snapshot {
            uuid: Uuid::from_u128(point),
            name: "as it went over".into(),
            note: String::new(),
            taken: NOW,
            parent: None,
            consistent: Consistent::Off,
            memory: None,
            disks: Some(1),
            ends: None,
        });
    });
}

pub(crate) fn cross(
    small: &mut Small,
    way: Crossed,
    (machine, replica): (MachineId, MachineId),
    behind: &str,
) {
    let event = replicas::Event::Crossed {
        machine,
        replica,
        way,
        behind: behind.into(),
        forced: false,
    };
    small.alter(|e| event.absorb(&mut Pen::on(e)));
}

fn shift() -> Proposal {
    Proposal::Handover(handover::Ask::Shift(Shift {
        plan: PLAN,
        grace: Span::mins(2),
        then: AfterGrace::LeaveOn,
        typed: "harbour".into(),
    }))
}

/// If this fails, a machine that went over lost its labels, its addresses or its rules, or hosts are asked for one that they don't have.
#[test]
fn it_keeps_what_it_is_and_lies_where_its_replica_lay() {
    let mut small = replicated(&[Span::days(1), HOUR]);
    let address = "10.0.0.9".parse().unwrap();
    let nic = |mac: &str, addresses| Nic {
        mac: mac.into(),
        network: None,
        addresses,
    };
    on(&mut small, 7, |m| {
        m.nics = vec![nic("02:00:00:00:00:01", vec![address])];
        m.tier = 1;
        m.vcpus = 6;
    });
    on(&mut small, REPLICA.0, |m| {
        m.nics = vec![nic("02:00:00:00:00:aa", vec![])];
    });
    marked(&mut small, 7, 2);
    let estate = small.view.estate.clone();
    let (had, kept) = (&estate.machines[&DB], &estate.machines[&REPLICA]);
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    let estate = &small.view.estate;
    let (now, left) = (&estate.machines[&DB], &estate.machines[&REPLICA]);
    assert_eq!(
        (&now.name, &now.labels, now.tier),
        (&had.name, &had.labels, 1)
    );
    assert_eq!((now.uuid, now.cluster), (kept.uuid, kept.cluster));
    assert_eq!(now.disks, kept.disks);
    assert_eq!(now.nics[0].mac, "02:00:00:00:00:aa");
    assert_eq!(now.nics[0].addresses, [address], "the guest keeps them");
    assert!(left.nics[0].addresses.is_empty(), "nobody else has them");
    assert_eq!((left.uuid, left.vcpus), (had.uuid, 6));
    assert_eq!(left.name, "db-quayside");
    assert!(left.labels.is_empty(), "no job and no plan takes it for db");
    let of = left.replica.as_ref().unwrap();
    assert_eq!((of.of, of.pair), (now.uuid, PAIR));
    assert_eq!(of.twin(now.disks[0].key), Some(left.disks[0].key));
    assert_eq!(left.follows().map(|p| p.session), Some(Uuid::from_u128(2)));
    assert_eq!(now.crossed, Some(LEADS));
    assert_eq!(now.kept_points().count(), 2, "what it was is still there");
    // Both are found by what hosts call them, and nothing by what neither is.
    assert_eq!(
        estate.machine_with_uuid(&had.uuid).map(|m| m.id),
        Some(REPLICA)
    );
    assert_eq!(estate.machine_with_uuid(&kept.uuid).map(|m| m.id), Some(DB));
    assert_eq!(
        estate.replica_over(PAIR, now.uuid).map(|m| m.id),
        Some(REPLICA)
    );
    assert!(estate.replica_over(PAIR, had.uuid).is_none());
    assert_eq!(estate.machine_named("db").map(|m| m.id), Some(DB));
}

/// If this fails, whoever comes back is not what it was, or the second way back copies everything.
#[test]
fn there_and_back_is_as_it_was() {
    let mut small = replicated(&[HOUR]);
    marked(&mut small, 7, 1);
    let before = small.view.estate.machines[&DB].clone();
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    // What it has there is marked, and came back.
    let back = Crossed {
        from: THERE,
        ..LEADS
    };
    cross(&mut small, back, (DB, REPLICA), "db-hilltop");
    let estate = &small.view.estate;
    let (now, left) = (&estate.machines[&DB], &estate.machines[&REPLICA]);
    assert_eq!(now.crossed, None, "it is where it belongs");
    assert_eq!((now.uuid, now.cluster), (before.uuid, before.cluster));
    assert_eq!(now.was, [left.uuid]);
    assert_eq!(now.disks, before.disks);
    assert_eq!(left.follows().map(|p| p.session), Some(Uuid::from_u128(1)));
    assert_eq!(left.name, "db-hilltop");
    // Another of the kind that is not its replica is left alone.
    let stranger = estate.machines[&DB].crosses(&estate.machines[&DB], LEADS, ("x", false));
    assert!(stranger.is_none());
}

/// If this fails, what stores have of a machine is nobody's once it has moved, or its next copy goes on where it never was.
#[test]
fn what_stores_have_of_it_stays_its_own() {
    let mut small = replicated(&[HOUR]);
    marked(&mut small, 7, 1);
    let uuid = small.view.estate.machines[&DB].uuid;
    let store = STORE;
    small.alter(|e| {
        e.put(Fact::Store(Arc::new(backups::store(HERE))));
        e.put(Fact::Series(Arc::new(Series {
            id: SeriesId(801),
            store,
            machine: uuid,
            name: "db".into(),
            points: vec![backups::point(HOUR, Consistent::Quiet, Bytes::gib(1))],
        })));
    });
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    let estate = &small.view.estate;
    let (now, left) = (&estate.machines[&DB], &estate.machines[&REPLICA]);
    assert_eq!(estate.whose(&uuid).map(|m| m.id), Some(DB));
    assert_eq!(estate.backups_of(now).count(), 1);
    assert_eq!(
        estate.backups_of(left).count(),
        0,
        "it is no machine of its own"
    );
    assert!(
        estate.backups_at(now, store).is_none(),
        "another body, another chain"
    );
}

/// If this fails, nobody copies what a machine writes once it has moved, or machines of the other site are copied that nobody named.
#[test]
fn its_job_brings_back_what_it_writes_there() {
    let mut small = fleet(1);
    marked(&mut small, 7, 1);
    // Somebody of the other site has the same labels.
    small.alter(|e| {
        let mut other = Machine::clone(&e.machines[&MachineId(200)]);
        other.id = MachineId(300);
        other.uuid = Uuid::from_u128(300);
        other.name = "there".into();
        other.replica = None;
        other.labels = e.machines[&DB].labels.clone();
        e.put(Fact::Machine(Arc::new(other)));
    });
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    let estate = small.view.estate.clone();
    let job: &Arc<Job> = &estate.jobs[&JOB];
    let who: Vec<MachineId> = estate.in_job(job).iter().map(|m| m.id).collect();
    assert_eq!(who, [DB, MachineId(100)]);
    let back = Way { from: THERE, ..WAY };
    assert_eq!(estate.goes(&estate.machines[&DB], WAY), Some(back));
    assert_eq!(estate.goes(&estate.machines[&MachineId(300)], WAY), None);
    let run = JobRun {
        job: JOB,
        by_hand: true,
    };
    let said = assessed(&small, &Proposal::Replicating(replicating::Ask::Job(run)));
    let ways: BTreeMap<MachineId, Way> = said
        .steps()
        .iter()
        .filter_map(|s| match &s.step {
            Step::Replicating(replicating::Step::Replica(replicas::Step::Follow {
                machine,
                way,
                ..
            })) => Some((*machine, *way)),
            _ => None,
        })
        .collect();
    assert_eq!(ways, [(DB, back), (MachineId(100), WAY)].into());
}

/// What a step of a move does, to whom.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Is {
    Marked(MachineId),
    Brought(MachineId),
    Equal(MachineId),
    Resting,
    Stopping(MachineId),
    Stopped(MachineId),
    Over,
    Told(MachineId),
    On(MachineId),
    Asked(MachineId),
    Judged(usize),
    Mended(usize),
    Open(usize),
    Closed(usize),
    Between(u64),
    Released(MachineId),
    Turned,
    End,
}

fn is(step: &Step) -> Is {
    use handover::Step as S;
    use passages::Step as P;
    let Step::Handover(step) = step else {
        panic!("{step:?}")
    };
    match step {
        S::Snap(snapshots::Step::Take { machine, .. }) => Is::Marked(*machine),
        S::Snap(snapshots::Step::Forget { machine, .. }) => Is::Released(*machine),
        S::Replica(replicas::Step::Follow { machine, .. }) => Is::Brought(*machine),
        S::Replica(replicas::Step::Compare { machine, .. }) => Is::Equal(*machine),
        S::Replica(replicas::Step::Rest { .. }) => Is::Resting,
        S::Replica(replicas::Step::Over { .. }) => Is::Over,
        S::Replica(replicas::Step::Settle(s)) => Is::Told(s.machine),
        S::Machine(machines::Step::AskStop { machine }) => Is::Stopping(*machine),
        S::Machine(machines::Step::AwaitOff { machine, .. }) => Is::Stopped(*machine),
        S::Machine(machines::Step::Start { machine, .. }) => Is::On(*machine),
        S::Try(answers::Step::Try { machine, .. }) => Is::Asked(*machine),
        S::Passage(P::Judge { stage, .. }) => Is::Judged(*stage),
        S::Passage(P::Mend { stage, .. }) => Is::Mended(*stage),
        S::Passage(P::Open { stage, .. }) => Is::Open(*stage),
        S::Passage(P::Close { stage, .. }) => Is::Closed(*stage),
        S::Passage(P::Turn { .. }) => Is::Turned,
        S::Passage(P::End { .. }) => Is::End,
        S::Passage(
            P::Ask { mark, .. }
            | P::Hear { mark, .. }
            | P::Pause { mark, .. }
            | P::Command { mark, .. },
        ) => Is::Between(*mark),
        other => panic!("{other:?}"),
    }
}

/// What must be so of any move, whoever is in its plan: told by who is before whom, not by how it is planned.
fn sound(said: &Assessment, stages: &[Vec<(MachineId, bool)>]) {
    let kinds: Vec<Is> = said.steps().iter().map(|s| is(&s.step)).collect();
    let before = before(said);
    let all =
        |wanted: Is| -> Vec<usize> { (0..kinds.len()).filter(|n| kinds[*n] == wanted).collect() };
    let one = |wanted: Is| -> usize {
        let found = all(wanted);
        assert_eq!(found.len(), 1, "{wanted:?} of {kinds:?}");
        found[0]
    };
    let came_before = |first: usize, then: usize| {
        assert!(
            before[then].contains(&first),
            "{:?} before {:?}",
            kinds[first],
            kinds[then]
        );
    };
    let over = one(Is::Over);
    let (turned, end) = (one(Is::Turned), one(Is::End));
    let everybody: Vec<(usize, MachineId, bool)> = stages
        .iter()
        .enumerate()
        .flat_map(|(n, own)| own.iter().map(move |(id, on)| (n, *id, *on)))
        .collect();
    for (n, id, on) in &everybody {
        // Up to date while they run, and once more when nobody runs any more.
        let brought = all(Is::Brought(*id));
        assert_eq!(brought.len(), if *on { 2 } else { 1 });
        let last = *brought.last().unwrap();
        came_before(*all(Is::Marked(*id)).last().unwrap(), last);
        came_before(last, one(Is::Equal(*id)));
        came_before(one(Is::Equal(*id)), over);
        came_before(over, one(Is::Told(*id)));
        if !on {
            assert!(all(Is::On(*id)).is_empty() && all(Is::Stopping(*id)).is_empty());
            continue;
        }
        let (stopping, off) = (one(Is::Stopping(*id)), one(Is::Stopped(*id)));
        for (_, other, was_on) in &everybody {
            if *was_on {
                // Nobody is stopped before everybody was brought up to date.
                came_before(all(Is::Brought(*other))[0], stopping);
                // And what is brought last is of an instant at which nobody runs.
                came_before(off, *all(Is::Marked(*other)).last().unwrap());
            }
        }
        // The last stage stops first.
        for (later, other, was_on) in &everybody {
            if later > n && *was_on {
                came_before(one(Is::Stopped(*other)), stopping);
            }
        }
        came_before(one(Is::Told(*id)), one(Is::On(*id)));
        came_before(one(Is::On(*id)), one(Is::Asked(*id)));
        came_before(one(Is::Open(n + 2)), one(Is::On(*id)));
        came_before(one(Is::Asked(*id)), one(Is::Judged(n + 2)));
        came_before(one(Is::Mended(n + 2)), one(Is::Closed(n + 2)));
    }
    for n in 0..stages.len() + 1 {
        came_before(one(Is::Closed(n)), one(Is::Open(n + 1)));
    }
    came_before(one(Is::Closed(stages.len() + 1)), turned);
    assert_eq!(
        before[end].len(),
        kinds.len() - 1,
        "the report is the last of all"
    );
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]

    /// If this fails, something starts there before all of it is there, stops while others are still being copied, or is forgotten.
    #[test]
    fn nobody_starts_there_before_everything_is_there(
        sizes in prop::collection::vec(1usize..4, 1..4),
        on_or_off in prop::collection::vec(prop::bool::weighted(0.8), 12),
        in_turn in prop::bool::ANY,
    ) {
        let count: usize = sizes.iter().sum();
        let mut small = fleet(u64::try_from(count).unwrap());
        let mut ids = 100u64..;
        let mut stages = Vec::new();
        let mut kinds = Vec::new();
        let mut is_on = on_or_off.iter().copied();
        for (n, size) in sizes.iter().enumerate() {
            let own: Vec<u64> = ids.by_ref().take(*size).collect();
            kinds.push(own.iter().map(|id| (MachineId(*id), is_on.next().unwrap_or(true))).collect::<Vec<_>>());
            stages.push(Stage { in_turn, ..stage(&format!("s{n}"), &own) });
        }
        for (id, is_on) in kinds.iter().flatten() {
            if !is_on {
                on(&mut small, id.0, |m| {
                    m.state = MachineState::Off;
                    m.host = None;
                    m.wanted = Wanted::Off;
                });
            }
        }
        put(&mut small, plan(stages));
        let said = assessed(&small, &shift());
        prop_assert!(stops(&said).is_empty(), "{:?}", stops(&said));
        sound(&said, &kinds);
    }
}

/// If this fails, a plan is moved by somebody who typed something else, or the page forgets what a move was foretold to take.
#[test]
fn a_move_is_confirmed_and_foretold() {
    let mut small = fleet(1);
    let mut stages = vec![stage("stores", &[7]), stage("fronts", &[100])];
    stages[0].then = vec![Then::Confirm {
        text: "the ledger opens".into(),
    }];
    put(&mut small, plan(stages));
    let Proposal::Handover(handover::Ask::Shift(asked)) = shift() else {
        unreachable!()
    };
    let typed = Proposal::Handover(handover::Ask::Shift(Shift {
        typed: "other".into(),
        ..asked
    }));
    let said = assessed(&small, &typed);
    assert_eq!(stops(&said)[0].field.as_deref(), Some("typed"));
    let said = assessed(&small, &shift());
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    small.begin(said.accept().unwrap());
    let passage = small.view.estate.passages.values().next().unwrap().clone();
    assert_eq!((passage.kind, passage.stages.len()), (PassageKind::Move, 4));
    let names: Vec<&str> = passage.stages.iter().map(|s| s.name.as_str()).collect();
    assert_eq!(names[2..], ["stores", "fronts"]);
    assert!(
        passage.stages.iter().all(|s| s.foretold > Span(0)),
        "{:?}",
        passage.stages
    );
    let asks: Vec<bool> = passage.stages[2].then.iter().map(|b| b.holds).collect();
    assert_eq!(
        asks,
        [true, false],
        "first whether all are well, then what the plan says"
    );
    // Nothing of it is so before it is its turn: all run, and shall run.
    let db = &small.view.estate.machines[&DB];
    assert_eq!(
        (db.wanted, db.is_off(), db.crossed),
        (Wanted::On, false, None)
    );
    let again = assessed(&small, &shift());
    assert!(
        stops(&again)
            .iter()
            .any(|f| f.text.contains("being carried out already"))
    );
}

/// If this fails, machines are stopped that could not get there, or come there without what they need.
#[test]
fn whatever_is_missing_is_found_before_anything_stops() {
    let stopped = |change: &dyn Fn(&mut Small)| -> Vec<String> {
        let mut small = fleet(1);
        put(&mut small, plan(vec![stage("stores", &[7, 100])]));
        change(&mut small);
        let said = assessed(&small, &shift());
        stops(&said).iter().map(|f| f.text.clone()).collect()
    };
    assert!(stopped(&|_| {}).is_empty(), "{:?}", stopped(&|_| {}));
    let found = |words: &str, change: &dyn Fn(&mut Small)| {
        let all = stopped(change);
        assert!(all.iter().any(|t| t.contains(words)), "{words}: {all:?}");
    };
    found("no job replicates it", &|s| {
        s.alter(|e| drop(e.jobs.remove(&JOB)))
    });
    found("can't carry itself over", &|s| {
        on(s, 7, |m| m.carries = true)
    });
    found("has no replica", &|s| {
        s.alter(|e| e.remove(Kind::Machine, 200))
    });
    let ages: Vec<Span> = (1..=22).rev().map(Span::days).collect();
    let mut deep = replicated(&ages);
    put(&mut deep, plan(vec![stage("stores", &[7])]));
    let said = assessed(&deep, &shift());
    assert!(
        stops(&said)
            .iter()
            .any(|f| f.text.contains("lie on each other")),
        "found while it runs, not at the last copy: {:?}",
        stops(&said)
    );
    found("being moved", &|s| {
        on(s, 7, |m| m.arriving = Some(HostId(2)))
    });
    let no_hosts = |s: &mut Small| {
        for id in [3, 4] {
            s.alter(|e| e.remove(Kind::Host, id));
        }
    };
    assert!(
        !stopped(&no_hosts).is_empty(),
        "nobody is there to take them"
    );
}

/// If this fails, nobody hears that something of a machine stays behind.
#[test]
fn what_stays_behind_is_said() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("stores", &[7])]));
    on(&mut small, 7, |m| {
        let more = Disk {
            key: Uuid::from_u128(71),
            ..m.disks[0]
        };
        m.disks.push(more);
        m.pledged = Some(Box::new(Pledged {
            except: [Uuid::from_u128(71)].into(),
            ..Default::default()
        }));
        m.snapshots.take(Snapshot {
            uuid: Uuid::from_u128(99),
            name: "before the upgrade".into(),
            note: String::new(),
            taken: NOW.before(HOUR),
            parent: None,
            consistent: Consistent::Crash,
            memory: None,
            disks: None,
            ends: None,
        });
    });
    small.alter(|e| {
        let mut job = Job::clone(&e.jobs[&JOB]);
        job.how.leaves_out = true;
        e.put(Fact::Job(Arc::new(job)));
    });
    let said = assessed(&small, &shift());
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    let minds: Vec<&str> = said
        .findings()
        .iter()
        .filter(|f| f.severity == Severity::Mind)
        .map(|f| f.text.as_str())
        .collect();
    for words in [
        "disks of which nothing is promised stay",
        "snapshots that somebody took stay",
    ] {
        assert!(
            minds.iter().any(|t| t.contains(words)),
            "{words}: {minds:?}"
        );
    }
}

/// If this fails, what was not equal at both sides goes on there, or what was written while it went over is lost.
#[test]
fn nothing_goes_over_that_is_not_what_it_was() {
    let mut small = replicated(&[HOUR]);
    marked(&mut small, 7, 1);
    let step = |point| {
        let member = Member {
            machine: DB,
            replica: REPLICA,
            behind: "db-quayside".into(),
            point: Uuid::from_u128(point),
        };
        Step::Handover(handover::Step::Replica(replicas::Step::Over {
            way: WAY,
            members: vec![member],
            forced: false,
        }))
    };
    assert!(matches!(step(1).premise(&small.view), Premise::Holds));
    assert!(
        !matches!(step(5).premise(&small.view), Premise::Holds),
        "another point"
    );
    on(&mut small, 7, |m| {
        m.state = MachineState::Running { guest: true }
    });
    assert!(
        !matches!(step(1).premise(&small.view), Premise::Holds),
        "it runs"
    );
    marked(&mut small, 7, 1);
    cross(&mut small, LEADS, (DB, REPLICA), "db-quayside");
    assert!(
        matches!(step(1).premise(&small.view), Premise::Reached(_)),
        "done twice is done once"
    );
    let equal = Equal {
        at: NOW,
        extents: 4,
        all: false,
    };
    let compared = replicas::Event::Compared {
        machine: REPLICA,
        point: Uuid::from_u128(1),
        equal,
    };
    small.alter(|e| compared.absorb(&mut Pen::on(e)));
    let at = AnyPoint::Replicated {
        replica: REPLICA,
        session: Uuid::from_u128(1),
    };
    assert_eq!(at.found(&small.view.estate).unwrap().equal, Some(equal));
}

/// If this fails, whoever turns a plan round isn't told what is missing, or drills of it are forgotten.
#[test]
fn a_plan_is_turned_round_and_what_is_missing_is_said() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("stores", &[7])]));
    let ask = Proposal::Plans(plans::Ask::Turn { plan: PLAN });
    let said = assessed(&small, &ask);
    assert!(stops(&said).is_empty());
    let texts: Vec<&str> = said.findings().iter().map(|f| f.text.as_str()).collect();
    assert!(
        texts.iter().any(|t| t.contains("db is not at Hilltop")),
        "{texts:?}"
    );
    small.begin(said.accept().unwrap());
    let turned = &small.view.estate.plans[&PLAN];
    assert_eq!((turned.way.from, turned.edition), (THERE, 2));
}
