//! Runs: the state machine under scripted and random inputs, locks, premises, undoing.

use crate::put;
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::rooms::{edits, hosts, machines, storage};
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    estate::{Array, ArrayCondition, ArrayKind, Estate, Fact, Pool, Provisioning},
    ids::{ArrayId, ClusterId, HostId, MachineId, Revision, RunId, SiteId},
    moment::{Moment, Span},
    permits::Who,
    road::{Input, Order, RunEvent, TRIES, advance, needs},
    rooms::machines::{AfterGrace, PowerAct},
    rooms::storage::{ConnectVolume, VolumeSource},
    rooms::{Event, Plan, PlannedStep, Proposal, Step},
    runs::{Fault, FaultKind, Lock, Needs, Object, Phase, Run, RunState, Runs},
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

/// Tells the machine something, and lets it see whether it is over.
fn tell_run(run: &mut Run, plan: &Plan, input: Input, now: Moment) -> Vec<Order> {
    let needs = needs(plan);
    let mut orders = advance(run, plan, &needs, input, now);
    let open = |o: &Order| matches!(o, Order::Want { .. });
    if !orders.iter().any(open) {
        orders.extend(advance(run, plan, &needs, Input::Settle, now));
    }
    orders
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
    assert_eq!(wants(&tell_run(&mut run, &plan, Input::Start, NOW)), [0]);
    let mut orders = tell_run(
        &mut run,
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
        orders = tell_run(
            &mut run,
            &plan,
            Input::Failed {
                step: 0,
                fault: silent(),
            },
            NOW,
        );
    }
    assert_eq!(pauses, [0, 1000, 2000, 4000]);
    assert_eq!(run.step(0).unwrap().attempt, TRIES);
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        run.step(0)
            .unwrap()
            .fault
            .as_ref()
            .and_then(|f| f.field.as_deref()),
        Some("host"),
        "the field it comes from"
    );
    assert_eq!(run.phase(1).unwrap(), Phase::Waiting);
}

