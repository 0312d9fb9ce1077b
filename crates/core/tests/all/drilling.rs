//! Drills: in which order copies are made, powered on, asked and removed, where they stand, and what is kept of it.

use crate::{
    plans::{PLAN, fleet, plan, put, stage},
    pledges::{NOW, on},
    replicas::{assessed, stops},
};
use proptest::prelude::*;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use zastrugi_core::{
    estate::{Fact, Network, Nic, RecoveryPlan, Stage, Then},
    finding::Severity,
    ids::{ClusterId, MachineId, NetworkId, PassageId},
    limits,
    moment::{Moment, Span},
    road::Input,
    rooms::{
        Assessment, Event, Proposal, Step, answers,
        drilling::{self, Drill},
        machines,
        passages::{self, Reached},
    },
    testkit::{self, Small},
};

fn drill(looked_at: bool) -> Proposal {
    Proposal::Drilling(drilling::Ask::Drill(Drill {
        plan: PLAN,
        looked_at,
    }))
}

/// What each step is, with its machine or its stage.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Is {
    Made(MachineId),
    On(MachineId),
    Asked(MachineId),
    Off(MachineId),
    Gone(MachineId),
    Purged(MachineId),
    Open(usize),
    Closed(usize),
    Between(u64),
    End,
}

fn is(step: &Step) -> Is {
    use drilling::Step as S;
    let Step::Drilling(step) = step else {
        panic!("{step:?}")
    };
    match step {
        S::Machine(machines::Step::Copy { machine, .. }) => Is::Made(*machine),
        S::Machine(machines::Step::Start { machine, .. }) => Is::On(*machine),
        S::Machine(machines::Step::Off { machine }) => Is::Off(*machine),
        S::Machine(machines::Step::Delete { machine, .. }) => Is::Gone(*machine),
        S::Machine(machines::Step::Purge { machine, .. }) => Is::Purged(*machine),
        S::Machine(other) => panic!("{other:?}"),
        S::Try(answers::Step::Try { machine, .. }) => Is::Asked(*machine),
        S::Passage(passages::Step::Open { stage, .. }) => Is::Open(*stage),
        S::Passage(passages::Step::Close { stage, .. }) => Is::Closed(*stage),
        S::Passage(passages::Step::End { .. }) => Is::End,
        S::Passage(
            passages::Step::Ask { mark, .. }
            | passages::Step::Hear { mark, .. }
            | passages::Step::Pause { mark, .. }
            | passages::Step::Command { mark, .. },
        ) => Is::Between(*mark),
        // A drill goes on whatever came up, and turns nothing.
        S::Passage(
            other @ (passages::Step::Judge { .. }
            | passages::Step::Mend { .. }
            | passages::Step::Turn { .. }),
        ) => panic!("{other:?}"),
    }
}

/// Everything that is done before a step, however far.
pub(crate) fn before(said: &Assessment) -> Vec<BTreeSet<usize>> {
    let mut all: Vec<BTreeSet<usize>> = Vec::new();
    for step in said.steps() {
        let mut own = BTreeSet::new();
        for n in &step.after {
            own.insert(*n);
            own.extend(&all[*n]);
        }
        all.push(own);
    }
    all
}

