//! Emptying hosts: what is on them is placed on the others as one batch and moved; what can't leave is named with what would
//! let it go (rules, section 6).

use super::{Afterwards, Draft, Empty, Event, Step};
use crate::{
    estate::{Condition, Fact, Host, Machine, MachineState, Maintenance},
    finding::{Finding, Offer, Rule},
    ids::{HostId, MachineId},
    moment::Span,
    pooled,
    rooms::{
        hosts,
        machines::{self, AfterGrace, PowerAct},
        moving,
    },
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// How long a guest that can't leave may take to stop.
const GRACE: Span = Span::mins(5);

pub(super) fn empty(draft: &mut Draft<'_>, ask: &Empty) {
    "Maintenance".clone_into(&mut draft.title);
    let chosen = draft.chosen(&ask.hosts).into_iter();
    let named: Vec<Arc<Host>> = chosen.filter_map(|id| draft.host(id)).cloned().collect();
    draft.title = match named.as_slice() {
        [] => {
            let text = "No host is selected.";
            return draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
        }
        [one] => format!("Maintenance of {}", one.name),
        many => format!("Maintenance of {} hosts", many.len()),
    };
    let mut going = Vec::new();
    for host in &named {
        if reachable(draft, host) {
            going.extend(who_goes(draft, host));
        }
    }
    kept(draft, &named);
    let going_off = named.iter().map(|h| h.id).collect();
    draft.found_all(pooled::risks(draft.view.estate.as_ref(), &going_off, "hosts"));
    let closed = closed(draft, ask, &named, &going);
    let (leaves, stuck) = moves(draft, ask, &closed, &going);
    let stops = stops(draft, ask, &going, &stuck);
    for host in &named {
        let mut maintenance = maintenance(draft, ask, host, &going);
        maintenance.stopped.extend(going.iter().filter(|m| m.host == Some(host.id) && stops.contains_key(&m.id)).map(|m| m.id));
        draft.intend(Event::Host(hosts::Event::Maintained {
            host: host.id,
            maintenance: Box::new(maintenance),
        }));
        let on = going.iter().filter(|m| m.host == Some(host.id));
        let waits: Vec<usize> = on.filter_map(|m| leaves.get(&m.id).or(stops.get(&m.id))).copied().collect();
        if waits.is_empty() {
            let text = format!("No machine is on {}.", host.name);
            draft.found(Finding::clear(Rule::State, &host.name, text));
        }
        let step = Step::Host(hosts::Step::Vacate { host: host.id });
        let vacant = draft.step(step, format!("{} is empty", host.name), &waits, None);
        afterwards(draft, ask, host, vacant);
    }
}

/// Keepers on them: one that is switched off with its host is missed, as long as that lasts; all of them at once are a thought worth.
fn kept(draft: &mut Draft<'_>, named: &[Arc<Host>]) {
    let going: BTreeSet<HostId> = named.iter().map(|h| h.id).collect();
    let clusters = draft.estate().clusters.values();
    let keeping = clusters.filter_map(|c| Some((c, c.keeping.as_ref()?)));
    let found: Vec<Finding> = keeping
        .filter_map(|(cluster, keeping)| {
            let heard = |h: &&HostId| draft.estate().hosts.get(*h).is_some_and(|h| h.reports());
            let left = keeping.hosts.difference(&going).filter(heard).count();
            let text = match (keeping.hosts.intersection(&going).next().is_some(), left) {
                (false, _) => return None,
                (true, 0) => format!("All keepers of {} are on hosts that are emptied; while those are off, only the manager brings machines back.", cluster.name),
                (true, 1) => format!("Of the keepers of {} one is left while this lasts.", cluster.name),
                (true, n) => format!("Of the keepers of {} {n} are left while this lasts.", cluster.name),
            };
            let mind = Finding::mind(Rule::Keepers, &cluster.name, text).at("hosts");
            Some(mind.remedy("Place them on other hosts first, if the host is off for long."))
        })
        .collect();
    draft.found_all(found);
}

/// What is on a host of which nobody hears can't be moved; one with nothing on it may be closed whatever it does.
fn reachable(draft: &mut Draft<'_>, host: &Host) -> bool {
    let holds = draft.estate().machines_on(host.id).any(|m| !m.is_off());
    match host.out_of_reach().filter(|_| holds) {
        Some(why) => {
            let stop = Finding::stop(Rule::HostOpen, &host.name, format!("{why}; what is on it can't be moved."));
            draft.found(stop.at("hosts").remedy("Prove it off by its power sheet; then its machines start elsewhere."));
            false
        }
        None => true,
    }
}

/// The machines of a host that can be moved as they are; a *stop* for each that is in the middle of something.
fn who_goes(draft: &mut Draft<'_>, host: &Host) -> Vec<Machine> {
    let estate = draft.estate();
    for machine in estate.machines_arriving(host.id) {
        let text = format!("{} is on its way to {}.", machine.name, host.name);
        let stop = Finding::stop(Rule::State, &machine.name, text).at("hosts");
        draft.found(stop.remedy("Wait until it is there, or cancel its run."));
    }
    let mut going = Vec::new();
    let mut on: Vec<&Arc<Machine>> = estate.machines_on(host.id).collect();
    on.sort_by(|a, b| a.name.cmp(&b.name));
    for machine in on {
        let name = &machine.name;
        let doing = match &machine.state {
            MachineState::Running { .. } if machine.arriving.is_some() => "is being moved by another run",
            MachineState::Running { .. } => {
                going.push(Machine::clone(machine));
                continue;
            }
            MachineState::Off => continue,
            MachineState::Planned => "is being made there",
            MachineState::Starting(_) => "is starting",
            MachineState::Stopping => "is stopping",
            MachineState::Paused(_) => "is halted by its host; it can't be moved, only stopped",
        };
        let stop = Finding::stop(Rule::State, name, format!("{name} {doing}.")).at("hosts");
        let halted = matches!(machine.state, MachineState::Paused(_));
        draft.found(match halted {
            true => stop.offering([Offer::Stop(machine.id)]),
            false => stop.remedy("Wait until that is over."),
        });
    }
    going
}

fn maintenance(draft: &Draft<'_>, ask: &Empty, host: &Host, going: &[Machine]) -> Maintenance {
    let on = going.iter().filter(|m| m.host == Some(host.id)).map(|m| m.id);
    let former = host.maintenance.as_deref();
    Maintenance {
        since: former.map_or(draft.now, |m| m.since),
        reason: ask.reason.clone(),
        until: ask.lasts.map(|span| draft.now.plus(span)),
        run: draft.run(),
        had: former.into_iter().flat_map(|m| m.had.iter().copied()).chain(on).collect(),
        stopped: former.map_or_else(BTreeSet::new, |m| m.stopped.clone()),
        empty: false,
    }
}

/// The estate once nothing can be put on these hosts.
fn closed(draft: &Draft<'_>, ask: &Empty, named: &[Arc<Host>], going: &[Machine]) -> View {
    let mut estate = (*draft.view.estate).clone();
    for host in named {
        let mut shut = Host::clone(host);
        shut.maintenance = Some(Box::new(maintenance(draft, ask, host, going)));
        estate.put(Fact::Host(shut.into()));
    }
    draft.view.with(estate)
}

/// The steps by which machines leave, by machine, and those for which there is no way as they are.
fn moves(
    draft: &mut Draft<'_>,
    ask: &Empty,
    closed: &View,
    going: &[Machine],
) -> (BTreeMap<MachineId, usize>, BTreeSet<MachineId>) {
    let mut stuck = BTreeSet::new();
    let mut part = relocate(draft, ask, closed, going, &stuck);
    let held: BTreeSet<&str> = part.findings().iter().filter(|f| f.stops()).map(|f| f.subject.as_str()).collect();
    let ids: BTreeSet<MachineId> = going.iter().filter(|m| held.contains(m.name.as_str())).map(|m| m.id).collect();
    if ask.stop && !ids.is_empty() {
        stuck = ids.clone();
        part = relocate(draft, ask, closed, going, &stuck);
    }
    let who: Vec<MachineId> = part
        .planned()
        .filter_map(|step| match step {
            moving::Step::Move { machine, .. } => Some(*machine),
            moving::Step::MoveDisks { .. } => None,
        })
        .collect();
    let by_name: BTreeMap<&str, MachineId> = going.iter().map(|m| (m.name.as_str(), m.id)).collect();
    let say = |found: Finding| {
        let machine = by_name.get(found.subject.as_str()).filter(|_| found.stops());
        let here = matches!(found.field.as_deref(), Some("slow" | "force" | "wire"));
        let field = if machine.is_some() { "stop" } else { "hosts" };
        let found = if here { found } else { found.at(field) };
        // It stays where it is unless it is stopped; that is a proposal too.
        found.offering(machine.map(|id| Offer::Stop(*id)))
    };
    let steps = draft.take_in(part, &[], say, (Step::Move, Event::Move));
    (who.into_iter().zip(steps).collect(), stuck)
}

fn relocate<'b>(
    draft: &Draft<'_>,
    ask: &Empty,
    closed: &'b View,
    going: &[Machine],
    without: &BTreeSet<MachineId>,
) -> crate::road::Draft<'b, moving::Step> {
    let mut part = draft.beside(closed);
    let machines: Vec<MachineId> = going.iter().map(|m| m.id).filter(|id| !without.contains(id)).collect();
    if machines.is_empty() {
        return part;
    }
    let ask = moving::Move {
        machines,
        to: None,
        disks: None,
        slow: ask.slow,
        force: ask.force,
        wire: ask.wire,
    };
    moving::relocate(&mut part, &ask);
    part
}