#[test]
fn a_refusal_is_not_repeated_and_retry_goes_on_from_there() {
    let plan = plan(&[vec![], vec![0]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(3),
        },
        NOW,
    );
    tell_run(
        &mut run,
        &plan,
        Input::Failed {
            step: 1,
            fault: no(),
        },
        NOW,
    );
    assert_eq!(run.state, RunState::NeedsYou);
    assert_eq!(
        wants(&tell_run(&mut run, &plan, Input::Retry, NOW)),
        [1],
        "what is done is not done again"
    );
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 1,
            fence: Revision(4),
        },
        NOW,
    );
    let orders = tell_run(
        &mut run,
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
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    assert!(
        !tell_run(&mut run, &plan, Input::Cancel, NOW).contains(&Order::Close),
        "the call under way is waited for"
    );
    let orders = tell_run(
        &mut run,
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
    assert_eq!(run.tally.skipped, 2);
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

/// What becomes of a run under a script; checked at every move.
struct Play {
    plan: Plan,
    run: Run,
    calls: Vec<u32>,
    closed: u32,
    /// Steps that stand in line behind another run.
    line: Vec<usize>,
}

impl Play {
    fn tell(&mut self, input: Input) -> Vec<Order> {
        let needs = needs(&self.plan);
        advance(&mut self.run, &self.plan, &needs, input, NOW)
    }

    /// What a device or the table of locks says to an order, by the script's next word.
    fn answer(&mut self, order: &Order, word: u8) -> Result<Option<Input>, TestCaseError> {
        Ok(Some(match *order {
            Order::Want { step } if word == 3 => {
                self.line.push(step);
                Input::Refused {
                    step,
                    behind: RunId(99),
                    since: Revision(3),
                }
            }
            Order::Want { step } if word == 4 => Input::Barred { step, fault: no() },
            Order::Want { step } if word == 5 => Input::Reached {
                step,
                said: "so".into(),
            },
            Order::Want { step } => Input::Granted {
                step,
                fence: Revision(9),
            },
            Order::Perform { step, attempt, .. } => {
                let state = self.run.step(step).unwrap().clone();
                let before = &self.plan.steps[step].after;
                let early = before
                    .iter()
                    .any(|i| self.run.phase(*i) != Some(Phase::Done));
                prop_assert!(!early, "step {step} came early");
                prop_assert_eq!(state.phase, Phase::Running);
                prop_assert_eq!(state.attempt, attempt);
                self.calls[step] += 1;
                match word {
                    0 => Input::Failed {
                        step,
                        fault: silent(),
                    },
                    1 => Input::Failed { step, fault: no() },
                    2 => Input::NotYet {
                        step,
                        said: "busy".into(),
                    },
                    _ => Input::Succeeded {
                        step,
                        said: String::new(),
                    },
                }
            }
            Order::Close => {
                self.closed += 1;
                return Ok(None);
            }
            Order::Freed { .. } | Order::Keep { .. } | Order::Tell(_) => return Ok(None),
        }))
    }

    fn counts(&self) -> Result<(), TestCaseError> {
        let mut naive = [0; 6];
        for s in self.run.steps() {
            naive[match s.phase {
                Phase::Waiting => 0,
                Phase::Queued { .. } => 1,
                Phase::Running => 2,
                Phase::Done => 3,
                Phase::Failed => 4,
                Phase::Skipped => 5,
            }] += 1;
        }
        let t = self.run.tally;
        if self.run.state.open() {
            let kept = [t.waiting, t.queued, t.running, t.done, t.failed, t.skipped];
            prop_assert_eq!(naive, kept);
        }
        Ok(())
    }
}

proptest! {
    /// If this fails, a device is told something before what it rests on is done, or after a person said stop, or a run
    /// never ends, or its figures are wrong.
    #[test]
    fn no_step_is_performed_early_or_after_a_stop_and_every_run_ends(
        after in plans(),
        script in prop::collection::vec(0u8..12, 0..200),
        stop in prop::option::of(0usize..60),
    ) {
        let plan = plan(&after);
        let run = a_run(&plan);
        let calls = vec![0; plan.steps.len()];
        let mut play = Play { plan, run, calls, closed: 0, line: vec![] };
        let mut queue = play.tell(Input::Start);
        let mut script = script.into_iter();
        let mut begun_at_stop = None;
        for move_ in 0..3000 {
            if stop == Some(move_) && play.run.state.open() {
                queue.extend(play.tell(Input::Cancel));
                prop_assert_eq!(play.run.tally.queued, 0, "whoever stood in line has left it");
                begun_at_stop = Some(play.run.steps().map(|s| s.began).collect::<Vec<_>>());
            }
            let Some(order) = queue.pop() else {
                if let Some(step) = play.line.pop() {
                    queue = play.tell(Input::Again { step });
                    if !queue.is_empty() { continue; }
                }
                queue = play.tell(Input::Settle);
                if queue.is_empty() && play.run.state == RunState::NeedsYou {
                    queue = play.tell(Input::Retry);
                }
                if queue.is_empty() && play.line.is_empty() { break; }
                continue;
            };
            let word = script.next().unwrap_or(9);
            let Some(input) = play.answer(&order, word)? else { continue };
            let more = play.tell(input.clone());
            if let Input::Succeeded { step, .. } = input {
                // An answer that comes a second time changes nothing.
                let before = play.run.clone();
                let again = play.tell(Input::Succeeded { step, said: "again".into() });
                prop_assert_eq!(&before, &play.run);
                prop_assert_eq!(again, vec![]);
            }
            queue.extend(more);
            play.counts()?;
        }
        prop_assert_eq!(play.closed, 1, "a run closes once");
        if let Some(begun) = begun_at_stop {
            prop_assert_eq!(play.run.state, RunState::Cancelled);
            let now: Vec<_> = play.run.steps().map(|s| s.began).collect();
            prop_assert_eq!(begun, now, "nothing begins after a stop");
        } else {
            prop_assert_eq!(play.run.state, RunState::Done);
        }
    }

    /// Who is in the way, and who is next, as a plain scan of all steps says. If this fails, two runs change one thing at the
    /// same time, or one waits for ever.
    #[test]
    fn the_index_of_holds_says_what_a_scan_says(
        moves in prop::collection::vec((0u64..4, 0usize..3, 0u8..4, 1u64..9), 0..60),
        objects in prop::collection::vec((0u64..3, any::<bool>(), 0u64..3, any::<bool>()), 12),
        asks in (0u64..3, any::<bool>()),
    ) {
        let lock = |n: u64, exclusive: bool| Lock { object: Object::Machine(MachineId(n)), exclusive };
        let needs_of = |run: u64| -> Vec<Needs> {
            (0..3).map(|n| {
                let (a, x, b, y) = objects[usize::try_from(run).unwrap() * 3 + n];
                let mut locks = vec![lock(a, x)];
                if b != a { locks.push(lock(b, y)); }
                Needs { locks, ..Needs::default() }
            }).collect()
        };
        let mut runs = Runs::default();
        for id in 0..4 {
            let run = Run::new(RunId(id), String::new(), Who::itself(), Uuid::nil(), 3, NOW);
            runs.put(Arc::new(run), Arc::new(needs_of(id)));
        }
        for (run, step, phase, since) in moves {
            let mut state = runs.get(RunId(run)).unwrap().step(step).unwrap().clone();
            let (behind, since) = (RunId(9), Revision(since));
            state.phase = [Phase::Waiting, Phase::Queued { behind, since }, Phase::Running, Phase::Done][usize::from(phase)];
            runs.set(RunId(run), step, state);
        }
        let asked = [lock(asks.0, asks.1)];
        let (me, since) = ((RunId(3), 0), Revision(5));
        let clashing = |run: u64, step: usize| needs_of(run)[step].locks.iter().any(|l| l.clashes(&asked[0]));
        let naive = (0..4).any(|run| (0..3).any(|step| {
            let phase = runs.get(RunId(run)).unwrap().phase(step).unwrap();
            let ahead = match phase {
                Phase::Running => true,
                Phase::Queued { since: s, .. } => (s, RunId(run), step) < (since, me.0, me.1),
                _ => false,
            };
            ahead && (RunId(run), step) != me && clashing(run, step)
        }));
        prop_assert_eq!(runs.in_the_way(&asked, me.0, me.1, since).is_some(), naive);
        // Whoever could go on once this is given back is among those who are asked again.
        let next = runs.next_in_line(&asked);
        for run in 0..4 {
            for step in 0..3 {
                let id = RunId(run);
                let Some(Phase::Queued { since, .. }) = runs.get(id).unwrap().phase(step) else { continue };
                let own = &needs_of(run)[step].locks;
                let free = runs.in_the_way(own, id, step, since).is_none();
                let about = own.iter().any(|l| l.clashes(&asked[0]));
                prop_assert!(!(free && about) || next.contains(&(id, step)), "run {run} step {step} would wait for ever");
            }
        }
        // Taken apart again, nothing is left.
        for id in 0..4 { runs.remove(RunId(id)); }
        prop_assert_eq!(runs, Runs::default());
    }
}

/// Starts a proposal; answers the run and its orders to devices.
fn start(small: &mut Small, ask: &Proposal) -> (RunId, Vec<usize>) {
    let accepted = put(small, ask)
        .accept()
        .unwrap_or_else(|b| panic!("{:?}", b.stops));
    let (run, events) = small.begin(accepted);
    (run, ordered(&events, run))
}

/// The steps of a run that devices are told of.
fn ordered(events: &[Event], run: RunId) -> Vec<usize> {
    let of = |e: &Event| match e {
        Event::Work(RunEvent::Ordered { run: r, step, .. }) if *r == run => Some(*step),
        _ => None,
    };
    events.iter().filter_map(of).collect()
}

fn tell(small: &mut Small, run: RunId, input: Input) -> Vec<usize> {
    let events = small.tell(run, input);
    ordered(&events, run)
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
        matches!(small.view.runs.get(second).unwrap().phase(0).unwrap(), Phase::Queued { behind, .. } if behind == first)
    );
    // The first asked; between its steps the one that waits longer is served.
    let events = small.tell(first, done(0));
    let ordered: Vec<RunId> = events
        .iter()
        .filter_map(|e| match e {
            Event::Work(RunEvent::Ordered { run, .. }) => Some(*run),
            _ => None,
        })
        .collect();
    assert_eq!(ordered, [second], "nobody overtakes");
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
    let run = small.view.runs.get(first).unwrap();
    assert_eq!(run.phase(1), Some(Phase::Failed));
    assert_eq!(
        run.step(1).unwrap().fault.as_ref().map(|f| f.kind),
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
    assert!(small.view.runs.is_empty(), "the run is closed");
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
        targets: vec![zastrugi_core::rooms::edits::Target::Machine(MachineId(7))],
        sets: vec![zastrugi_core::rooms::edits::Set::Tier(1)],
    });
    start(&mut small, &ask);
    assert_eq!(estate(&small).machines[&MachineId(7)].tier, 1);
    assert!(small.view.runs.is_empty());
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

/// If this fails, a form that names one machine ten thousand times makes a run of ten thousand steps.
#[test]
fn what_is_named_often_is_taken_once_and_too_many_are_refused() {
    let small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let many = vec![MachineId(7); 10_000];
    let act = PowerAct::Off;
    let ask = |machines| Proposal::Machines(machines::Ask::Power { machines, act });
    let once = put(&small, &ask(many));
    assert!(!once.blocked());
    assert_eq!((once.title(), once.steps().len()), ("Power off db", 1));
    let edit = edits::Ask::Edit {
        targets: vec![edits::Target::Machine(MachineId(7)); 5_000],
        sets: vec![edits::Set::Note("x".into())],
    };
    assert!(put(&small, &edit.into()).title().ends_with("db"));
    let beyond: Vec<_> = (0..10_001).map(MachineId).collect();
    let refused = put(&small, &ask(beyond));
    let said = &refused.findings()[0].text;
    assert!(
        said.contains("10001 are selected; one run takes up to 10000"),
        "{said}"
    );
    assert!(refused.blocked() && refused.steps().is_empty());
}

/// If this fails, a queued step that somebody else has made needless waits for a person.
#[test]
fn a_queued_step_whose_goal_is_reached_by_its_turn_is_done() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let off = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act: PowerAct::Off,
    });
    let (first, orders) = start(&mut small, &off);
    assert_eq!(orders, [0]);
    let (second, orders) = start(&mut small, &off);
    assert_eq!(orders, Vec::<usize>::new(), "it stands in line");
    let seen = machines::Event::Seen {
        machine: MachineId(7),
        state: zastrugi_core::estate::MachineState::Off,
        host: None,
        generation: 0,
        as_of: None,
    };
    small.fold(&[seen.into()]);
    tell(&mut small, first, done(0));
    assert!(
        small.view.runs.get(second).is_none(),
        "done, without telling any device"
    );
    assert!(small.view.runs.is_empty());
}

