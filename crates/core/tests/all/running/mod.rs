//! Runs: the state machine under scripted and random inputs, locks, premises, undoing.

mod alone;
mod beside;
mod left;
mod scripts;
mod under_way;

use crate::put;
use proptest::prelude::*;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::rooms::{edits, hosts, machines, storage};
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    estate::{Array, Estate, Fact, Pool, Provisioning},
    ids::{ArrayId, ClusterId, HostId, MachineId, Revision, RunId, SiteId},
    moment::{Moment, Span},
    permits::Who,
    road::{Input, Order, RunEvent, TRIES, When, advance, needs},
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
        turn: vec![],
        field: Some("host".into()),
        when: When::default(),
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

fn done(step: usize) -> Input {
    Input::Succeeded {
        step,
        said: String::new(),
    }
}
