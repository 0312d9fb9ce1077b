//! Proofs: what is asked of guests, what a proof is worth for promises, when the next is due, in which order it is done, and what is
//! refused.

use crate::{
    backups::{STORE, assessed, point, size, with},
    jobs::{JOB, job},
    pledges::{HOUR, NOW, hourly, on},
};
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        AnyPoint, Came, Clauses, Consistent, Fact, FirmwareKind, Host, HostNet, Job, Kept,
        KeptDisk, Machine, MachineState, PointAt, Proof, Question, Reply, Series, StoredPoint,
        Taker,
    },
    evidence::{Answer, Probe},
    ids::{ClusterId, MachineId, NetworkId, SeriesId, SiteId},
    moment::{Moment, Span},
    pledges::{Promise, Promises, Sort, Standing},
    rooms::{
        Assessment, Proposal, Step, answers, machines,
        proving::{self, ProvePoint},
    },
    testkit::{Small, network},
    units::Bytes,
};

const DB: MachineId = MachineId(7);
const DAY: Span = Span::days(1);

fn proof(age: Span, took: Span, good: bool) -> Option<Box<Proof>> {
    Some(Box::new(Proof {
        at: NOW.before(age),
        host: "h1".into(),
        copy: "proof-db".into(),
        took,
        booted: Span::secs(40),
        came: if good { Came::Up } else { Came::Silent },
        said: String::new(),
        replies: vec![],
        with: vec![],
        picture: None,
    }))
}

/// Machine 7 with points so old, each with what came of it.
fn proven(clauses: Clauses, points: &[(Span, Option<Box<Proof>>)]) -> Small {
    let all = size(&with(hourly(Taker::Any), SiteId(990), vec![]));
    let points = points.iter().map(|(age, proof)| StoredPoint {
        job: Some(JOB),
        equal: None,
        proof: proof.clone(),
        ..point(*age, Consistent::Quiet, all)
    });
    with(clauses, SiteId(990), points.collect())
}

fn proves(small: &mut Small, every: Option<Span>) {
    let job = Job {
        proves: every,
        ..job("7 days")
    };
    small.alter(|e| e.put(Fact::Job(Arc::new(job))));
}

fn stands(small: &Small, sort: Sort) -> (Standing, String) {
    let estate = &small.view.estate;
    let promise = Promise::of(estate, &estate.machines[&DB], NOW).unwrap();
    let judged = promise.of_sort(sort).unwrap();
    (judged.standing, judged.why.clone())
}

proptest! {
    /// If this fails, a question changes whenever somebody opens the sheet and keeps it as it was.
    #[test]
    fn a_question_is_read_as_it_is_written(
        port in 1u16.., status in 100u16..600, path in "/[a-z/]{0,9}", text in "([a-z]+( [a-z]+)?)?", command in "[a-z]+( -[a-z]+)?"
    ) {
        for question in [
            Question::Tcp { port },
            Question::Http { port, path: path.clone(), status, text: text.clone() },
            Question::Run { command: command.clone() },
        ] {
            prop_assert_eq!(question.to_string().parse::<Question>(), Ok(question));
        }
    }
}