/// What must be so of any drill, whatever stands in its plan.
fn sound(said: &Assessment, sizes: &[usize]) {
    let kinds: Vec<Is> = said.steps().iter().map(|s| is(&s.step)).collect();
    let before = before(said);
    let place = |wanted: Is| kinds.iter().position(|k| *k == wanted);
    let came_before = |first: Is, then: Is| {
        let (first, then) = (place(first).unwrap(), place(then).unwrap());
        assert!(
            before[then].contains(&first),
            "{:?} before {:?}",
            kinds[first],
            kinds[then]
        );
    };
    let copies: BTreeSet<MachineId> = kinds
        .iter()
        .filter_map(|k| if let Is::Made(m) = k { Some(*m) } else { None })
        .collect();
    assert_eq!(copies.len(), sizes.iter().sum::<usize>());
    let last = sizes.len() - 1;
    for copy in &copies {
        came_before(Is::Made(*copy), Is::On(*copy));
        came_before(Is::On(*copy), Is::Asked(*copy));
        came_before(Is::Closed(last), Is::Off(*copy));
        came_before(Is::Off(*copy), Is::Gone(*copy));
        came_before(Is::Gone(*copy), Is::Purged(*copy));
        came_before(Is::Purged(*copy), Is::End);
        let stage = (0..sizes.len()).find(|n| {
            before[place(Is::On(*copy)).unwrap()].contains(&place(Is::Open(*n)).unwrap())
                && !before[place(Is::On(*copy)).unwrap()].contains(&place(Is::Closed(*n)).unwrap())
        });
        came_before(Is::Asked(*copy), Is::Closed(stage.unwrap()));
    }
    for n in 0..last {
        came_before(Is::Closed(n), Is::Open(n + 1));
    }
    assert_eq!(kinds.last(), Some(&Is::End));
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    /// If this fails, a copy is powered on before its stage, or stays for ever, whatever stands in the plan.
    #[test]
    fn each_copy_has_its_stage_and_nothing_stays(
        sizes in prop::collection::vec(1usize..4, 1..4),
        in_turn in any::<bool>(),
        pauses in prop::collection::vec(0usize..3, 4),
        looked_at in any::<bool>(),
    ) {
        let all: usize = sizes.iter().sum();
        let mut small = fleet(all as u64);
        let mut next = 100u64;
        let stages = sizes.iter().enumerate().map(|(n, size)| {
            let named: Vec<u64> = (next..next + *size as u64).collect();
            next += *size as u64;
            let then = (0..pauses[n]).map(|_| Then::Pause { time: Span::secs(5) }).collect();
            Stage { in_turn, then, ..stage(&format!("s{n}"), &named) }
        });
        let stages: Vec<Stage> = stages.collect();
        put(&mut small, plan(stages));
        let said = assessed(&small, &drill(looked_at));
        prop_assert!(stops(&said).is_empty(), "{:?}", stops(&said));
        sound(&said, &sizes);
    }
}

/// If this fails, machines of one stage are up all at once though one needs the other; or each waits for another for nothing.
#[test]
fn in_turn_is_one_after_the_other() {
    for in_turn in [false, true] {
        let mut small = fleet(2);
        put(
            &mut small,
            plan(vec![Stage {
                in_turn,
                ..stage("all", &[100, 101])
            }]),
        );
        let said = assessed(&small, &drill(false));
        let kinds: Vec<Is> = said.steps().iter().map(|s| is(&s.step)).collect();
        let starts: Vec<usize> = (0..kinds.len())
            .filter(|n| matches!(kinds[*n], Is::On(_)))
            .collect();
        let asked = kinds
            .iter()
            .position(|k| matches!(k, Is::Asked(_)))
            .unwrap();
        assert_eq!(before(&said)[starts[1]].contains(&asked), in_turn);
    }
}

/// If this fails, a drill is heard by production, or keeps the name and the promises of what it is of.
#[test]
fn copies_stand_apart_and_go_by_themselves() {
    let mut small = fleet(1);
    let network = |id: u64, name: &str, vlan| Network {
        vlan,
        cluster: ClusterId(902),
        ..testkit::network(NetworkId(id), name)
    };
    small.alter(|e| {
        e.put(Fact::Network(Arc::new(network(31, "crew", Some(20)))));
        e.put(Fact::Network(Arc::new(network(
            32,
            "drill-crew",
            Some(900),
        ))));
    });
    for id in [20, 200] {
        on(&mut small, id, |m| {
            m.nics = vec![Nic {
                mac: "02:00:00:00:00:01".into(),
                network: Some(NetworkId(31)),
                addresses: vec![],
            }];
        });
    }
    let drills: BTreeMap<_, _> = [(NetworkId(31), NetworkId(32))].into();
    put(
        &mut small,
        RecoveryPlan {
            drills,
            ..plan(vec![stage("all", &[7, 100])])
        },
    );
    for id in [3, 4] {
        let spans = |h: &mut zastrugi_core::estate::Host| {
            let net = zastrugi_core::estate::HostNet {
                vlan: Some(900),
                mtu: 1500,
                uplinks: Default::default(),
            };
            h.networks.insert("drill-crew".into(), net);
        };
        small.alter_host(id, spans);
    }
    let said = assessed(&small, &drill(false));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    let told = said
        .findings()
        .iter()
        .find(|f| f.subject == "drill-crew")
        .unwrap();
    assert_eq!(told.severity, Severity::Clear);
    let (_, _) = small.begin(said.accept().unwrap());
    let estate = &small.view.estate;
    let copies: Vec<_> = estate.proving().collect();
    let names: Vec<&str> = copies.iter().map(|m| m.name.as_str()).collect();
    assert_eq!(names, ["drill-db", "drill-web-0"]);
    for m in copies {
        assert_eq!(
            m.nics.iter().map(|n| n.network).collect::<Vec<_>>(),
            [Some(NetworkId(32))]
        );
        assert!(m.labels.is_empty() && !m.restarts && m.replica.is_none());
    }
    let again = assessed(&small, &drill(false));
    assert!(stops(&again)[0].text.contains("carried out already"));
    let passage = estate.passage_open(PLAN).unwrap();
    assert_eq!(
        passage.stages[0]
            .machines
            .iter()
            .map(|m| m.name.as_str())
            .collect::<Vec<_>>(),
        ["db", "web-0"]
    );
    assert!(passage.run.0 > 0 && !passage.is_good());
}

