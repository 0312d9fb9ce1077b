//! The checks before snapshots are deleted: what is copied, freed and needed meanwhile, and how long it takes.

use super::{
    Draft, Forget, Step, Which, layers,
    take::{may, writes},
};
use crate::{
    copying::rate,
    estate::{Host, Machine, Volume},
    finding::{Finding, Rule},
    ids::VolumeId,
    layers::Fold,
    moment::Span,
    units::{Bytes, Rate},
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// Longer is said.
const LONG: Span = Span::mins(60);
/// Likewise what it stands still for.
const STILL: Span = Span::secs(1);
/// More of them are told in one sentence.
const TOLD: usize = 8;

pub(crate) fn forget(draft: &mut Draft<'_>, ask: &Forget) {
    "Delete snapshots".clone_into(&mut draft.title);
    let machines = draft.machines(&ask.machines);
    let mut count = 0;
    let mut all = Vec::new();
    for machine in machines {
        let gone = chosen(draft, &machine, &ask.which);
        if !gone.is_empty() {
            count += gone.len();
            all.push((machine, gone));
        }
    }
    draft.title = match all.as_slice() {
        [] => {
            let text = match ask.which {
                Which::OlderThan(age) => format!("None of them has a snapshot that is older than {age}."),
                Which::These(_) | Which::Branch(_) | Which::All => "No snapshot is chosen.".to_owned(),
            };
            return draft.found(Finding::stop(Rule::Nothing, "which", text).at("which"));
        }
        [(one, gone)] if gone.len() == 1 => {
            let named = gone.first().and_then(|u| one.snapshots.get(*u));
            format!("Delete snapshot {} of {}", named.map_or("", |s| s.name.as_str()), one.name)
        }
        [(one, gone)] => format!("Delete {} snapshots of {}", gone.len(), one.name),
        many => format!("Delete {count} snapshots of {} machines", many.len()),
    };
    let mut last: BTreeMap<VolumeId, usize> = BTreeMap::new();
    let mut sum = Sum::default();
    for (machine, gone) in &all {
        let Some((host, volume)) = may(draft, machine) else { continue };
        stands_on(draft, machine, gone);
        let fold = one(draft, machine, gone, (&host, &volume), &mut sum);
        let waits: Vec<usize> = last.get(&volume.id).copied().into_iter().collect();
        let step = Step::Forget {
            machine: machine.id,
            via: host.id,
            snapshots: gone.clone(),
            bytes: fold.0,
            time: fold.1,
        };
        let title = match gone.as_slice() {
            [_] => format!("Delete a snapshot of {}", machine.name),
            more => format!("Delete {} snapshots of {}", more.len(), machine.name),
        };
        // One after the other on each volume, so that each gets the whole rate.
        let step = draft.step(step, title, &waits, Some("which"));
        last.insert(volume.id, step);
    }
    sum.told(draft);
}

/// What changed since is told from what a replica stands on.
fn stands_on(draft: &mut Draft<'_>, machine: &Machine, gone: &[Uuid]) {
    let Some(replica) = &machine.replica else { return };
    if machine.snapshots.rests_on.is_some_and(|at| gone.contains(&at)) {
        let (name, of) = (&machine.name, &replica.name);
        let text = format!("{name} stands on one of these: the next copy of {of} is of everything.");
        draft.found(Finding::mind(Rule::Disk, name, text).at("which"));
    }
}

/// What is alike for many machines is told as one.
#[derive(Default)]
struct Sum {
    copied: Bytes,
    freed: Bytes,
    time: Span,
    machines: usize,
    unread: Vec<String>,
}

impl Sum {
    fn told(self, draft: &mut Draft<'_>) {
        if self.machines > TOLD || !self.unread.is_empty() {
            let text = "What is deleted can't be gone back to any more; the machines keep what they have now.";
            draft.found(Finding::mind(Rule::Content, "which", text).at("which"));
        }
        if self.machines > TOLD {
            let text = format!(
                "In all {} are copied and {} are free again, in about {} one after the other on each volume.",
                self.copied, self.freed, self.time
            );
            draft.found(Finding::mind(Rule::VolumeRoom, "which", text));
        }
        if !self.unread.is_empty() {
            let shown = self.unread.iter().take(TOLD).cloned().collect::<Vec<_>>().join(", ");
            let text = format!("The layers of {shown} were not read; what deleting costs is not known.");
            draft.found(Finding::unchecked(Rule::Disk, "which", text));
        }
    }
}

fn chosen(draft: &Draft<'_>, machine: &Machine, which: &Which) -> Vec<Uuid> {
    let all = machine.snapshots.all.iter();
    let is = |wanted: &[Uuid], uuid: Uuid| wanted.contains(&uuid);
    match which {
        Which::These(these) => all.map(|s| s.uuid).filter(|u| is(these, *u)).collect(),
        Which::Branch(roots) => {
            let with = |root: &Uuid| {
                let mut all = machine.snapshots.above(*root);
                all.extend(machine.snapshots.get(*root).map(|s| s.uuid));
                all
            };
            let gone: Vec<Uuid> = roots.iter().flat_map(with).collect();
            all.map(|s| s.uuid).filter(|u| is(&gone, *u)).collect()
        }
        Which::OlderThan(age) => {
            let old = all.filter(|s| draft.now.since(s.taken) > *age);
            old.map(|s| s.uuid).collect()
        }
        Which::All => all.map(|s| s.uuid).collect(),
    }
}

fn one(
    draft: &mut Draft<'_>,
    machine: &Arc<Machine>,
    gone: &[Uuid],
    (host, volume): (&Host, &Volume),
    sum: &mut Sum,
) -> (Bytes, Span) {
    let name = &machine.name;
    let Some(chain) = layers(draft.view, machine, draft.now) else {
        sum.unread.push(name.clone());
        return (Bytes::ZERO, Span::mins(10));
    };
    let mut then = chain.clone();
    let mut fold = then.forget(&gone.iter().copied().collect());
    fold.freed += machine.snapshots.all.iter().filter(|s| gone.contains(&s.uuid)).filter_map(|s| s.memory).sum();
    let copy = rate(host, volume.id, volume.id);
    let measured = writes(draft, machine);
    if measured.is_none() {
        let text = format!("Nobody measured how fast {name} writes; computed as if it wrote nothing meanwhile.");
        draft.found(Finding::unchecked(Rule::Disk, name, text));
    }
    let written = measured.unwrap_or(Rate(0));
    if copy.0 == 0 {
        let text = format!("The uplinks of {} to {} have no known speed; how long it takes is not known.", host.name, volume.name);
        draft.found(Finding::unchecked(Rule::Disk, name, text));
        return (fold.copied(), Span::mins(10));
    }
    let Some(time) = fold.time(copy, written) else {
        let text = format!("{name} writes {written}, and the copy is no faster than {copy}: it never gets there.");
        let stop = Finding::stop(Rule::Disk, name, text).at("which");
        draft.found(stop.remedy("Delete them while it is off, or when it writes less."));
        return (fold.copied(), Span(0));
    };
    sum.machines += 1;
    sum.copied += fold.copied();
    sum.freed += fold.freed;
    sum.time = sum.time.plus(time);
    let one = One {
        machine,
        volume,
        gone: gone.len(),
        fold,
        time,
        rates: (copy, written),
    };
    one.said(draft, sum.machines <= TOLD);
    (fold.copied(), time)
}

/// What deleting the snapshots of one machine costs.
struct One<'a> {
    machine: &'a Machine,
    volume: &'a Volume,
    gone: usize,
    fold: Fold,
    time: Span,
    /// Of the copy, and of what is written meanwhile.
    rates: (Rate, Rate),
}

