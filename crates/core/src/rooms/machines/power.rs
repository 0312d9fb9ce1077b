//! Power on, stop, power off, restart.

use super::{AfterGrace, Draft, Event, PowerAct, Step};
use crate::{
    booting::{installs, source},
    estate::{Cluster, Machine, MachineState, Wanted},
    finding::{Finding, Rule},
    fronts,
    ids::{ClusterId, HostId, MachineId},
    moment::Span,
    placement::{Ledger, choose_all},
};
use std::collections::{BTreeMap, BTreeSet};

const BOOT_LIMIT: Span = Span::mins(5);
/// A guest without an agent is told by its power button only; how long it takes then, nobody can ask it.
const BUTTON: Span = Span::mins(5);

pub(crate) fn power(draft: &mut Draft<'_>, machines: &[MachineId], act: PowerAct) {
    if machines.is_empty() {
        return draft.found(Finding::stop(
            Rule::Nothing,
            "machines",
            "No machine is selected.",
        ));
    }
    let named = draft.machines(machines);
    let what = act.word();
    draft.title = match named.as_slice() {
        [one] => format!("{} {}", capital(what), one.name),
        many => format!("{} {} machines", capital(what), many.len()),
    };
    let mut starting: BTreeMap<ClusterId, Vec<Machine>> = BTreeMap::new();
    for machine in &named {
        if !draft.knows(machine) || !state_allows(draft, machine, act) {
            continue;
        }
        match act {
            PowerAct::On { .. } => {
                if let Some(cluster) = machine.cluster {
                    starting
                        .entry(cluster)
                        .or_default()
                        .push((**machine).clone());
                }
            }
            PowerAct::Stop { grace, then } => {
                wants_off(draft, machine);
                stop(draft, machine, grace, then);
            }
            PowerAct::Restart { grace, then } => restart(draft, machine, grace, then),
            PowerAct::Off => off(draft, machine),
        }
    }
    for (cluster, machines) in starting {
        if let Some(cluster) = draft.estate().clusters.get(&cluster).cloned() {
            let only = if let PowerAct::On { host } = act {
                host
            } else {
                None
            };
            start(draft, &cluster, machines, only);
        }
    }
}

/// The words of the act as a sentence begins.
fn capital(words: &str) -> String {
    let mut chars = words.chars();
    chars
        .next()
        .map(|c| c.to_uppercase().chain(chars).collect())
        .unwrap_or_default()
}

fn state_allows(draft: &mut Draft<'_>, machine: &Machine, act: PowerAct) -> bool {
    let name = &machine.name;
    let problem = if machine.deleted.is_some() {
        Some((
            Rule::Deleted,
            format!("{name} was deleted; bring it back first."),
        ))
    } else if machine.state == MachineState::Planned {
        Some((Rule::State, format!("{name} is still being made.")))
    } else if matches!(act, PowerAct::On { .. }) && machine.cluster.is_none() {
        Some((
            Rule::State,
            format!("{name} is in no cluster; make a cluster of its host first."),
        ))
    } else {
        match (act, machine.state == MachineState::Off) {
            (PowerAct::On { .. }, true) if machine.replica.is_some() => return replica(draft, machine),
            (PowerAct::On { .. }, false) => Some((Rule::State, format!("{name} is on already."))),
            (PowerAct::On { .. }, true) => source(machine).is_none().then(|| {
                let lacks: Vec<&str> = machine.boot.order.iter().map(|f| f.lack()).collect();
                let words = format!("{name} has nothing to boot from: {}.", lacks.join(", "));
                (Rule::Disk, words)
            }),
            (_, true) => Some((Rule::State, format!("{name} is off already."))),
            (_, false) => None,
        }
    };
    match problem {
        Some((rule, text)) => {
            draft.found(
                Finding::stop(rule, name, text)
                    .at("machines")
                    .remedy("Take it out of the selection."),
            );
            false
        }
        None => true,
    }
}

/// Not by mistake beside its original.
fn replica(draft: &mut Draft<'_>, machine: &Machine) -> bool {
    let Some(replica) = &machine.replica else { return true };
    let (name, of) = (&machine.name, &replica.name);
    let original = draft.estate().original_of(replica);
    let beside = match original.map(|m| m.is_off()) {
        Some(false) => format!("{of} is on, and both would be the same machine to everybody who hears of them"),
        Some(true) => format!("{of} is still there, and both would be the same machine to everybody who hears of them"),
        None => format!("what {of} held after its last point is not on it"),
    };
    let text = format!("{name} is a replica of {of}: {beside}.");
    let remedy = "Three ways, on its page: make a copy of one of its points and start that, with an identity and a network of its own; start it all the same, by force, after which the next copy is of everything; or leave it as it is.";
    draft.found(Finding::stop(Rule::Identity, name, text).at("machines").remedy(remedy));
    false
}

