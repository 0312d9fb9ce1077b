//! A host that serves again, with what had been on it if that is wanted.

use super::{Draft, Event, Return, Step};
use crate::{
    estate::{Fact, Host, Machine, MachineState, Maintenance},
    finding::{Finding, Rule},
    ids::MachineId,
    rooms::{
        hosts,
        machines::{self, PowerAct},
        moving,
    },
    view::View,
};
use std::{collections::{BTreeMap, BTreeSet}, sync::Arc};

pub(super) fn back(draft: &mut Draft<'_>, ask: &Return) {
    "Back in service".clone_into(&mut draft.title);
    let chosen = draft.chosen(&ask.hosts).into_iter();
    let named: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    draft.title = match named.as_slice() {
        [] => {
            let text = "No host is selected.";
            return draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
        }
        [one] => format!("{} back in service", one.name),
        many => format!("{} hosts back in service", many.len()),
    };
    let open = opened(draft.view, &named);
    // One host's machines come back after the other's: they may come from the same hosts.
    let mut last: Vec<usize> = Vec::new();
    for host in &named {
        let Some(maintenance) = host.maintenance.as_deref() else {
            let text = format!("{} is in service.", host.name);
            let stop = Finding::stop(Rule::State, &host.name, text).at("hosts");
            draft.found(stop.remedy("Take it out of the selection."));
            continue;
        };
        serves(draft, host);
        let step = Step::Host(hosts::Step::Serve { host: host.id });
        let served = draft.step(step, format!("{} takes machines again", host.name), &[], None);
        if ask.bring {
            let after: Vec<usize> = std::iter::once(served).chain(last).collect();
            last = bring(draft, &open, host, maintenance, &after);
        }
    }
}

/// The estate once the hosts serve.
fn opened(view: &View, named: &[Arc<Host>]) -> View {
    let mut estate = (*view.estate).clone();
    for host in named {
        let mut open = Host::clone(host);
        open.maintenance = None;
        estate.put(Fact::Host(open.into()));
    }
    view.with(estate)
}

/// Whether it is fit to serve: it answers, and reaches what it shall.
fn serves(draft: &mut Draft<'_>, host: &Host) {
    let name = &host.name;
    if let Some(why) = host.out_of_reach() {
        let stop = Finding::stop(Rule::HostOpen, name, format!("{why}.")).at("hosts");
        return draft.found(stop.remedy("Bring it up first, by its power sheet or by hand."));
    }
    let (dead, fewer) = host.lost_paths();
    let missing = draft.estate().unmounted(host);
    let amiss: Vec<String> = [
        (dead, "out of reach"),
        (fewer, "with fewer paths than it has"),
        (missing, "not mounted"),
    ]
    .into_iter()
    .filter(|(n, _)| *n > 0)
    .map(|(n, what)| format!("{n} {what}"))
    .collect();
    draft.found(if amiss.is_empty() {
        let text = format!("{name} answers, and reaches every volume that it shall by every path.");
        Finding::clear(Rule::Paths, name, text)
    } else {
        let text = format!("Volumes of {name}: {}.", amiss.join(", "));
        Finding::mind(Rule::Paths, name, text).remedy("Mend that first, or nothing that needs them can be put there.")
    });
    let others = host.cluster.map(|c| draft.estate().hosts_in(c)).into_iter().flatten();
    let mut versions: BTreeMap<&str, usize> = BTreeMap::new();
    for other in others.filter(|h| h.id != host.id) {
        *versions.entry(&other.software).or_default() += 1;
    }
    let usual = versions.into_iter().max_by_key(|(_, n)| *n).map(|(version, _)| version);
    if let Some(usual) = usual.filter(|usual| *usual != host.software) {
        let text = format!("{name} has software {}; most others of its cluster have {usual}.", host.software);
        draft.found(Finding::mind(Rule::Software, name, text).at("hosts"));
    }
}

/// What had been there and can come: those that run elsewhere are moved, those that were stopped for it are started. Answers
/// the numbers of the steps.
fn bring(draft: &mut Draft<'_>, open: &View, host: &Host, maintenance: &Maintenance, after: &[usize]) -> Vec<usize> {
    let had = maintenance.had.iter().filter_map(|id| draft.estate().machines.get(id));
    let had: Vec<Arc<Machine>> = had.filter(|m| m.deleted.is_none() && m.cluster == host.cluster).cloned().collect();
    let there: BTreeSet<MachineId> = had.iter().filter(|m| m.host == Some(host.id)).map(|m| m.id).collect();
    let moving = |m: &&Arc<Machine>| {
        matches!(m.state, MachineState::Running { .. }) && m.arriving.is_none() && !there.contains(&m.id)
    };
    let stopped = |m: &&Arc<Machine>| m.state == MachineState::Off && maintenance.stopped.contains(&m.id);
    let comes: Vec<MachineId> = had.iter().filter(moving).map(|m| m.id).collect();
    let starts: Vec<MachineId> = had.iter().filter(stopped).map(|m| m.id).collect();
    let rest: Vec<&str> = had
        .iter()
        .filter(|m| !comes.contains(&m.id) && !starts.contains(&m.id) && !there.contains(&m.id))
        .map(|m| m.name.as_str())
        .collect();
    if !rest.is_empty() {
        let text = format!("{} had been on {} and can't be brought back: off, or in the middle of something.", rest.join(", "), host.name);
        draft.found(Finding::mind(Rule::State, &host.name, text).at("bring"));
    }
    let say = |found: Finding| match found.stops() {
        true => found.at("bring").remedy("Put it back in service without bringing back what had been there."),
        false => found,
    };
    let mut steps = Vec::new();
    let part = return_trip(draft, open, host, comes, &had);
    steps.extend(draft.take_in(part, after, say, (Step::Move, Event::Move)));
    if !starts.is_empty() {
        let mut part = draft.beside::<machines::Step>(open);
        machines::power(&mut part, &starts, PowerAct::On { host: Some(host.id) });
        steps.extend(draft.take_in(part, after, say, (Step::Machine, Event::Machine)));
    }
    steps
}

/// The moves back. Who can't come stays where it is, and that is said; the others come without it.
fn return_trip<'b>(
    draft: &mut Draft<'_>,
    open: &'b View,
    host: &Host,
    mut comes: Vec<MachineId>,
    had: &[Arc<Machine>],
) -> crate::road::Draft<'b, moving::Step> {
    let trip = |draft: &Draft<'_>, machines: Vec<MachineId>| {
        let mut part = draft.beside::<moving::Step>(open);
        if !machines.is_empty() {
            let ask = moving::Move {
                machines,
                to: Some(host.id),
                disks: None,
                slow: false,
                force: false,
                wire: false,
            };
            moving::relocate(&mut part, &ask);
        }
        part
    };
    let part = trip(draft, comes.clone());
    let stops: BTreeMap<&str, &str> = part.findings().iter().filter(|f| f.stops()).map(|f| (f.subject.as_str(), f.text.as_str())).collect();
    let mut stays = Vec::new();
    for machine in had {
        if let Some(why) = stops.get(machine.name.as_str()).filter(|_| comes.contains(&machine.id)) {
            stays.push(Finding::mind(Rule::Migration, &machine.name, format!("{} stays where it is. {why}", machine.name)).at("bring"));
            comes.retain(|id| *id != machine.id);
        }
    }
    if stays.is_empty() {
        return part;
    }
    draft.found_all(stays);
    trip(draft, comes)
}
