//! The checks before a snapshot is taken (rules, section 13).

use super::{Draft, Member, Quiet, Step, Take};
use crate::{
    copying::rate,
    estate::{Host, Machine, MachineState, Volume},
    finding::{Finding, Rule},
    ids::{MachineId, draw_uuid},
    layers::{DEEPEST, SLOWER},
    limits,
    loads::{DiskUse, MachineLoad},
    migration::FIXED,
    moment::Span,
    road::{self, Work},
    units::{Bytes, Rate, round},
};
use std::{
    collections::BTreeMap,
    sync::Arc,
};

/// Where no end is given, growth is told for so long.
const LOOKED_AHEAD: Span = Span::days(7);
/// Reads that take longer by more than so many hundredths are said.
const SLOW: usize = 10;
/// Of what is free, in thousandths: more than that is said.
const MUCH: u64 = 100;
/// The agent lets file systems go on after this long.
const FREEZE: Span = Span::secs(10);

pub(crate) fn take(draft: &mut Draft<'_>, ask: &Take) {
    let name = ask.name.trim();
    draft.title = format!("Take snapshot {name}");
    let stop = |rule, field: &str, text: String| Finding::stop(rule, field, text).at(field);
    if name.is_empty() {
        draft.found(stop(Rule::Name, "name", "Give it a name.".into()));
    } else if let Err(words) = limits::NAME.check(name.chars().count()) {
        draft.found(stop(Rule::Name, "name", words));
    }
    if ask.ends.is_some_and(|e| e.0 == 0) {
        draft.found(stop(Rule::State, "ends", "It would end as soon as it is taken.".into()));
    }
    let machines = draft.machines(&ask.machines);
    if machines.is_empty() {
        return draft.found(stop(Rule::Nothing, "machines", "No machine is selected.".into()));
    }
    draft.title = match machines.as_slice() {
        [one] => format!("Take snapshot {name} of {}", one.name),
        many => format!("Take snapshot {name} of {} machines", many.len()),
    };
    // What each volume has left for the next.
    let mut free: BTreeMap<_, Bytes> = BTreeMap::new();
    let mut said = Said::default();
    if ask.together {
        at_once(draft, ask, &machines);
    }
    for machine in &machines {
        if draft.is_own(machine, "machines")
            && alone(draft, machine, "machines")
            && let Some((host, volume)) = may(draft, machine)
        {
            let left = free.entry(volume.id).or_insert_with(|| volume.free());
            one(draft, ask, machine, (&host, &volume), left, &mut said);
        }
    }
    said.told(draft, ask);
    if ask.together {
        joined(draft, ask);
    }
}

/// All or none: whoever can't stand still holds up all others.
fn at_once(draft: &mut Draft<'_>, ask: &Take, machines: &[Arc<Machine>]) {
    let stop = |rule, field: &str, text: String| Finding::stop(rule, field, text).at(field);
    if ask.memory {
        draft.found(stop(Rule::Memory, "memory", "Memory takes a while to write; what is of one instant is without it.".into()));
    }
    if let Err(words) = limits::TOGETHER.check(ask.machines.len()) {
        draft.found(stop(Rule::Count, "machines", words));
    }
    for m in machines.iter().filter(|m| !m.is_off() && m.state != MachineState::Running { guest: true }) {
        let text = format!("The guest agent of {} does not answer: it can't stand still with the others, and so none has a snapshot.", m.name);
        draft.found(Finding::stop(Rule::Guest, &m.name, text).at("machines").remedy("Take it out of the selection, or take each by itself."));
    }
}

/// What was planned one by one is one step.
fn joined(draft: &mut Draft<'_>, ask: &Take) {
    let members: Vec<Member> = draft
        .planned()
        .filter_map(|step| match step {
            Step::Take { machine, via, snapshot, .. } => Some(Member { machine: *machine, via: *via, snapshot: *snapshot }),
            Step::Together { .. } | Step::Back { .. } | Step::Forget { .. } => None,
        })
        .collect();
    draft.forget_steps();
    let text = format!("All {} stand still before the first is asked for, and go on after the last is there; where one does not, none has a snapshot.", members.len());
    draft.found(Finding::clear(Rule::Guest, "machines", text));
    let step = Step::Together {
        name: ask.name.trim().to_owned(),
        note: ask.note.trim().to_owned(),
        ends: ask.ends.map(|e| draft.now.plus(e)),
        members,
    };
    draft.step(step, format!("Take {} of all at one instant", ask.name.trim()), &[], Some("machines"));
}