/// If this fails, what nobody meant is asked of guests, or a mistake is told without what would be right.
#[test]
fn what_is_no_question_is_told_with_its_line() {
    for wrong in [
        "ping",
        "tcp 0",
        "tcp 70000",
        "tcp",
        "http 80 health",
        "http 80 / ok",
        "run",
        "smtp 25",
    ] {
        assert!(wrong.parse::<Question>().is_err(), "{wrong}");
    }
    let usual: Question = "http 8080".parse().unwrap();
    assert_eq!(usual.to_string(), "http 8080 / 200");
    let small = proven(hourly(Taker::Any), &[]);
    let must = |text: &str| {
        let ask = answers::Ask::Must {
            machines: vec![DB],
            questions: text.into(),
        };
        assessed(&small, &Proposal::Answers(ask))
    };
    let said = must("tcp 22\n\ntcp x");
    let stop = said.findings().iter().find(|f| f.stops()).unwrap();
    assert!(stop.text.starts_with("Line 3:"), "{}", stop.text);
    assert_eq!(stop.field.as_deref(), Some("questions"));
    let many: Vec<String> = (1..22).map(|n| format!("tcp {n}")).collect();
    assert!(must(&many.join("\n")).findings().iter().any(|f| f.stops()));
    assert!(
        must("").findings().iter().any(|f| f.stops()),
        "nothing is changed"
    );
    let twice = must("tcp 22\ntcp 22");
    let mut then = proven(hourly(Taker::Any), &[]);
    then.begin(twice.accept().unwrap());
    let must = &then.view.estate.machines[&DB].must;
    assert_eq!(must.as_slice(), [Question::Tcp { port: 22 }], "asked once");
}

/// If this fails, a copy that did not come up counts as proof, or one that did counts for ever.
#[test]
fn only_a_copy_that_came_up_counts_and_not_for_ever() {
    let weekly = || Clauses {
        proved: Some(Span::days(7)),
        ..Clauses::default()
    };
    let (hours, quick) = (Span::mins(120), Span::mins(5));
    for (points, standing) in [
        (vec![(hours, None)], Standing::Broken),
        (vec![(hours, proof(HOUR, quick, false))], Standing::Broken),
        (vec![(hours, proof(HOUR, quick, true))], Standing::Kept),
        (
            vec![(Span::days(9), proof(Span::days(8), quick, true))],
            Standing::Broken,
        ),
        // A later one did not come up: what was proven is not what there is now.
        (
            vec![
                (DAY, proof(DAY, quick, true)),
                (hours, proof(HOUR, quick, false)),
            ],
            Standing::AtRisk,
        ),
    ] {
        let mut small = proven(weekly(), &points);
        proves(&mut small, Some(Span::days(3)));
        assert_eq!(stands(&small, Sort::Proved).0, standing, "{points:?}");
    }
    let good = || [(hours, proof(HOUR, quick, true))];
    for (every, standing) in [
        (None, Standing::AtRisk),
        (Some(Span::days(7)), Standing::AtRisk),
        (Some(Span::days(6)), Standing::AtRisk),
    ] {
        let mut small = proven(weekly(), &good());
        proves(&mut small, every);
        assert_eq!(stands(&small, Sort::Proved).0, standing, "{every:?}");
    }
    let mut small = proven(weekly(), &good());
    proves(&mut small, Some(Span::days(3)));
    let before = Promises::all(&small.view.estate, NOW);
    proves(&mut small, None);
    let after = before.then(&small.view.estate, NOW);
    let of = |p: &Promises| p.get(DB).unwrap().of_sort(Sort::Proved);
    assert_eq!(
        (of(&before), of(&after)),
        (Some(Standing::Kept), Some(Standing::AtRisk)),
        "the job is noticed"
    );
}

/// If this fails, somebody is promised to be back in time by what nobody measured.
#[test]
fn back_within_is_what_the_last_copy_that_came_up_took() {
    let within = || Clauses {
        back: Some(Span::mins(10)),
        ..Clauses::default()
    };
    let of = |minutes, good| {
        let small = proven(within(), &[(DAY, proof(HOUR, Span::mins(minutes), good))]);
        stands(&small, Sort::Back)
    };
    assert_eq!(of(4, true).0, Standing::Kept);
    assert_eq!(of(9, true).0, Standing::AtRisk);
    assert_eq!(of(11, true).0, Standing::Broken);
    assert_eq!(of(4, false).0, Standing::Unchecked);
    assert!(of(4, true).1.contains("4 min"), "{}", of(4, true).1);
}