/// If this fails, one machine that can't be booted there keeps everybody from trying the others, or is called tried.
#[test]
fn who_can_not_be_booted_is_left_out_and_said() {
    let mut small = fleet(2);
    on(&mut small, 200, |m| m.replica = None);
    put(&mut small, plan(vec![stage("all", &[7, 100, 101])]));
    let said = assessed(&small, &drill(false));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    assert!(
        said.findings()
            .iter()
            .any(|f| f.text.contains("1 machines of the plan are left out"))
    );
    sound(&said, &[2]);
    let mut begun = Small {
        view: small.view.clone(),
        ..testkit::read("cluster eider")
    };
    begun.begin(said.accept().unwrap());
    let passage = begun.view.estate.passage_open(PLAN).unwrap().clone();
    assert_eq!(passage.left_out().collect::<Vec<_>>(), ["web-0"]);
    assert_eq!(passage.came(), (0, 3), "who was left out is one of them");
    on(&mut small, 20, |m| m.replica = None);
    on(&mut small, 201, |m| m.replica = None);
    let said = assessed(&small, &drill(false));
    assert!(
        stops(&said)
            .iter()
            .any(|f| f.text.contains("Nothing of it could be booted"))
    );
}

/// If this fails, a report tells of a command as done that nobody could try.
#[test]
fn a_command_in_a_guest_that_is_left_out_is_not_called_done() {
    let mut small = fleet(1);
    on(&mut small, 200, |m| m.replica = None);
    let (machine, command) = (MachineId(100), "true".to_owned());
    let then = vec![Then::Run { machine, command }];
    let all = Stage {
        then,
        ..stage("all", &[7, 100])
    };
    put(&mut small, plan(vec![all]));
    let said = assessed(&small, &drill(false));
    let kinds: Vec<Is> = said.steps().iter().map(|s| is(&s.step)).collect();
    assert!(kinds.iter().all(|k| !matches!(k, Is::Between(_))));
    sound(&said, &[1]);
    small.begin(said.accept().unwrap());
    let passage = small.view.estate.passage_open(PLAN).unwrap();
    assert_eq!(passage.stages[0].then[0].good, None);
}

#[test]
fn a_drill_of_more_than_anybody_looks_at_is_refused() {
    let mut small = fleet(limits::DRILLED.most as u64 + 1);
    let named: Vec<u64> = (100..=100 + limits::DRILLED.most as u64).collect();
    put(&mut small, plan(vec![stage("all", &named)]));
    let said = assessed(&small, &drill(false));
    let words = limits::grouped(limits::DRILLED.most);
    assert!(
        stops(&said).iter().any(|f| f.text.contains(&words)),
        "{:?}",
        stops(&said)
    );
}

/// A plan of two stages that is being drilled; after the first a person is asked.
fn under_way() -> (Small, PassageId) {
    let mut small = fleet(1);
    let text = "the phones are switched".into();
    let then = vec![Then::Confirm { text }];
    let stores = Stage {
        then,
        ..stage("stores", &[7])
    };
    put(&mut small, plan(vec![stores, stage("front", &[100])]));
    let said = assessed(&small, &drill(false));
    small.begin(said.accept().unwrap());
    let id = small.view.estate.passage_open(PLAN).unwrap().id;
    (small, id)
}