/// Stops what can't leave: the step after which each is off.
fn stops(draft: &mut Draft<'_>, ask: &Empty, going: &[Machine], stuck: &BTreeSet<MachineId>) -> BTreeMap<MachineId, usize> {
    if !ask.stop || stuck.is_empty() {
        return BTreeMap::new();
    }
    let machines: Vec<MachineId> = stuck.iter().copied().collect();
    let names: Vec<&str> = going.iter().filter(|m| stuck.contains(&m.id)).map(|m| m.name.as_str()).collect();
    let text = format!("{} can't leave and will be down until the host is back.", names.join(", "));
    draft.found(Finding::mind(Rule::State, "stopped", text).at("stop"));
    let mut part = draft.beside::<machines::Step>(draft.view);
    let act = PowerAct::Stop {
        grace: GRACE,
        then: AfterGrace::LeaveOn,
    };
    machines::power(&mut part, &machines, act);
    let ends: Vec<Option<MachineId>> = part
        .planned()
        .map(|step| {
            let machines::Step::AwaitOff { machine, .. } = step else {
                return None;
            };
            Some(*machine)
        })
        .collect();
    let steps = draft.take_in(part, &[], |f| f, (Step::Machine, Event::Machine));
    ends.into_iter().zip(steps).filter_map(|(m, n)| Some((m?, n))).collect()
}

/// The power of the host, once it is known to be empty.
fn afterwards(draft: &mut Draft<'_>, ask: &Empty, host: &Host, vacant: usize) {
    let Afterwards::Power(act) = ask.then else { return };
    if matches!(host.condition, Condition::Off { .. }) {
        return;
    }
    let vacated = vacated(draft.view, host.id);
    let mut part = draft.beside::<hosts::Step>(&vacated);
    hosts::power(&mut part, host.id, act);
    let say = |found: Finding| found.at("then");
    // Said of all of them at once.
    part.leave_out(|f| f.rule != Rule::Pool);
    draft.take_in(part, &[vacant], say, (Step::Host, Event::Host));
}

/// The estate once nothing is on the host.
fn vacated(view: &View, host: HostId) -> View {
    let mut estate = (*view.estate).clone();
    for machine in view.estate.machines_on(host) {
        let mut gone = Machine::clone(machine);
        gone.host = None;
        estate.put(Fact::Machine(gone.into()));
    }
    view.with(estate)
}