/// If this fails, the same point is booted again and again, or one that nobody tried never.
#[test]
fn the_newest_of_each_is_tried_and_not_oftener_than_the_job_says() {
    let quick = Span::mins(5);
    let owed = |points: &[(Span, Option<Box<Proof>>)], every: Option<Span>, at: Moment| {
        let mut small = proven(hourly(Taker::Any), points);
        proves(&mut small, every);
        let owed = small.view.estate.to_prove(at);
        owed.into_iter()
            .map(|(_, at)| at.session())
            .collect::<Vec<_>>()
    };
    let session = |age: Span| Uuid::from_u128(u128::from(age.0));
    let week = Some(Span::days(7));
    assert_eq!(
        owed(&[(DAY, None), (HOUR, None)], week, NOW),
        [session(HOUR)],
        "the newest"
    );
    assert!(owed(&[(HOUR, None)], None, NOW).is_empty());
    assert!(
        owed(&[(HOUR, proof(HOUR, quick, false))], week, NOW).is_empty(),
        "it was tried"
    );
    let two = [(DAY, proof(DAY, quick, true)), (HOUR, None)];
    assert!(owed(&two, week, NOW).is_empty());
    assert_eq!(owed(&two, week, NOW.plus(Span::days(6))), [session(HOUR)]);
    assert_eq!(owed(&two, Some(DAY), NOW), [session(HOUR)]);
    // Whoever left the job is tried no more, nor is a copy of it in any job.
    let mut small = proven(hourly(Taker::Any), &[(HOUR, None)]);
    proves(&mut small, week);
    on(&mut small, 7, |m| drop(m.labels.remove("env")));
    assert!(small.view.estate.to_prove(NOW).is_empty());
    let job = small.view.estate.jobs[&JOB].clone();
    on(&mut small, 7, |m| {
        drop(m.labels.insert("env".into(), "prod".into()))
    });
    assert!(job.covers(&small.view.estate.machines[&DB]));
    on(&mut small, 7, |m| {
        m.proves = Some(Box::new(AnyPoint::Stored(PointAt {
            store: STORE,
            machine: Uuid::nil(),
            session: Uuid::nil(),
        })));
    });
    assert!(!job.covers(&small.view.estate.machines[&DB]));
}

/// If this fails, retention takes away the only point of which anybody knows that it comes up.
#[test]
fn the_newest_that_is_proven_stays_whatever_a_job_keeps() {
    let quick = Span::mins(5);
    let days = Span::days;
    let mut small = proven(
        hourly(Taker::Any),
        &[
            (days(5), proof(DAY, quick, true)),
            (days(4), proof(DAY, quick, true)),
            (days(3), proof(HOUR, quick, false)),
            (days(1), None),
        ],
    );
    small.alter(|e| e.put(Fact::Job(Arc::new(job("last 1")))));
    let estate = &small.view.estate;
    let gone = estate.expired(&estate.jobs[&JOB], NOW);
    let ages: Vec<Span> = gone.iter().map(|(_, p)| NOW.since(p.taken)).collect();
    assert_eq!(ages, [days(5), days(3)]);
}

/// Machine 7 with a point of an hour ago, of which its store told.
fn told(change: impl FnOnce(&mut Kept)) -> (Small, PointAt) {
    let mut small = proven(hourly(Taker::Any), &[(HOUR, None)]);
    let m = Machine::clone(&small.view.estate.machines[&DB]);
    let at = PointAt {
        store: STORE,
        machine: m.uuid,
        session: Uuid::from_u128(u128::from(HOUR.0)),
    };
    let mut kept = Kept {
        name: m.name.clone(),
        vcpus: 2,
        memory: Bytes::gib(4),
        firmware: FirmwareKind::Uefi,
        cards: vec![("02:00:00:00:aa:01".into(), "quay".into())],
        labels: vec![("env".into(), "prod".into())],
        note: String::new(),
        disks: vec![KeptDisk {
            key: Uuid::from_u128(5),
            size: Bytes::gib(10),
            held: Bytes::mib(400),
        }],
    };
    change(&mut kept);
    let mut book = (*small.view.evidence).clone();
    book.put(Probe::Point(at), Answer::Point(Box::new(kept)), NOW);
    small.view.evidence = Arc::new(book);
    (small, at)
}