fn start(draft: &mut Draft<'_>, cluster: &Cluster, machines: Vec<Machine>, only: Option<HostId>) {
    let hosts: Vec<_> = draft.estate().hosts_in(cluster.id).cloned().collect();
    let before = Ledger::of(draft.view, hosts, &BTreeSet::new());
    let mut after = before.clone();
    let answers = choose_all(draft.view, &mut after, cluster, &machines, only);
    for (machine, answer) in machines.into_iter().zip(answers) {
        match answer {
            Ok(placed) => {
                let host = placed.choice.host;
                draft.placed(&machine, &placed.choice);
                if let Some(other) = draft.estate().lies_twice(&machine) {
                    let name = &machine.name;
                    let text = format!("A second record of {name} lies on {}; it starts by its own.", other.name);
                    draft.found(Finding::mind(Rule::State, name, text).at("machines"));
                }
                draft.intend(Event::Wanted {
                    machine: machine.id,
                    wanted: Wanted::On,
                    host: Some(host),
                });
                let step = Step::Start {
                    machine: machine.id,
                    host,
                };
                let on = draft.step(
                    step,
                    format!("Power on {}", machine.name),
                    &[],
                    Some("host"),
                );
                let wait = Step::AwaitGuest {
                    machine: machine.id,
                    limit: BOOT_LIMIT,
                    installs: installs(&machine),
                };
                draft.step(
                    wait,
                    format!("Wait until {} answers", machine.name),
                    &[on],
                    None,
                );
            }
            Err(why) => {
                let text = format!("No host of {} has room for {}.", cluster.name, machine.name);
                draft.found(
                    Finding::stop(Rule::Placement, &machine.name, text)
                        .because(why.evidence(draft.estate()))
                        .at("machines"),
                );
            }
        }
    }
    draft.filled(&before, &after);
}

fn stop(draft: &mut Draft<'_>, machine: &Machine, grace: Span, then: AfterGrace) -> usize {
    let name = &machine.name;
    draft.interrupts(machine);
    let answers = machine.state == (MachineState::Running { guest: true });
    let grace = if answers { grace } else { grace.max(BUTTON) };
    let outcome = match then {
        AfterGrace::LeaveOn => "it is left on and the run asks you",
        AfterGrace::PowerOff => "it is powered off, as if the plug were pulled",
    };
    let finding = if answers {
        Finding::clear(
            Rule::Guest,
            name,
            format!("{name} is asked to stop; if it hasn't after {grace}, {outcome}."),
        )
    } else {
        Finding::mind(
            Rule::Guest,
            name,
            format!("The agent of {name} is silent: its power button is pressed. If it hasn't stopped after {grace}, {outcome}."),
        )
    };
    draft.found(finding.at("grace"));
    draft.found_all(fronts::leaves(draft.estate(), machine));
    let asked = draft.step(
        Step::AskStop {
            machine: machine.id,
        },
        format!("Ask {name} to stop"),
        &[],
        None,
    );
    let wait = Step::AwaitOff {
        machine: machine.id,
        grace,
        then,
        silent: !answers,
    };
    draft.step(
        wait,
        format!("Wait until {name} is off"),
        &[asked],
        Some("grace"),
    )
}

fn restart(draft: &mut Draft<'_>, machine: &Machine, grace: Span, then: AfterGrace) {
    let Some(host) = machine.host else { return };
    let stopped = stop(draft, machine, grace, then);
    let step = Step::Start {
        machine: machine.id,
        host,
    };
    let on = draft.step(step, format!("Power on {}", machine.name), &[stopped], None);
    let wait = Step::AwaitGuest {
        machine: machine.id,
        limit: BOOT_LIMIT,
        installs: installs(machine),
    };
    draft.step(
        wait,
        format!("Wait until {} answers", machine.name),
        &[on],
        None,
    );
}

/// From now on it shall be off. A restart doesn't say so: it shall be on again.
fn wants_off(draft: &mut Draft<'_>, machine: &Machine) {
    draft.intend(Event::Wanted {
        machine: machine.id,
        wanted: Wanted::Off,
        host: None,
    });
}

fn off(draft: &mut Draft<'_>, machine: &Machine) {
    let name = &machine.name;
    draft.interrupts(machine);
    if machine.state == (MachineState::Running { guest: true }) {
        let text = format!(
            "{name} answers and would stop by itself; powering off can lose what it hasn't written."
        );
        draft.found(Finding::mind(Rule::Guest, name, text).remedy("Stop it instead."));
    }
    wants_off(draft, machine);
    draft.step(
        Step::Off {
            machine: machine.id,
        },
        format!("Power off {name}"),
        &[],
        None,
    );
}