/// If this fails, a run that was stopped begins something after all, as soon as others make room.
#[test]
fn a_cancelled_run_leaves_the_line_and_lets_others_pass() {
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let (first, _) = start(&mut small, &stop(7));
    let off = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7)],
        act: PowerAct::Off,
    });
    let (second, _) = start(&mut small, &off);
    let (third, orders) = start(&mut small, &off);
    assert_eq!(orders, Vec::<usize>::new());
    assert_eq!(tell(&mut small, second, Input::Cancel), Vec::<usize>::new());
    assert!(
        small.view.runs.get(second).is_none(),
        "nothing of it was begun: it is over"
    );
    let events = small.tell(first, done(0));
    assert_eq!(ordered(&events, second), Vec::<usize>::new());
    assert_eq!(ordered(&events, third), [0], "the next in line goes on");
}

/// If this fails, a long step ends because of faults that lay hours apart.
#[test]
fn faults_are_counted_anew_after_progress() {
    let plan = plan(&[vec![]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    for _ in 0..20 {
        for _ in 0..TRIES - 1 {
            tell_run(
                &mut run,
                &plan,
                Input::Failed {
                    step: 0,
                    fault: silent(),
                },
                NOW,
            );
        }
        tell_run(
            &mut run,
            &plan,
            Input::NotYet {
                step: 0,
                said: "5 %".into(),
            },
            NOW,
        );
        assert_eq!(run.phase(0), Some(Phase::Running));
    }
}

/// If this fails, "not created" is said of what a device may have made: its last word was that it is away.
#[test]
fn only_the_devices_own_no_settles_what_an_unanswered_call_left_open() {
    let fault = |kind| Fault::new(kind, "", "");
    for (last, open) in [
        (FaultKind::Unreachable, true),
        (FaultKind::Stale, true),
        (FaultKind::Premise, true),
        (FaultKind::Ours, true),
        (FaultKind::TimedOut, true),
        (FaultKind::Refused, false),
    ] {
        let after = fault(last).after(Some(&fault(FaultKind::TimedOut)));
        assert_eq!(after.leaves_open(), open, "{last:?}");
        let again = fault(FaultKind::Unreachable).after(Some(&after));
        assert_eq!(again.leaves_open(), open, "{last:?} in between");
    }
    assert!(!fault(FaultKind::Unreachable).after(None).leaves_open());
}

/// If this fails, a step is said to be left out although an earlier call may have had its effect.
#[test]
fn what_an_earlier_attempt_left_open_is_not_said_to_be_undone() {
    let plan = plan(&[vec![]]);
    let mut run = a_run(&plan);
    tell_run(&mut run, &plan, Input::Start, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(2),
        },
        NOW,
    );
    let unsent = Input::Unsent { step: 0 };
    assert_eq!(
        tell_run(&mut run, &plan, unsent.clone(), NOW),
        vec![],
        "nobody gave it up"
    );
    for _ in 0..TRIES {
        tell_run(
            &mut run,
            &plan,
            Input::Failed {
                step: 0,
                fault: silent(),
            },
            NOW,
        );
    }
    tell_run(&mut run, &plan, Input::Retry, NOW);
    tell_run(
        &mut run,
        &plan,
        Input::Granted {
            step: 0,
            fence: Revision(3),
        },
        NOW,
    );
    tell_run(&mut run, &plan, Input::Cancel, NOW);
    tell_run(&mut run, &plan, unsent, NOW);
    assert_eq!(run.phase(0), Some(Phase::Failed));
    assert_eq!(
        run.step(0).unwrap().fault,
        Some(Fault {
            field: Some("host".into()),
            ..silent()
        })
    );
}