fn prove(small: &Small, at: PointAt, limit: Span) -> Assessment {
    let cluster: Option<ClusterId> = small.view.estate.clusters.keys().next().copied();
    let ask = ProvePoint {
        point: Some(at.into()),
        cluster,
        limit,
        together: false,
    };
    assessed(small, &Proposal::Proving(proving::Ask::Point(ask)))
}

/// If this fails, a copy runs on the original's network under its identity, is brought back by whoever watches, or stays.
#[test]
fn a_copy_is_made_alone_asked_and_removed_for_good() {
    let (mut small, at) = told(|_| {});
    on(&mut small, 7, |m| m.must = vec![Question::Tcp { port: 22 }]);
    let said = prove(&small, at, Span::mins(5));
    let stops: Vec<_> = said.findings().iter().filter(|f| f.stops()).collect();
    assert!(stops.is_empty(), "{stops:?}");
    let kind = |s: &Step| match s {
        Step::Proving(proving::Step::Machine(m)) => match m {
            machines::Step::Copy { .. } => "copy",
            machines::Step::Start { .. } => "start",
            machines::Step::Off { .. } => "off",
            machines::Step::Delete { .. } => "delete",
            machines::Step::Purge { .. } => "purge",
            other => panic!("{other:?}"),
        },
        Step::Proving(proving::Step::Try(answers::Step::Try { point, must, .. })) => {
            assert_eq!((*point, must.len()), (Some(at.into()), 1));
            "ask"
        }
        other => panic!("{other:?}"),
    };
    let steps: Vec<&str> = said.steps().iter().map(|s| kind(&s.step)).collect();
    assert_eq!(steps, ["copy", "start", "ask", "off", "delete", "purge"]);
    for (n, planned) in said.steps().iter().enumerate().skip(1) {
        assert_eq!(planned.after, [n - 1], "one after the other");
    }
    small.begin(said.accept().unwrap());
    let copy = small
        .view
        .estate
        .proving()
        .next()
        .expect("no copy is planned");
    assert_eq!(copy.proves.as_deref(), Some(&at.into()));
    assert!(!copy.restarts && copy.labels.is_empty());
    assert!(
        copy.nics.iter().all(|n| n.network.is_none()),
        "it is on a network"
    );
    assert_eq!(copy.name, "proof-db");
    let of = Promise::of(&small.view.estate, copy, NOW);
    assert!(of.is_none(), "it has a pledge");
}

/// If this fails, a proof begins that can't end, or a second copy of the same point beside the first.
#[test]
fn what_can_not_be_proven_says_why() {
    let (mut small, at) = told(|_| {});
    let stops = |said: &Assessment| -> Vec<String> {
        let all = said.findings().iter().filter(|f| f.stops());
        all.map(|f| f.field.clone().unwrap_or_default()).collect()
    };
    assert_eq!(stops(&prove(&small, at, Span::secs(1))), ["limit"]);
    let nowhere = proving::Ask::Point(ProvePoint {
        point: Some(at.into()),
        cluster: None,
        limit: Span::mins(5),
        together: false,
    });
    assert_eq!(
        stops(&assessed(&small, &Proposal::Proving(nowhere))),
        ["cluster"],
        "no cluster is at the store's site"
    );
    let (huge, there) = told(|k| k.memory = Bytes::gib(9999));
    assert_eq!(
        stops(&prove(&huge, there, Span::mins(5))),
        ["cluster"],
        "no room"
    );
    on(&mut small, 8, |m| m.proves = Some(Box::new(at.into())));
    assert_eq!(stops(&prove(&small, at, Span::mins(5))), ["point"]);
    small.view.evidence = Arc::default();
    on(&mut small, 8, |m| m.proves = None);
    assert_eq!(
        stops(&prove(&small, at, Span::mins(5))),
        ["point"],
        "its store did not tell"
    );
}