impl One<'_> {
    fn said(&self, draft: &mut Draft<'_>, each: bool) {
        let (name, on, fold) = (&self.machine.name, &self.volume.name, &self.fold);
        if fold.peak > self.volume.free() {
            let text = format!("{on} has {} free; until it is over {name} needs {} more.", self.volume.free(), fold.peak);
            let stop = Finding::stop(Rule::VolumeRoom, on, text).at("which");
            draft.found(stop.remedy("Make room on the volume, or move the disks of others away first."));
        }
        if each || self.time > LONG || fold.stands_still() > STILL {
            draft.found(self.cost());
        }
        if fold.stay > 0 {
            let text = format!("Several snapshots of {name} lie on one that goes: what it holds stays until one of them is left, and is not free before.");
            draft.found(Finding::mind(Rule::Disk, name, text).at("which"));
        }
    }

    fn cost(&self) -> Finding {
        let (name, fold, (copy, written)) = (&self.machine.name, &self.fold, self.rates);
        let gone = match self.gone {
            1 => "a snapshot".to_owned(),
            n => format!("{n} snapshots"),
        };
        let still = match self.machine.is_off() {
            true => String::new(),
            false => format!(", and it stands still for about {} at the end", fold.stands_still()),
        };
        let (copied, freed, time) = (fold.copied(), fold.freed, self.time);
        let text = format!("{name} can't go back to {gone} any more; it keeps what it has now. {copied} are copied in about {time}{still}; {freed} are free again.");
        let mut because = format!("copied at {copy}, {written} written meanwhile");
        if fold.peak > Bytes::ZERO {
            because = format!("{because}; up to {} of room besides", fold.peak);
        }
        Finding::mind(Rule::Content, name, text).because(because).at("which")
    }
}
