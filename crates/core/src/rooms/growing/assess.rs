//! The checks before a machine is moved and then given more (rules, sections 5 and 12).

use super::{Draft, Event, Grow, Step};
use crate::{
    estate::{Cluster, Fact, Machine, MachineState},
    finding::{Finding, Rule},
    ids::HostId,
    placement::{Ledger, choose},
    rooms::{edits, moving},
    view::View,
};
use std::sync::Arc;

pub(super) fn grow(draft: &mut Draft<'_>, ask: &Grow) {
    "Move, then grow".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned() else { return };
    let name = &machine.name;
    draft.title = format!("Move {name}, then give it more");
    let sets = sets(ask, &machine);
    if sets.is_empty() {
        let text = format!("{name} has that already.");
        return draft.found(Finding::stop(Rule::Nothing, name, text).at("memory"));
    }
    if !draft.knows(&machine) {
        return;
    }
    if !matches!(machine.state, MachineState::Running { .. }) {
        let text = format!("{name} does not run; it can be given anything, and gets a host with room when it starts.");
        return draft.found(Finding::stop(Rule::State, name, text).at("machines").remedy("Change it under Edit."));
    }
    let Some(cluster) = machine.cluster.and_then(|c| draft.estate().clusters.get(&c)).cloned() else {
        let text = format!("{name} is in no cluster.");
        return draft.found(Finding::stop(Rule::State, name, text).at("machines"));
    };
    let Some(to) = roomy(draft, ask, &cluster, &grown(&machine, &sets)) else { return };
    let mut part = draft.beside::<moving::Step>(draft.view);
    let ride = moving::Move {
        machines: vec![machine.id],
        to: Some(to),
        disks: None,
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
    };
    moving::relocate(&mut part, &ride);
    let moved = draft.take_in(part, &[], |f| f, (Step::Move, Event::Move));
    // Once it is there.
    let there = arrived(draft.view, &machine, to);
    let mut part = draft.beside::<edits::Step>(&there);
    edits::edit(&mut part, &[edits::Target::Machine(machine.id)], &sets);
    let gives = part.planned().any(|s| match s {
        edits::Step::Grow { .. } => true,
        edits::Step::Rewrite { .. } => false,
    });
    if !gives {
        let text = format!("None of that counts before {name} starts next: moving it now gives it nothing.");
        let stop = Finding::stop(Rule::State, name, text).at("memory");
        draft.found(stop.remedy("Change it under Edit, and restart it; it gets a host with room then."));
    }
    let after: Vec<usize> = moved.last().into_iter().collect();
    draft.take_in(part, &after, |f| f, (Step::Edit, Event::Edit));
}

/// What is otherwise than it is.
fn sets(ask: &Grow, machine: &Machine) -> Vec<edits::Set> {
    let memory = ask.memory.filter(|m| *m != machine.memory).map(edits::Set::Memory);
    let vcpus = ask.vcpus.filter(|n| *n != machine.vcpus).map(edits::Set::VCpus);
    memory.into_iter().chain(vcpus).collect()
}

fn grown(machine: &Machine, sets: &[edits::Set]) -> Machine {
    let mut then = machine.clone();
    sets.iter().for_each(|s| s.on_machine(&mut then));
    // It shall run with it.
    then.now = None;
    then
}

fn with(view: &View, machine: &Machine) -> View {
    let mut estate = (*view.estate).clone();
    estate.put(Fact::Machine(Arc::new(machine.clone())));
    view.with(estate)
}

fn arrived(view: &View, machine: &Machine, to: HostId) -> View {
    let there = Machine { host: Some(to), ..machine.clone() };
    with(view, &there)
}

/// A host that has room for all that it shall have.
fn roomy(draft: &mut Draft<'_>, ask: &Grow, cluster: &Cluster, then: &Machine) -> Option<HostId> {
    let name = &then.name;
    if ask.to.is_some() && ask.to == then.host {
        let text = format!("{name} is there already.");
        draft.found(Finding::stop(Rule::Placement, name, text).at("to"));
        return None;
    }
    let view = with(draft.view, then);
    let own = [then.id].into();
    let hosts: Vec<_> = view.estate.hosts_in(cluster.id).cloned().collect();
    let mut ledger = Ledger::of(&view, hosts, &own);
    if let Some(source) = then.host {
        ledger = ledger.without(source);
    }
    match choose(&view, &ledger, cluster, then, ask.to) {
        Ok(choice) => Some(choice.host),
        Err(why) => {
            let text = format!("No other host of {} has room for {name} with all of that.", cluster.name);
            let stop = Finding::stop(Rule::Placement, name, text).because(why.evidence(&view.estate));
            draft.found(stop.at(if ask.to.is_some() { "to" } else { "memory" }));
            None
        }
    }
}