/// If this fails, a machine of somebody's is removed for good as if a proof had left it.
#[test]
fn only_copies_that_proofs_left_are_cleared() {
    let (mut small, at) = told(|_| {});
    let clear = |small: &Small| {
        let ask = proving::Ask::Clear {
            machines: vec![MachineId(8)],
        };
        assessed(small, &Proposal::Proving(ask))
    };
    assert!(clear(&small).findings().iter().any(|f| f.stops()));
    let host = small.view.estate.hosts.keys().next().copied();
    on(&mut small, 8, |m| {
        m.proves = Some(Box::new(at.into()));
        m.state = MachineState::Running { guest: false };
        m.host = host;
    });
    let on_steps = clear(&small).steps().len();
    on(&mut small, 8, |m| {
        m.state = MachineState::Off;
        m.host = None;
    });
    assert_eq!((on_steps, clear(&small).steps().len()), (3, 2));
}

/// If this fails, one word says that all is well though an answer was bad.
#[test]
fn one_bad_answer_is_enough() {
    let reply = |fine| Reply {
        question: Question::Tcp { port: 22 },
        fine,
        said: String::new(),
    };
    let mut proof = *proof(HOUR, HOUR, true).unwrap();
    assert!(proof.is_good() && proof.words().contains("came up"));
    proof.replies = vec![reply(true), reply(true)];
    assert!(proof.is_good() && proof.words().contains("all 2"));
    proof.replies.push(reply(false));
    assert!(
        !proof.is_good() && proof.words().contains("1 of 3"),
        "{}",
        proof.words()
    );
}

/// Two machines with a point each of one instant, of which their store told; with a network that ends at each host, or none.
fn of_one_instant(island: bool) -> (Small, PointAt, PointAt) {
    let (mut small, at) = told(|_| {});
    let group = Some(Uuid::from_u128(0x9009));
    let other = small.view.estate.machines[&MachineId(8)].clone();
    let beside = PointAt {
        machine: other.uuid,
        session: Uuid::from_u128(0x8008),
        ..at
    };
    small.alter(|e| {
        let mut series = Series::clone(e.backups_with(at.machine).next().unwrap());
        series.points[0].group = group;
        let mut second = series.clone();
        e.put(Fact::Series(series.into()));
        (second.id, second.machine) = (SeriesId(762), beside.machine);
        second.name.clone_from(&other.name);
        second.points[0].session = beside.session;
        e.put(Fact::Series(second.into()));
        if island {
            let mut alone = network(NetworkId(950), "island");
            (alone.subnets, alone.vlan) = (vec![], None);
            alone.uplinks.clear();
            alone.cluster = *e.clusters.keys().next().unwrap();
            alone.ready = true;
            let there: Vec<_> = e.hosts.values().cloned().collect();
            for host in there {
                let mut host = Host::clone(&host);
                let set = HostNet {
                    vlan: None,
                    mtu: 1500,
                    uplinks: Default::default(),
                };
                host.networks.insert("island".into(), set);
                e.put(Fact::Host(host.into()));
            }
            e.put(Fact::Network(alone.into()));
        }
    });
    let mut book = (*small.view.evidence).clone();
    let Some(Answer::Point(kept)) = book.fresh(&Probe::Point(at), NOW).cloned() else {
        panic!("the store told nothing")
    };
    let kept = Kept {
        name: other.name.clone(),
        ..*kept
    };
    book.put(Probe::Point(beside), Answer::Point(Box::new(kept)), NOW);
    small.view.evidence = Arc::new(book);
    (small, at, beside)
}

