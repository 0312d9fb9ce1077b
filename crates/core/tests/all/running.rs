//! Runs: the state machine under scripted and random inputs, locks, premises, undoing.

use crate::put;
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::rooms::{edits, hosts, machines, storage};
use zastrugi_core::{
    estate::{Array, ArrayCondition, ArrayKind, Estate, Fact, Pool, Provisioning},
    ids::{ArrayId, ClusterId, HostId, MachineId, Revision, RunId, SiteId},
    moment::{Moment, Span},
    permits::Who,
    road::{Input, Order, TRIES, begin, turn},
    rooms::machines::{AfterGrace, PowerAct},
    rooms::storage::{ConnectVolume, VolumeSource},
    rooms::{Event, Plan, PlannedStep, Proposal, Step},
    runs::{Fault, FaultKind, Phase, Run, RunState},
    testkit::{self, Small, machines, read},
    units::Bytes,
};

const NOW: Moment = Moment(1_000_000);

/// A plan of `n` steps in which step i waits for those that `after` names.
fn plan(after: &[Vec<usize>]) -> Plan {
    let step = |i: usize, after: &Vec<usize>| PlannedStep {
        step: Step::Machines(machines::Step::Off {
            machine: MachineId(u64::try_from(i).unwrap()),
        }),
        title: format!("step {i}"),
        after: after.clone(),
        field: Some("host".into()),
    };
    Plan {
        run: RunId(1),
        ask: Proposal::Machines(machines::Ask::Delete { machines: vec![] }),
        revision: Revision(1),
        findings: vec![],
        places: vec![],
        fills: vec![],
        steps: after.iter().enumerate().map(|(i, a)| step(i, a)).collect(),
        time: Span(0),
    }
}

fn a_run(plan: &Plan) -> Run {
    Run::new(
        RunId(1),
        "run".into(),
        Who::itself(),
        Uuid::nil(),
        plan.steps.len(),
        NOW,
    )
}

fn silent() -> Fault {
    Fault::new(FaultKind::TimedOut, "no answer", "retry")
}
fn no() -> Fault {
    Fault::new(FaultKind::Refused, "no", "ask")
}

fn wants(orders: &[Order]) -> Vec<usize> {
    orders
        .iter()
        .filter_map(|o| {
            if let Order::Want { step } = o {
                Some(*step)
            } else {
                None
            }
        })
        .collect()
}

#[test]
fn steps_go_in_order_and_a_silent_device_is_tried_four_times_with_growing_pauses() {
    let plan = plan(&[vec![], vec![0]]);
    let mut run = a_run(&plan);
    assert_eq!(wants(&run.advance(&plan, Input::Start, NOW)), [0]);
    let mut orders = run.advance(
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    let mut pauses = vec![];
    while let Some(Order::Perform { after, .. }) =
        orders.iter().find(|o| matches!(o, Order::Perform { .. }))
    {
        pauses.push(after.0);
        orders = run.advance(
            &plan,
            Input::Failed {
                step: 0,
                fault: silent(),
            },
            NOW,
        );
    }
    assert_eq!(pauses, [0, 1000, 2000, 4000]);
    assert_eq!(run.steps[0].attempt, TRIES);
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        run.steps[0].fault.as_ref().and_then(|f| f.field.as_deref()),
        Some("host"),
        "the field it comes from"
    );
    assert_eq!(run.steps[1].phase, Phase::Waiting);
}

#[test]
fn a_refusal_is_not_repeated_and_retry_goes_on_from_there() {
    let plan = plan(&[vec![], vec![0]]);
    let mut run = a_run(&plan);
    run.advance(&plan, Input::Start, NOW);
    run.advance(
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    run.advance(
        &plan,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    run.advance(
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(3),
        },
        NOW,
    );
    run.advance(
        &plan,
        Input::Failed {
            step: 1,
            fault: no(),
        },
        NOW,
    );
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        wants(&run.advance(&plan, Input::Retry, NOW)),
        [1],
        "what is done is not done again"
    );
    run.advance(
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(4),
        },
        NOW,
    );
    let orders = run.advance(
        &plan,
        Input::Succeeded {
            step: 1,
            said: String::new(),
        },
        NOW,
    );
    assert!(orders.contains(&Order::Close));
    assert_eq!(run.state, RunState::Done);
}