/// Of those that would have one, whoever can't now, with the reason.
pub(crate) fn able<S: Work>(draft: &road::Draft<'_, S>, ask: &Take) -> BTreeMap<MachineId, String> {
    let mut part = draft.beside::<super::Step>(draft.view);
    take(&mut part, ask);
    let stops: BTreeMap<&str, &str> = part.findings().iter().filter(|f| f.stops()).map(|f| (f.subject.as_str(), f.text.as_str())).collect();
    let all = ask.machines.iter().filter_map(|id| draft.estate().machines.get(id));
    all.filter_map(|m| Some((m.id, (*stops.get(m.name.as_str())?).to_owned()))).collect()
}

/// What is alike for many machines is said once.
#[derive(Default)]
struct Said {
    fine: usize,
    silent: Vec<String>,
    unmeasured: Vec<String>,
}

impl Said {
    fn told(self, draft: &mut Draft<'_>, ask: &Take) {
        let names = |all: &[String]| {
            let shown = all.iter().take(8).cloned().collect::<Vec<_>>().join(", ");
            if all.len() > 8 { format!("{shown} and {} more", all.len() - 8) } else { shown }
        };
        if !self.silent.is_empty() {
            let who = names(&self.silent);
            let then = match ask.quiet {
                Quiet::Only => "no snapshot of them is taken",
                Quiet::IfPossible | Quiet::No => "theirs are as after a power cut",
            };
            let text = format!("The guest agents of {who} do not answer, so their file systems can't stand still: {then}.");
            draft.found(Finding::mind(Rule::Guest, "machines", text).at("quiet"));
        } else if ask.quiet != Quiet::No && self.fine > 0 {
            let text = format!("File systems stand still for it, for {FREEZE} at most; then they go on, and the guest is left alone.");
            draft.found(Finding::clear(Rule::Guest, "machines", text));
        }
        if !self.unmeasured.is_empty() {
            let text = format!("Nobody measured how fast {} write; how far their snapshots will grow is not known.", names(&self.unmeasured));
            draft.found(Finding::unchecked(Rule::Disk, "machines", text));
        }
        let text = "Settings, cards, labels and rules are not part of a snapshot: who goes back keeps them as they are then.";
        draft.found(Finding::clear(Rule::Content, "machines", text));
    }
}

/// No snapshot holds a disk that other machines write too.
pub(super) fn alone(draft: &mut Draft<'_>, machine: &Machine, field: &str) -> bool {
    if !machine.is_node() {
        return true;
    }
    let (name, shared) = (&machine.name, draft.estate().clustered(machine).join(" and "));
    let text = format!("{name} shares {shared} with other machines: no snapshot holds what several write, and it would not fit what is on its own disks.");
    let stop = Finding::stop(Rule::Disk, name, text).at(field);
    draft.found(stop.remedy("Take the shared disk from it first, or leave it out."));
    false
}

/// Whether anything can be done to its disks now, and where.
pub(super) fn may(draft: &mut Draft<'_>, machine: &Arc<Machine>) -> Option<(Arc<Host>, Arc<Volume>)> {
    let name = &machine.name;
    if !draft.knows(machine) {
        return None;
    }
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("machines").remedy("Take it out of the selection.");
    let problem = if machine.deleted.is_some() {
        Some(stop(Rule::Deleted, format!("{name} was deleted.")))
    } else if machine.state == MachineState::Planned {
        Some(stop(Rule::State, format!("{name} is being made.")))
    } else if machine.arriving.is_some() {
        Some(stop(Rule::State, format!("{name} is being moved.")))
    } else if machine.disks.is_empty() {
        Some(stop(Rule::Disk, format!("{name} has no disks.")))
    } else {
        None
    };
    if let Some(problem) = problem {
        draft.found(problem);
        return None;
    }
    let via = draft.at_home(machine, "machines")?;
    let estate = draft.estate();
    let host = estate.hosts.get(&via)?.clone();
    let volume = machine.volumes().into_iter().next();
    let volume = volume.and_then(|v| estate.volumes.get(&v)).cloned();
    if volume.is_none() {
        draft.found(stop(Rule::Disk, format!("The volume of {name} is not known.")));
    }
    volume.map(|v| (host, v))
}