fn together(small: &Small, at: PointAt) -> Assessment {
    assessed(
        small,
        &Proposal::Proving(proving::Ask::Point(ProvePoint {
            point: Some(at.into()),
            cluster: small.view.estate.clusters.keys().next().copied(),
            limit: Span::mins(5),
            together: true,
        })),
    )
}

/// If this fails, a part of an application is booted without what it asks, or is gone while another still asks it.
#[test]
fn those_of_one_instant_are_booted_by_one_host_and_go_when_all_were_asked() {
    let (mut small, at, beside) = of_one_instant(true);
    let estate = &small.view.estate;
    assert_eq!(estate.of_one_instant(at.into()), [at.into(), beside.into()]);
    assert_eq!(
        estate.of_one_instant(beside.into())[0],
        beside.into(),
        "the one that was named first"
    );
    let said = together(&small, at);
    let stops: Vec<_> = said.findings().iter().filter(|f| f.stops()).collect();
    assert!(stops.is_empty(), "{stops:?}");
    let (mut hosts, mut asked, mut offs) = (vec![], vec![], vec![]);
    for (n, planned) in said.steps().iter().enumerate() {
        match &planned.step {
            Step::Proving(proving::Step::Machine(machines::Step::Start { host, .. })) => {
                hosts.push(*host)
            }
            Step::Proving(proving::Step::Machine(machines::Step::Off { .. })) => {
                offs.push(planned.after.clone())
            }
            Step::Proving(proving::Step::Try(answers::Step::Try { with, host, .. })) => {
                assert_eq!((with.len(), *host), (1, *hosts.last().unwrap()));
                asked.push(n);
            }
            _ => {}
        }
    }
    assert_eq!((hosts.len(), hosts[0]), (2, hosts[1]), "on one host");
    assert_eq!(
        offs,
        [asked.clone(), asked],
        "none goes before all were asked"
    );
    small.begin(said.accept().unwrap());
    let island = Some(NetworkId(950));
    let copies: Vec<_> = small.view.estate.proving().collect();
    assert_eq!(copies.len(), 2);
    assert!(
        copies
            .iter()
            .all(|m| m.nics.iter().all(|n| n.network == island))
    );

    // Alone, or where no network ends at a host, it is said.
    let (small, at, _) = of_one_instant(false);
    let said = together(&small, at);
    let mind = said
        .findings()
        .iter()
        .find(|f| f.field.as_deref() == Some("together"));
    assert!(mind.unwrap().text.contains("do not hear each other"));
    let one = prove(&small, at, Span::mins(5));
    let starts = one
        .steps()
        .iter()
        .filter(|s| matches!(s.step, Step::Proving(proving::Step::Try(_))));
    assert_eq!(starts.count(), 1, "unless it is wished");
}

/// If this fails, half of a group is booted where there is no room for all of it.
#[test]
fn without_room_for_all_on_one_host_none_is_booted() {
    let (mut small, at, beside) = of_one_instant(true);
    let free = small
        .view
        .estate
        .hosts
        .values()
        .map(|h| h.hardware.memory)
        .max()
        .unwrap();
    let mut book = (*small.view.evidence).clone();
    for point in [at, beside] {
        let Some(Answer::Point(kept)) = book.fresh(&Probe::Point(point), NOW).cloned() else {
            panic!("the store told nothing")
        };
        let kept = Kept {
            memory: Bytes(free.0 * 3 / 5 / (2 << 20) * (2 << 20)),
            ..*kept
        };
        book.put(Probe::Point(point), Answer::Point(Box::new(kept)), NOW);
    }
    small.view.evidence = Arc::new(book);
    let said = together(&small, at);
    let stops: Vec<_> = said
        .findings()
        .iter()
        .filter(|f| f.stops())
        .map(|f| f.text.clone())
        .collect();
    assert!(
        stops
            .iter()
            .any(|t| t.contains("has room for all 2 at once")),
        "{stops:?}"
    );
}
