//! Moving machines to other hosts while they run (rules, section 5).

use super::{DisksTo, Draft, Event, Line, Move, Step, disks::shift};
use crate::{
    estate::{Cluster, Estate, Fact, Host, Machine, MachineState, NetRole, Network, RuleKind, Standing},
    finding::{Finding, Offer, Rule},
    fronts,
    ids::{ClusterId, HostId, MachineId},
    loads::Writes,
    migration::{Case, Course, Ends, FIXED, MAX_ROUNDS, TARGET, at_once, bandwidth, course},
    moment::Span,
    placement::{Choice, Ledger, NotPlaced, Obstacle, choose, choose_all},
    units::{Bytes, Rate},
    view::View,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use uuid::Uuid;

/// What a machine is taken to write where nobody measured it.
const UNMEASURED: Rate = Rate(64 << 20);
/// By how many hundredths a guest is slowed at a time, where it may be.
const SLOW_STEP: u32 = 10;

/// A machine with where it is and where it goes.
struct Leg {
    machine: Machine,
    from: Arc<Host>,
    to: Arc<Host>,
}

pub(crate) fn relocate(draft: &mut Draft<'_>, ask: &Move) {
    "Move machines".clone_into(&mut draft.title);
    if ask.machines.is_empty() {
        let text = "No machine is selected.";
        return draft.found(Finding::stop(Rule::Nothing, "machines", text));
    }
    let machines = draft.machines(&ask.machines);
    let machines: Vec<Machine> = machines.iter().map(|m| Machine::clone(m)).collect();
    draft.title = match machines.as_slice() {
        [one] => format!("Move {}", one.name),
        many => format!("Move {} machines", many.len()),
    };
    let (machines, after) = match ask.disks {
        None => (machines, BTreeMap::new()),
        Some(DisksTo { volume: None, .. }) => {
            let text = "Choose the volume that the disks go to.";
            return draft.found(Finding::stop(Rule::Nothing, "volume", text).at("volume"));
        }
        Some(DisksTo { volume: Some(to), stay }) => {
            let shifted = shift(draft, to, &machines);
            if stay {
                return;
            }
            // Who is off is on no host: only its disks go.
            let on = shifted.machines.into_iter().filter(|m| !m.is_off());
            (on.collect(), shifted.after)
        }
    };
    let machines = with_their_groups(draft, machines, ask.to);
    let mut clusters: BTreeMap<ClusterId, Vec<Machine>> = BTreeMap::new();
    for machine in machines {
        if !draft.knows(&machine) {
            continue;
        }
        if let Some(cluster) = movable(draft, &machine, ask.to) {
            clusters.entry(cluster).or_default().push(machine);
        }
    }
    for (cluster, machines) in clusters {
        if let Some(cluster) = draft.estate().clusters.get(&cluster).cloned() {
            within(draft, ask, &cluster, machines, &after);
        }
    }
}

/// The required keep-together rule that a machine is under.
fn group(draft: &Draft<'_>, machine: &Machine) -> Option<String> {
    let mut rules = draft.estate().rules_of(machine);
    let rule = rules.find(|r| r.required && r.kind == RuleKind::Together)?;
    Some(rule.name.to_string())
}

/// Machines that are kept together move together: who is on the same host as one that moves moves too, and is named. Who is
/// elsewhere is not; what moves goes there.
fn with_their_groups(
    draft: &mut Draft<'_>,
    mut machines: Vec<Machine>,
    to: Option<HostId>,
) -> Vec<Machine> {
    let chosen: BTreeSet<MachineId> = machines.iter().map(|m| m.id).collect();
    let mut followers: BTreeMap<MachineId, (Machine, String)> = BTreeMap::new();
    for machine in &machines {
        let Some((name, cluster)) = group(draft, machine).zip(machine.cluster) else {
            continue;
        };
        let rule = draft.estate().rules_of(machine).find(|r| r.name == name).cloned();
        let others = draft.estate().machines_in(cluster).filter(|m| {
            let on = matches!(m.state, MachineState::Running { .. });
            let beside = m.host == machine.host && m.host != to;
            on && beside && !chosen.contains(&m.id) && rule.as_ref().is_some_and(|r| r.who.has(m))
        });
        followers.extend(others.map(|m| (m.id, (Machine::clone(m), name.clone()))));
    }
    for (follower, rule) in followers.into_values() {
        let text = format!("{} moves too: “{rule}” keeps it together with what moves.", follower.name);
        draft.found(Finding::mind(Rule::Place, &follower.name, text));
        machines.push(follower);
    }
    machines
}

/// The cluster of a machine that can be moved at all; else a *stop*.
fn movable(draft: &mut Draft<'_>, machine: &Machine, to: Option<HostId>) -> Option<ClusterId> {
    let name = &machine.name;
    let stop = |words: String| Some(Finding::stop(Rule::State, name, words).at("machines"));
    let found = match (&machine.state, machine.cluster) {
        _ if machine.deleted.is_some() => stop(format!("{name} was deleted.")),
        (MachineState::Off | MachineState::Planned, _) => {
            let text = format!("{name} is off, so on no host: only its disks can go elsewhere.");
            let stop = Finding::stop(Rule::State, name, text).at("volume");
            draft.found(stop.remedy("Choose a volume for them; a host is chosen when it is powered on."));
            return None;
        }
        (MachineState::Running { .. }, None) => stop(format!("{name} is in no cluster.")),
        (MachineState::Running { .. }, Some(_)) if machine.arriving.is_some() => {
            stop(format!("{name} is being moved already."))
        }
        (MachineState::Running { .. }, Some(_)) if machine.host == to => {
            let text = format!("{name} is there already.");
            Some(Finding::stop(Rule::Placement, name, text).at("to"))
        }
        (MachineState::Running { .. }, Some(_)) => on_its_way(draft.estate(), machine).and_then(|(other, of)| {
            stop(format!("{other} is being moved, and both are nodes of guest cluster {of}: one at a time."))
        }),
        _ => stop(format!("{name} is not up; it is moved when it is.")),
    };
    match found {
        Some(finding) => {
            draft.found(finding.remedy("Take it out of the selection."));
            None
        }
        None => {
            parted(draft, machine);
            machine.cluster
        }
    }
}

/// Another node of a guest cluster that it is in, which is being moved now; and what that is called.
fn on_its_way(estate: &Estate, machine: &Machine) -> Option<(String, String)> {
    let other = estate.fellows(machine).into_iter().find(|m| m.arriving.is_some())?;
    let shared = machine.shares.iter().find(|s| other.shares(s.disk).is_some())?;
    let name = estate.shared_disk(shared.disk).map(|(_, d)| d.name.clone());
    Some((other.name.clone(), name.unwrap_or_default()))
}

/// On a network that ends at each host it loses whoever stays behind.
fn parted(draft: &mut Draft<'_>, machine: &Machine) {
    let on = machine.nics.iter().filter_map(|n| n.network);
    let networks = on.filter_map(|id| draft.estate().networks.get(&id));
    let Some(network) = networks.into_iter().find(|n| n.is_isolated()).cloned() else { return };
    let here = network.machines(draft.estate());
    let mut left = here.filter(|m| m.id != machine.id && m.host.is_some() && m.host == machine.host);
    if left.next().is_some() {
        let (name, of) = (&machine.name, &network.name);
        let text = format!("{name} speaks to others over {of}, which no uplink carries: it reaches them only while it is on the same host.");
        let mind = Finding::mind(Rule::Uplink, name, text).at("machines");
        draft.found(mind.remedy("Keep them together by a rule; then they move together."));
    }
}

/// `moved`: the steps after which each machine's disks are where they shall be.
fn within(
    draft: &mut Draft<'_>,
    ask: &Move,
    cluster: &Cluster,
    mut machines: Vec<Machine>,
    moved: &BTreeMap<MachineId, usize>,
) {
    // The longest first, so that the short ones fill the lanes beside it.
    machines.sort_by_key(|m| (std::cmp::Reverse(m.memory.size), m.id));
    let hosts: Vec<_> = draft.estate().hosts_in(cluster.id).cloned().collect();
    let before = Ledger::of(draft.view, hosts.clone(), &BTreeSet::new());
    let going: BTreeSet<MachineId> = machines.iter().map(|m| m.id).collect();
    let mut during = before.clone();
    let mut after = Ledger::of(draft.view, hosts, &going);
    let mut legs = Vec::new();
    for (party, seats) in seat(draft, ask, cluster, parties(draft, machines), &mut during) {
        match seats {
            Ok(choices) => {
                for (machine, choice) in party.into_iter().zip(choices) {
                    after.add(draft.view, choice.host, &machine);
                    draft.placed(&machine, &choice);
                    let estate = draft.estate();
                    let source = machine.host.and_then(|h| estate.hosts.get(&h)).cloned();
                    let to = estate.hosts.get(&choice.host).cloned();
                    if let Some((from, to)) = source.zip(to) {
                        legs.push(Leg { machine, from, to });
                    }
                }
            }
            Err(why) => {
                for machine in &party {
                    if let Some(source) = machine.host {
                        after.add(draft.view, source, machine);
                    }
                }
                no_place(draft, cluster, &party, &why);
            }
        }
    }
    plan(draft, ask, cluster, &legs, moved);
    draft.filled(&before, &after);
}

/// Who is kept together moves together; all others alone.
fn parties(draft: &Draft<'_>, machines: Vec<Machine>) -> Vec<Vec<Machine>> {
    let mut parties: Vec<Vec<Machine>> = Vec::new();
    let mut by_group: BTreeMap<String, usize> = BTreeMap::new();
    for machine in machines {
        let beside = group(draft, &machine).map(|name| *by_group.entry(name).or_insert(parties.len()));
        match beside.and_then(|at| parties.get_mut(at)) {
            Some(party) => party.push(machine),
            None => parties.push(vec![machine]),
        }
    }
    parties
}

type Seated = (Vec<Machine>, Result<Vec<Choice>, NotPlaced>);

/// A host for each party. Where one after the other leaves some over, all are packed at once, if so all find room.
fn seat(
    draft: &Draft<'_>,
    ask: &Move,
    cluster: &Cluster,
    parties: Vec<Vec<Machine>>,
    during: &mut Ledger,
) -> Vec<Seated> {
    let before = during.clone();
    let seated: Vec<Seated> = parties
        .into_iter()
        .map(|party| {
            // While they are on their way they hold memory on both hosts.
            let mut elsewhere = during.clone();
            for source in party.iter().filter_map(|m| m.host) {
                elsewhere = elsewhere.without(source);
            }
            let choices = choose_for(draft.view, &elsewhere, cluster, &party, ask.to);
            for (machine, choice) in party.iter().zip(choices.iter().flatten()) {
                during.add(draft.view, choice.host, machine);
            }
            (party, choices)
        })
        .collect();
    let alone = seated.iter().all(|(party, _)| party.len() == 1);
    if ask.to.is_some() || !alone || seated.iter().all(|(_, c)| c.is_ok()) {
        return seated;
    }
    let machines: Vec<Machine> = seated.iter().flat_map(|(party, _)| party.clone()).collect();
    let mut packed = before;
    let view = leaving(draft.view, &machines);
    let answers = choose_all(&view, &mut packed, cluster, &machines, None);
    let all: Result<Vec<Choice>, NotPlaced> = answers.into_iter().map(|a| a.map(|p| p.choice)).collect();
    let Ok(choices) = all else { return seated };
    let stays = |(m, c): (&Machine, &Choice)| m.host == Some(c.host);
    if machines.iter().zip(&choices).any(stays) {
        return seated;
    }
    *during = packed;
    machines.into_iter().zip(choices).map(|(m, c)| (vec![m], Ok(vec![c]))).collect()
}

/// Where they are now doesn't hold them: they all leave.
fn leaving(view: &View, machines: &[Machine]) -> View {
    let mut estate = (*view.estate).clone();
    for machine in machines {
        let mut gone = machine.clone();
        gone.host = None;
        estate.put(Fact::Machine(gone.into()));
    }
    view.with(estate)
}

fn no_place(draft: &mut Draft<'_>, cluster: &Cluster, party: &[Machine], why: &NotPlaced) {
    let names: Vec<_> = party.iter().map(|m| m.name.as_str()).collect();
    let who = names.join(" and ");
    let takes = if party.len() == 1 { "takes" } else { "takes all of" };
    let text = format!("No other host of {} {takes} {who}.", cluster.name);
    let because = why.evidence(draft.estate());
    let Some(first) = party.first() else { return };
    let offers: BTreeSet<Offer> = party.iter().flat_map(|m| offers(draft.estate(), cluster, m, why)).collect();
    let stop = Finding::stop(Rule::Placement, &first.name, text);
    draft.found(stop.because(because).at("to").offering(offers));
}

/// What would let it go after all, by what stands in its way.
fn offers(estate: &Estate, cluster: &Cluster, machine: &Machine, why: &NotPlaced) -> Vec<Offer> {
    let image = machine.boot.attached.map(|a| a.volume).and_then(|v| estate.volumes.get(&v));
    let found = why.refused.iter().flat_map(|(_, all)| all);
    let offer = |obstacle: &Obstacle| {
        if let Obstacle::NoPath { volume } = obstacle {
            let its_image = image.is_some_and(|v| v.name == *volume);
            let disks = machine.volumes().iter().filter_map(|v| estate.volumes.get(v)).any(|v| v.name == *volume);
            return Some(if its_image && !disks { Offer::TakeOut(machine.id) } else { Offer::MoveDisks(machine.id) });
        }
        let rule = matches!(obstacle, Obstacle::Apart { .. } | Obstacle::Together { .. } | Obstacle::Pinned { .. });
        rule.then_some(Offer::Rules(cluster.id))
    };
    found.filter_map(offer).collect()
}

/// A host for a machine, or one for all of a party that stays together: the first of the best on which all have room.
fn choose_for(
    view: &View,
    ledger: &Ledger,
    cluster: &Cluster,
    party: &[Machine],
    to: Option<HostId>,
) -> Result<Vec<Choice>, NotPlaced> {
    if let [one] = party {
        return choose(view, ledger, cluster, one, to).map(|c| vec![c]);
    }
    let view = &leaving(view, party);
    let Some(first) = party.first() else {
        return Ok(vec![]);
    };
    let best = choose(view, ledger, cluster, first, to)?;
    let hosts = std::iter::once(best.host).chain(best.others.iter().map(|(h, _)| *h));
    let mut why = None;
    for host in hosts {
        let mut there = ledger.clone();
        let mut choices = Vec::new();
        for machine in party {
            match choose(view, &there, cluster, machine, Some(host)) {
                Ok(choice) => {
                    there.add(view, host, machine);
                    choices.push(choice);
                }
                Err(no) => {
                    why = why.or(Some(no));
                    break;
                }
            }
        }
        if choices.len() == party.len() {
            return Ok(choices);
        }
    }
    Err(why.unwrap_or(NotPlaced {
        machine: first.id,
        refused: vec![],
        never: None,
        needs: first.held(),
    }))
}

/// The network that migrations of the cluster go over: one meant for it, else the hosts' own, else none.
fn network(draft: &mut Draft<'_>, cluster: &Cluster) -> Option<Arc<Network>> {
    let all = draft.estate().networks_of(cluster.id);
    let of = |role| all.iter().find(|n| n.role == role && n.ready);
    if let Some(meant) = of(NetRole::Migration) {
        return Some((*meant).clone());
    }
    let name = &cluster.name;
    let other = of(NetRole::Management).map(|n| (*n).clone());
    draft.found(match &other {
        Some(n) => {
            let text = format!(
                "{name} has no network for migration; {} carries it.",
                n.name
            );
            Finding::mind(Rule::Migration, name, text)
        }
        None => {
            let text = format!("{name} has no network over which machines can be moved.");
            Finding::stop(Rule::Migration, name, text)
                .at("to")
                .remedy("Make a network with the role migration first.")
        }
    });
    other
}

/// The narrowest uplink on which a host has the network, in Mbit/s.
fn uplink(estate: &Estate, host: &Host, network: &Network) -> u64 {
    let (ways, _) = network.ways(estate, host);
    if let Some(slowest) = ways.iter().map(|u| u.mbit).min() {
        return slowest;
    }
    let on = host.uplinks.iter();
    let carrying = on.filter(|u| network.uplinks.contains(&u.name));
    carrying.map(|u| u.mbit).min().unwrap_or(0)
}

/// What it says of a move that is tried although its line is said to be wrong.
const TRIED: &str = "It is tried all the same; what doesn't get through stays where it is.";

fn reaches(draft: &mut Draft<'_>, ask: &Move, host: &Host, network: &Network) {
    let standing = network.standing(draft.estate(), host);
    let text = format!("{} on {}: {}.", network.name, host.name, standing.words());
    match standing {
        Standing::Fine => {}
        Standing::Unchecked(_) => {
            draft.found(Finding::unchecked(Rule::Wire, &host.name, text));
        }
        Standing::Wire(_) => {
            let (ways, _) = network.ways(draft.estate(), host);
            let ways: Vec<_> = ways.iter().map(|u| u.name.as_str()).collect();
            let name = &host.name;
            draft.found(match ways.as_slice() {
                [] if ask.wire => Finding::mind(Rule::Wire, name, format!("{text} {TRIED}")).at("wire"),
                [] => Finding::stop(Rule::Wire, name, text).at("wire").remedy(
                    "Mend the port first, leave this host's machines where they are, or try it all the same.",
                ),
                ways => {
                    let text = format!("{text} It goes over {}.", ways.join(" and "));
                    Finding::mind(Rule::Wire, name, text).at("to")
                }
            });
        }
        Standing::Missing | Standing::Differs(_) => {
            draft.found(Finding::stop(Rule::Wire, &host.name, text).at("to").remedy(
                "Mend the network there first, or leave this host's machines where they are.",
            ))
        }
    }
}

/// Where the next move of a host can begin: each lane with the step that holds it last.
struct Lanes(BTreeMap<HostId, Vec<(Span, Option<usize>)>>);

impl Lanes {
    /// Takes the lane that is free first; answers the step to wait for and when that is done.
    fn first(&mut self, host: HostId, lanes: usize) -> (usize, Span, Option<usize>) {
        let all = self.0.entry(host).or_default();
        all.resize(lanes.max(1), (Span(0), None));
        let free = all.iter().enumerate().min_by_key(|(_, lane)| lane.0);
        free.map_or((0, Span(0), None), |(i, lane)| (i, lane.0, lane.1))
    }
    fn take(&mut self, host: HostId, lane: usize, until: Span, step: usize) {
        if let Some(slot) = self.0.get_mut(&host).and_then(|all| all.get_mut(lane)) {
            *slot = (until, Some(step));
        }
    }
}

fn plan(
    draft: &mut Draft<'_>,
    ask: &Move,
    cluster: &Cluster,
    legs: &[Leg],
    moved: &BTreeMap<MachineId, usize>,
) {
    if legs.is_empty() {
        return;
    }
    let Some(network) = network(draft, cluster) else {
        return;
    };
    let ends: BTreeMap<HostId, Arc<Host>> = legs
        .iter()
        .flat_map(|l| [&l.from, &l.to])
        .map(|h| (h.id, h.clone()))
        .collect();
    for host in ends.values() {
        reaches(draft, ask, host, &network);
    }
    let estate = draft.estate();
    let uplink = |host: &Host| uplink(estate, host, &network);
    // So many streams share each host's uplink.
    let streams = |host: &Host| {
        let own = legs
            .iter()
            .filter(|l| l.from.id == host.id || l.to.id == host.id);
        own.count().min(at_once(uplink(host)))
    };
    let mut lanes = Lanes(BTreeMap::new());
    // The last move of each guest cluster: two of its nodes are never on their way at once.
    let mut nodes: BTreeMap<Uuid, (usize, Span, String)> = BTreeMap::new();
    for leg in legs {
        let (near, far) = (uplink(&leg.from), uplink(&leg.to));
        let shared = streams(&leg.from).max(streams(&leg.to));
        let line = Line {
            network: network.name.clone(),
            bandwidth: bandwidth(near, far, shared),
            target: Span(TARGET.0 - FIXED.0),
            slow: ask.slow,
            force: ask.force,
        };
        let foretold = foretell(draft, &leg.machine, &line);
        judge(draft, ask, &leg.machine, &line, &foretold);
        let (a, near_free, near_step) = lanes.first(leg.from.id, at_once(near));
        let (b, far_free, far_step) = lanes.first(leg.to.id, at_once(far));
        let mut waits: Vec<usize> = near_step.into_iter().chain(far_step).collect();
        waits.extend(moved.get(&leg.machine.id));
        let mut begins = near_free.max(far_free);
        for share in &leg.machine.shares {
            let Some((step, until, other)) = nodes.get(&share.disk) else { continue };
            waits.push(*step);
            begins = begins.max(*until);
            let text = format!("{} waits until {other} is there: nodes of one guest cluster are moved one at a time.", leg.machine.name);
            draft.found(Finding::mind(Rule::Apart, &leg.machine.name, text).at("machines"));
        }
        waits.sort_unstable();
        waits.dedup();
        let until = begins.plus(foretold.time());
        let (id, to) = (leg.machine.id, leg.to.id);
        draft.intend(Event::Moving {
            machine: id,
            to: Some(to),
        });
        let step = Step::Move {
            machine: id,
            from: leg.from.id,
            to,
            line,
            foretold: Box::new(foretold),
        };
        let title = format!(
            "Move {} from {} to {}",
            leg.machine.name, leg.from.name, leg.to.name
        );
        let step = draft.step(step, title, &waits, Some("to"));
        for share in &leg.machine.shares {
            nodes.insert(share.disk, (step, until, leg.machine.name.clone()));
        }
        lanes.take(leg.from.id, a, until, step);
        lanes.take(leg.to.id, b, until, step);
    }
}

/// What its course will be, from what was measured of it.
fn foretell(draft: &mut Draft<'_>, machine: &Machine, line: &Line) -> Course {
    draft.found_all(fronts::leaves(draft.estate(), machine));
    let measured = draft.view.loads.machines.get(&machine.id);
    let writes = measured.and_then(|l| l.writes);
    if writes.is_none() {
        let text = format!(
            "Nobody measured how {} writes; computed as if it had touched all of its memory and wrote {UNMEASURED}.",
            machine.name
        );
        draft.found(Finding::unchecked(Rule::Migration, &machine.name, text));
    }
    let writes = writes.unwrap_or(Writes {
        dirty: UNMEASURED,
        touched: machine.memory.size,
        working_set: machine.memory.size,
    });
    let mut course = course(&Case {
        memory: Bytes(writes.touched.0.min(machine.memory.size.0)),
        bandwidth: line.bandwidth,
        dirty: writes.dirty,
        working_set: writes.working_set,
        target: line.target,
        max_rounds: MAX_ROUNDS,
        slow_step: if line.slow { SLOW_STEP } else { 0 },
    });
    if line.bandwidth.0 == 0 {
        // Nothing is drawn that has no length.
        course.rounds.clear();
        (course.seconds, course.downtime) = (0.0, 0.0);
    }
    course
}

fn judge(draft: &mut Draft<'_>, ask: &Move, machine: &Machine, line: &Line, course: &Course) {
    let name = &machine.name;
    let still = course.stands_still();
    if line.bandwidth.0 == 0 {
        let text = format!("The uplinks for {} have no known speed.", line.network);
        return draft.found(Finding::stop(Rule::Migration, name, text).at("to"));
    }
    let basis = format!(
        "{} sent at {}, {} rounds",
        course.total,
        line.bandwidth,
        course.rounds.len()
    );
    if course.converges() {
        let text = format!(
            "{name} is there in about {}; it stands still for {still}.",
            course.time()
        );
        draft.found(if course.slowed == 0 {
            Finding::clear(Rule::Migration, name, text).because(basis)
        } else {
            let slowed = format!(
                "{text} On the way it is slowed by up to {} %.",
                course.slowed
            );
            Finding::mind(Rule::Migration, name, slowed)
                .because(basis)
                .at("slow")
        });
        return;
    }
    let why = match course.ends {
        Ends::Rounds => format!("{name} is not there after {MAX_ROUNDS} rounds."),
        Ends::Downtime | Ends::Stalled => format!("{name} writes faster than the line carries: it never gets there."),
    };
    if ask.force {
        draft.interrupts(machine);
        let text = format!("{why} It is moved all the same, and stands still for about {still}.");
        return draft.found(
            Finding::mind(Rule::Migration, name, text)
                .because(basis)
                .at("force"),
        );
    }
    let remedy = if ask.slow {
        format!("Move it all the same: then it stands still for about {still}.")
    } else {
        format!(
            "Let it be slowed on the way, or move it all the same and let it stand still for about {still}."
        )
    };
    draft.found(
        Finding::stop(Rule::Migration, name, why)
            .because(basis)
            .at("slow")
            .remedy(remedy),
    );
}