#[test]
fn cancelling_stops_before_the_next_step_and_says_what_stays() {
    let plan = plan(&[vec![], vec![0], vec![1]]);
    let mut run = a_run(&plan);
    run.advance(&plan, Input::Start, NOW);
    run.advance(
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    assert!(
        !run.advance(&plan, Input::Cancel, NOW)
            .contains(&Order::Close),
        "the call under way is waited for"
    );
    let orders = run.advance(
        &plan,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    assert!(
        orders.contains(&Order::Tell("cancelled; 1 of 3 steps stay done".into())),
        "{orders:?}"
    );
    assert_eq!(run.state, RunState::Cancelled);
    assert_eq!(run.count(Phase::Skipped), 2);
}

/// Random plans: each step may wait for some of those before it.
fn plans() -> impl Strategy<Value = Vec<Vec<usize>>> {
    prop::collection::vec(
        prop::collection::vec(any::<prop::sample::Index>(), 0..3),
        1..8,
    )
    .prop_map(|steps| {
        steps
            .iter()
            .enumerate()
            .map(|(i, after)| {
                if i == 0 {
                    vec![]
                } else {
                    after.iter().map(|a| a.index(i)).collect()
                }
            })
            .collect()
    })
}

proptest! {
    /// If this fails, a device is told something before what it rests on is done, or twice, or a run never ends.
    #[test]
    fn no_step_is_performed_early_or_twice_and_every_run_ends(after in plans(), script in prop::collection::vec(0u8..10, 0..200)) {
        let plan = plan(&after);
        let mut run = a_run(&plan);
        let mut queue = run.advance(&plan, Input::Start, NOW);
        let mut script = script.into_iter();
        let mut calls = vec![0u32; plan.steps.len()];
        let mut closed = 0;
        for _ in 0..2000 {
            let Some(order) = queue.pop() else {
                if run.state == RunState::NeedsYou { queue = run.advance(&plan, Input::Retry, NOW); continue; }
                break;
            };
            let input = match order {
                Order::Want { step } => Input::Granted { step, fence: Revision(9) },
                Order::Perform { step, attempt, .. } => {
                    prop_assert!(plan.steps[step].after.iter().all(|i| run.steps[*i].phase == Phase::Done), "step {} came early", step);
                    prop_assert_eq!(run.steps[step].phase, Phase::Running);
                    prop_assert_eq!(run.steps[step].attempt, attempt);
                    calls[step] += 1;
                    match script.next() {
                        Some(0) => Input::Failed { step, fault: silent() },
                        Some(1) => Input::Failed { step, fault: no() },
                        Some(2) => Input::NotYet { step, said: "busy".into() },
                        _ => Input::Succeeded { step, said: String::new() },
                    }
                }
                Order::Close => { closed += 1; continue; }
                Order::Freed | Order::Tell(_) => continue,
            };
            let more = run.advance(&plan, input.clone(), NOW);
            if let Input::Succeeded { step, .. } = input {
                // An answer that comes a second time changes nothing.
                let before = run.clone();
                let again = run.advance(&plan, Input::Succeeded { step, said: "again".into() }, NOW);
                prop_assert_eq!(&before, &run);
                let repeated = again.iter().any(|o| matches!(o, Order::Perform { .. }));
                prop_assert!(!repeated, "called again");
            }
            queue.extend(more);
        }
        prop_assert_eq!(run.state, RunState::Done);
        prop_assert_eq!(closed, 1, "a run closes once");
        prop_assert!(calls.iter().all(|n| *n > 0));
    }
}

/// Starts a proposal and absorbs what follows; answers the run and the orders to devices.
fn start(small: &mut Small, ask: &Proposal) -> (RunId, Vec<usize>) {
    let accepted = put(small, ask)
        .accept()
        .unwrap_or_else(|b| panic!("{:?}", b.stops));
    let (run, events) = begin(&small.view, accepted, Who::itself(), Uuid::nil(), NOW);
    (run, absorb(small, run, events))
}

fn absorb(small: &mut Small, run: RunId, events: Vec<Event>) -> Vec<usize> {
    let mut estate = (*small.view.estate).clone();
    estate.absorb_all(&events);
    estate.revision = Revision(estate.revision.0 + 1);
    small.view = small.view.with(estate);
    events
        .iter()
        .filter_map(|e| {
            if let Event::Ordered { run: r, step, .. } = e {
                (*r == run).then_some(*step)
            } else {
                None
            }
        })
        .collect()
}

fn tell(small: &mut Small, run: RunId, input: Input) -> Vec<usize> {
    let events = turn(&small.view, run, input, NOW);
    absorb(small, run, events)
}

fn estate(small: &Small) -> &Estate {
    &small.view.estate
}

fn stop(id: u64) -> Proposal {
    let act = PowerAct::Stop {
        grace: Span::secs(9),
        then: AfterGrace::LeaveOn,
    };
    Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(id)],
        act,
    })
}