fn at(secs: u64) -> Moment {
    NOW.plus(Span::secs(secs))
}

fn opened(small: &mut Small, passage: PassageId, stage: usize, secs: u64) {
    let at = at(secs);
    let event = passages::Event::Opened { passage, stage, at };
    small.fold(&[Event::Passages(event)]);
}

fn closed(small: &mut Small, passage: PassageId, (stage, machine): (usize, u64), secs: u64) {
    let reached = vec![Reached {
        machine: MachineId(machine),
        host: "h3".into(),
        booted: Some(Span::secs(20)),
        good: true,
        said: "it came up".into(),
        from: None,
    }];
    let at = at(secs);
    let event = passages::Event::Closed {
        passage,
        stage,
        at,
        reached,
    };
    small.fold(&[Event::Passages(event)]);
}

/// If this fails, a run waits for ever for somebody who has answered, or goes on without anybody.
#[test]
fn somebody_is_asked_once_and_answers_once() {
    let (mut small, id) = under_way();
    let answer = |small: &Small| {
        let ask = passages::Ask::Answer {
            passage: id,
            mark: 1,
            good: true,
            note: "seen at the desk".into(),
        };
        assessed(small, &Proposal::Passages(ask))
    };
    let stopped = |small: &Small| stops(&answer(small))[0].text.clone();
    let waits = |small: &Small| {
        let passage = &small.view.estate.passages[&id];
        passage.waits_for().map(|(s, _)| s.name.clone())
    };
    assert!(stopped(&small).contains("has not come that far"));
    opened(&mut small, id, 0, 10);
    small.fold(&[Event::Passages(passages::Event::Asked {
        passage: id,
        mark: 1,
        at: at(40),
    })]);
    assert_eq!(waits(&small), Some("stores".into()));
    small.begin(answer(&small).accept().unwrap());
    assert_eq!(waits(&small), None);
    assert!(stopped(&small).contains("confirmed already"));
    small.fold(&[Event::Passages(passages::Event::Ended {
        passage: id,
        at: at(50),
    })]);
    assert!(stopped(&small).contains("It is over"));
}

/// If this fails, its report counts a person's lunch as time that the plan takes.
#[test]
fn what_is_kept_of_it_tells_what_it_took_without_what_people_took() {
    let (mut small, id) = under_way();
    opened(&mut small, id, 0, 10);
    let asked = passages::Event::Asked {
        passage: id,
        mark: 1,
        at: at(40),
    };
    let went = passages::Event::Went {
        passage: id,
        mark: 1,
        at: at(100),
        good: true,
        said: String::new(),
    };
    small.fold(&[Event::Passages(asked), Event::Passages(went)]);
    closed(&mut small, id, (0, 7), 100);
    let passage = |small: &Small| small.view.estate.passages[&id].clone();
    let first = passage(&small).stages[0].took();
    assert_eq!(first, Some(Span::secs(30)), "of 90 s a person took 60");
    assert_eq!(passage(&small).took(), None, "not all is over");
    opened(&mut small, id, 1, 101);
    closed(&mut small, id, (1, 100), 131);
    let ended = passages::Event::Ended {
        passage: id,
        at: at(140),
    };
    small.fold(&[Event::Passages(ended)]);
    let done = passage(&small);
    assert!(done.is_good() && !done.is_open());
    assert_eq!((done.took(), done.came()), (Some(Span::secs(60)), (2, 2)));
}

/// If this fails, a drill that was given up looks as if it went on, and the plan can't be drilled again.
#[test]
fn one_that_is_given_up_is_over() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("all", &[7])]));
    let said = assessed(&small, &drill(true));
    let (run, _) = small.begin(said.accept().unwrap());
    assert!(small.view.estate.passage_open(PLAN).is_some());
    small.tell(run, Input::Cancel);
    // Whoever was at it gives up before the device was told.
    let running: Vec<usize> = (0..small.plans[&run].steps.len()).collect();
    for step in running {
        small.tell(run, Input::Unsent { step });
    }
    let passage = small.view.estate.passages_of(PLAN)[0].clone();
    assert!(passage.left && !passage.is_open() && !passage.is_good());
}