fn one(
    draft: &mut Draft<'_>,
    ask: &Take,
    machine: &Machine,
    (host, volume): (&Arc<Host>, &Arc<Volume>),
    free: &mut Bytes,
    said: &mut Said,
) {
    let name = &machine.name;
    let on = !machine.is_off();
    let answers = machine.state == MachineState::Running { guest: true };
    if ask.quiet != Quiet::No && on {
        match answers {
            true => said.fine += 1,
            false => said.silent.push(name.clone()),
        }
    }
    deep(draft, machine);
    let load = draft.view.loads.machines.get(&machine.id).copied();
    let memory = match ask.memory && on {
        true => memory(draft, machine, load),
        false => Bytes::ZERO,
    };
    let used = load.and_then(|l| l.disk);
    if used.is_none() && on {
        said.unmeasured.push(name.clone());
    }
    room(draft, ask, machine, volume, (memory, used.filter(|_| on)), free);
    let copy = rate(host, volume.id, volume.id);
    let time = match copy.0 {
        0 => Span::mins(10),
        bytes => Span::millis(round(memory.as_f64() / (bytes as f64) * 1000.0)),
    };
    if memory > Bytes::ZERO {
        let text = format!("{name}: {memory} of memory are written in about {time}; it runs on meanwhile and stands still for about {FIXED} at the end.");
        draft.found(Finding::clear(Rule::Memory, name, text).because(format!("at {copy}")));
    }
    let snapshot = draw_uuid(draft.run().0, machine.id.0, draft.now.0.unsigned_abs());
    let step = Step::Take {
        machine: machine.id,
        via: host.id,
        snapshot,
        name: ask.name.trim().to_owned(),
        note: ask.note.trim().to_owned(),
        quiet: ask.quiet,
        memory: ask.memory,
        ends: ask.ends.map(|e| draft.now.plus(e)),
        time,
    };
    draft.step(step, format!("Take {} of {name}", ask.name.trim()), &[], Some("machines"));
}

/// How many lie on each other already.
fn deep(draft: &mut Draft<'_>, machine: &Machine) {
    let (name, depth) = (&machine.name, machine.snapshots.depth() + 1);
    if depth >= DEEPEST {
        let text = format!("{depth} layers of {name} lie on each other; more than {DEEPEST} are not taken.");
        let stop = Finding::stop(Rule::Disk, name, text).at("machines");
        return draft.found(stop.remedy("Delete some of its snapshots first."));
    }
    let slower = depth * SLOWER;
    if slower > SLOW {
        let text = format!("With this one, {} layers of {name} lie on each other; its reads take about {slower} % longer.", depth + 1);
        draft.found(Finding::mind(Rule::Disk, name, text).at("machines").remedy("Delete those that nobody needs."));
    }
}

/// What it has touched is what is written.
fn memory(draft: &mut Draft<'_>, machine: &Machine, load: Option<MachineLoad>) -> Bytes {
    match load.and_then(|l| l.writes) {
        Some(writes) => writes.touched,
        None => {
            let text = format!("Nobody measured how much memory {} has touched; computed as if it were all of it.", machine.name);
            draft.found(Finding::unchecked(Rule::Memory, &machine.name, text));
            machine.memory.size
        }
    }
}

/// Memory now, and what is written over until it ends.
fn room(
    draft: &mut Draft<'_>,
    ask: &Take,
    machine: &Machine,
    volume: &Volume,
    (memory, used): (Bytes, Option<DiskUse>),
    free: &mut Bytes,
) {
    let (name, on) = (&machine.name, &volume.name);
    if memory > *free {
        let text = format!("{on} has {free} free; the memory of {name} needs {memory}.");
        let stop = Finding::stop(Rule::VolumeRoom, on, text).at("memory");
        return draft.found(stop.remedy("Take it without memory, or make room."));
    }
    let before = *free;
    *free = free.less(memory);
    let Some(used) = used else { return };
    let (time, until) = match ask.ends {
        Some(ends) => (ends, "until it ends"),
        None => (LOOKED_AHEAD, "within a week"),
    };
    let grows = grown(used, time);
    *free = free.less(grows);
    let all = memory + grows;
    let because = format!("it writes {}, and {} hold something", used.writes, used.used);
    if all > before.per_mille(MUCH) {
        let text = format!("What {name} writes over {until} may take {all} of the {before} that {on} has free.");
        let mind = Finding::mind(Rule::VolumeReserve, on, text).because(because).at("ends");
        return draft.found(mind.remedy("Let it end sooner, or watch the volume."));
    }
    let text = format!("The snapshot of {name} takes at most {all} {until}.");
    draft.found(Finding::clear(Rule::VolumeRoom, on, text).because(because));
}

/// No more than everything that it holds can be written over.
fn grown(used: DiskUse, time: Span) -> Bytes {
    let written = used.writes.0.saturating_mul(time.0 / 1000);
    Bytes(written).min(used.used)
}

/// How fast a machine writes to its disks, where somebody measured it.
pub(super) fn writes(draft: &Draft<'_>, machine: &Machine) -> Option<Rate> {
    if machine.is_off() {
        return Some(Rate(0));
    }
    let load = draft.view.loads.machines.get(&machine.id)?;
    load.disk.map(|d| d.writes)
}