#[test]
fn a_second_run_waits_names_the_first_and_is_looked_at_again_at_its_turn() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let (first, orders) = start(&mut small, &stop(7));
    assert_eq!(orders, [0]);
    let (second, orders) = start(
        &mut small,
        &Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act: PowerAct::Off,
        }),
    );
    assert_eq!(orders, Vec::<usize>::new(), "it waits");
    assert!(
        matches!(estate(&small).runs[&second].steps[0].phase, Phase::Queued { behind, .. } if behind == first)
    );
    // The first asked; between its steps the one that waits longer is served.
    let events = turn(
        &small.view,
        first,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    let ordered: Vec<RunId> = events
        .iter()
        .filter_map(|e| {
            if let Event::Ordered { run, .. } = e {
                Some(*run)
            } else {
                None
            }
        })
        .collect();
    assert_eq!(ordered, [second], "nobody overtakes");
    absorb(&mut small, second, events);
    let mut estate_now = estate(&small).clone();
    estate_now.absorb(&Event::Machines(machines::Event::Purged {
        machine: MachineId(7),
    }));
    small.view = small.view.with(estate_now);
    tell(
        &mut small,
        second,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    let run = &estate(&small).runs[&first];
    assert_eq!(run.steps[1].phase, Phase::Failed);
    assert_eq!(
        run.steps[1].fault.as_ref().map(|f| f.kind),
        Some(FaultKind::Premise),
        "the machine is gone: nothing is ordered"
    );
}

#[test]
fn shared_locks_go_together_and_an_exclusive_one_waits_for_both() {
    let mut small =
        read("cluster a\nhost 1 64\nhost 2 64\nmachine 7 db 8 off\nmachine 8 web 8 off");
    let on = |id, host| {
        Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(id)],
            act: PowerAct::On {
                host: Some(HostId(host)),
            },
        })
    };
    let (_, a) = start(&mut small, &on(7, 1));
    let (_, b) = start(&mut small, &on(8, 1));
    assert_eq!(
        (a, b),
        (vec![0], vec![0]),
        "two machines start on one host at the same time"
    );
    let ask = Proposal::Hosts(hosts::Ask::HandBack {
        hosts: vec![HostId(2)],
    });
    let (_, c) = start(&mut small, &ask);
    assert_eq!(c, [0], "another host is free");
}

fn two_machines() -> Proposal {
    Proposal::Machines(machines::Ask::Create(machines(
        "new",
        2,
        Some(ClusterId(901)),
        8,
    )))
}

#[test]
fn a_running_creation_holds_names_and_room_and_gives_back_what_never_happened() {
    let mut small = read("cluster a\nhost 1 24\nhost 2 24");
    let (run, orders) = start(&mut small, &two_machines());
    assert_eq!(orders.len(), 2);
    assert!(
        estate(&small).machine_named("new-1").is_some(),
        "the name is taken at once"
    );
    assert!(
        put(&small, &two_machines()).blocked(),
        "so a second proposal sees it"
    );
    let made = estate(&small).machine_named("new-1").map(|m| m.id).unwrap();
    let mut now = estate(&small).clone();
    now.absorb(&Event::Machines(machines::Event::Made {
        machine: made,
        guest_key: "k".into(),
    }));
    small.view = small.view.with(now);
    tell(&mut small, run, Input::Cancel);
    tell(
        &mut small,
        run,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 3,
            fault: no(),
        },
    );
    assert!(estate(&small).runs.is_empty(), "the run is closed");
    let kept = estate(&small).machine_named("new-1").unwrap();
    assert_eq!(
        kept.host, None,
        "what was made stays, off, and holds no room"
    );
    assert!(
        estate(&small).machine_named("new-2").is_none(),
        "what was not made is gone"
    );
}

#[test]
fn a_plan_without_steps_is_recorded_and_closed_at_once() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![zastrugi_core::proposal::Target::Machine(MachineId(7))],
        sets: vec![zastrugi_core::proposal::Set::Tier(1)],
    });
    start(&mut small, &ask);
    assert_eq!(estate(&small).machines[&MachineId(7)].tier, 1);
    assert!(estate(&small).runs.is_empty());
}

#[test]
fn a_stop_that_is_given_up_leaves_the_machine_wanted_on() {
    use zastrugi_core::estate::Wanted;
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let wanted = |small: &Small| estate(small).machines[&MachineId(7)].wanted;
    let (run, _) = start(&mut small, &stop(7));
    assert_eq!(wanted(&small), Wanted::Off);
    tell(
        &mut small,
        run,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 1,
            fault: no(),
        },
    );
    tell(&mut small, run, Input::Cancel);
    assert_eq!(
        wanted(&small),
        Wanted::On,
        "nobody brings it down later because of a run that was given up"
    );
}

#[test]
fn a_restart_leaves_the_machine_wanted_on() {
    use zastrugi_core::estate::Wanted;
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let act = PowerAct::Restart {
        grace: Span::secs(9),
        then: AfterGrace::PowerOff,
    };
    let (_, orders) = start(
        &mut small,
        &Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act,
        }),
    );
    assert_eq!(orders, [0]);
    assert_eq!(estate(&small).machines[&MachineId(7)].wanted, Wanted::On);
}

/// A new volume on an array, to all hosts.
fn connect(small: &mut Small) -> (RunId, Vec<usize>) {
    let mut now = estate(small).clone();
    now.put(Fact::Array(Arc::new(Array {
        id: ArrayId(700),
        name: "basalt".into(),
        site: SiteId(900),
        kind: ArrayKind::Block,
        controllers: vec![],
        user: "keeper".into(),
        key: None,
        maker: String::new(),
        model: String::new(),
        serial: "TS1".into(),
        pools: vec![Pool {
            name: "fast".into(),
            capacity: Bytes::gib(100),
            used: Bytes::ZERO,
        }],
        portals: vec![],
        condition: ArrayCondition::Steady,
        note: String::new(),
    })));
    small.view = small.view.with(now);
    let ask = Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array: Some(ArrayId(700)),
        source: VolumeSource::New {
            pool: "fast".into(),
            size: Bytes::gib(10),
            provisioning: Provisioning::Thin,
        },
        name: "quay".into(),
        cluster: Some(ClusterId(901)),
        hosts: None,
        typed: String::new(),
    }));
    start(small, &ask)
}

/// A connection that is given up: what nobody has goes, what somebody has stays and is shown as drift.
#[test]
fn a_volume_that_is_given_up_goes_unless_a_host_has_it() {
    let quay = |small: &Small| {
        estate(small)
            .volumes
            .values()
            .find(|v| v.name == "quay")
            .cloned()
    };

    let mut small = read("cluster a\nhost 1 64\nhost 2 64");
    let (run, orders) = connect(&mut small);
    assert_eq!(orders, [0], "the LUN first");
    assert!(!quay(&small).unwrap().ready);
    tell(
        &mut small,
        run,
        Input::Failed {
            step: 0,
            fault: no(),
        },
    );
    tell(&mut small, run, Input::Cancel);
    assert_eq!(quay(&small), None, "the name is free again");

    let mut small = read("cluster a\nhost 1 64\nhost 2 64");
    let (run, _) = connect(&mut small);
    let next = tell(&mut small, run, done(0));
    assert_eq!(next.len(), 2, "both hosts are mapped side by side");
    let mut now = estate(&small).clone();
    now.absorb(&Event::Storage(storage::Event::Mounts {
        host: HostId(1),
        initiator: String::new(),
        mounts: [(quay(&small).unwrap().id, testkit::paths(2))].into(),
    }));
    small.view = small.view.with(now);
    tell(
        &mut small,
        run,
        Input::Failed {
            step: next[0],
            fault: no(),
        },
    );
    let running = tell(&mut small, run, done(next[1]));
    tell(&mut small, run, Input::Cancel);
    for step in running {
        tell(&mut small, run, done(step));
    }
    let left = quay(&small).unwrap();
    assert!(left.ready);
    let drift = left.drift(estate(&small));
    assert_eq!(drift.len(), 1, "the host without it is shown");
}

fn done(step: usize) -> Input {
    Input::Succeeded {
        step,
        said: String::new(),
    }
}
