//! The checks before a machine is copied into a store (rules, section 17).

use super::{CopySnapshot, Draft, Step};
use crate::{
    copying::Line,
    estate::{Job, Machine, Series, Store, StoredPoint},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{HostId, SeriesId, StoreId},
    moment::{Moment, Span},
    units::Bytes,
};
use std::sync::Arc;
use uuid::Uuid;

pub(super) fn snapshot(draft: &mut Draft<'_>, ask: &CopySnapshot) {
    "Copy a snapshot into a store".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned().filter(|m| draft.knows(m)) else { return };
    let Some(store) = chosen(draft, ask.store) else { return };
    let name = &machine.name;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("snapshot");
    let Some(snapshot) = ask.snapshot.and_then(|s| machine.snapshots.get(s)).cloned() else {
        return draft.found(stop(Rule::Exists, format!("Choose a snapshot of {name}.")));
    };
    draft.title = format!("Copy {} of {name} to {}", snapshot.name, store.name);
    if snapshot.memory.is_some() {
        let text = format!("The memory in {} is not copied; the disks are as after a power cut.", snapshot.name);
        draft.found(Finding::mind(Rule::Memory, name, text));
    }
    let series = draft.estate().backups_at(&machine, store.id).cloned();
    if let Some(newer) = series.as_ref().and_then(|s| s.newest()).filter(|p| p.taken >= snapshot.taken) {
        let text = match newer.session == snapshot.uuid {
            true => format!("{} is in {} already.", snapshot.name, store.name),
            false => format!("{} has a later state of {name} already; an earlier one would not be the newest.", store.name),
        };
        return draft.found(stop(Rule::State, text));
    }
    let Some(via) = draft.at_home(&machine, "machine") else { return };
    Copies::to(draft, &store, 1, None).copy(draft, &machine, via, snapshot.uuid);
}

/// The store, if it is there and can be written to.
pub(crate) fn chosen(draft: &mut crate::road::Draft<'_, impl crate::road::Work>, id: Option<StoreId>) -> Option<Arc<Store>> {
    match draft.estate().store_for_copies(id) {
        Ok(store) => Some(store.clone()),
        Err(why) => {
            draft.found(why.at("store"));
            None
        }
    }
}

/// Of so few machines each is told of; of more what they are together.
const EACH: usize = 8;

/// What is read of machines, and how long that takes by what was measured before.
pub(crate) struct Copies<'a> {
    store: &'a Store,
    line: Line,
    job: Option<&'a Job>,
    ends: Option<Moment>,
    group: Option<Uuid>,
    each: bool,
    machines: usize,
    /// First copies, and what is read for all.
    first: usize,
    bytes: Bytes,
    /// Of which nobody told how much it is: taken as everything.
    unknown: usize,
}

/// What is read of one, at most.
struct Reading {
    bytes: Bytes,
    first: bool,
    known: bool,
}

impl<'a> Copies<'a> {
    pub(crate) fn to(draft: &Draft<'_>, store: &'a Store, machines: usize, job: Option<&'a Job>) -> Copies<'a> {
        Copies {
            store,
            line: Line::to(draft.estate(), store.id),
            job,
            ends: None,
            group: None,
            each: machines <= EACH,
            machines: 0,
            first: 0,
            bytes: Bytes::ZERO,
            unknown: 0,
        }
    }

    /// Wanted until then.
    pub(crate) fn until(self, ends: Option<Moment>) -> Copies<'a> {
        Copies { ends, ..self }
    }

    /// What is copied from now on is of one instant; none: each by itself.
    pub(crate) fn of_group(&mut self, group: Option<Uuid>) -> &mut Copies<'a> {
        self.group = group;
        self
    }

    /// The step, after others.
    pub(crate) fn copy(&mut self, draft: &mut Draft<'_>, machine: &Arc<Machine>, via: HostId, snapshot: Uuid) {
        let (name, to) = (&machine.name, &self.store.name);
        let series = draft.estate().backups_at(machine, self.store.id).cloned();
        let before = series.as_deref().and_then(Series::newest);
        let often = self.job.and_then(|j| j.how.whole);
        let whole = before.is_some_and(|b| often.is_some_and(|o| o.is_due(b, draft.now)));
        let only: Option<Vec<Uuid>> = self.job.filter(|j| j.how.leaves_out).map(|j| j.disks(machine).map(|d| d.key).collect());
        let only = only.filter(|keys| keys.len() < machine.disks.len()).unwrap_or_default();
        let reading = reading(draft, (machine, &only), before, whole);
        self.machines += 1;
        self.first += usize::from(reading.first);
        self.unknown += usize::from(!reading.known);
        self.bytes += reading.bytes;
        if self.each {
            let bytes = reading.bytes;
            let text = match (reading.first, reading.known) {
                (false, _) if whole => format!("All of {name} is read, {bytes} at most; what {to} has already is not stored again."),
                (true, true) => format!("The first copy of {name} in {to} is of everything that its disks hold: {bytes}."),
                (true, false) => format!("The first copy of {name} in {to} is of everything: {bytes} at most, how much of that holds something nobody told."),
                (false, true) => format!("{name}: what changed since the last copy is read, {bytes} at most."),
                (false, false) => format!("{name}: what changed since the last copy is read; how much that is its host says when it begins."),
            };
            draft.found(Finding::clear(Rule::Content, name, text).because(self.line.because(bytes)));
        }
        let id = series.map(|s| s.id).unwrap_or_else(|| SeriesId(draft.number()));
        let step = Step::Copy {
            machine: machine.id,
            via,
            snapshot,
            store: self.store.id,
            series: id,
            bytes: reading.bytes,
            time: self.line.time(reading.bytes),
            job: self.job.map(|j| j.id),
            ends: self.ends,
            only,
            whole,
            group: self.group,
        };
        draft.step(step, format!("Copy {name} to {to}"), &[], Some("store"));
    }

    /// What is alike for many is told as one.
    pub(crate) fn said(&self) -> Option<Finding> {
        if self.each {
            return None;
        }
        let (n, to, bytes) = (self.machines, &self.store.name, self.bytes);
        let next = n - self.first;
        let text = format!("{} first copies in {to}, and what changed on {next} others: {bytes} at most are read.", self.first);
        let finding = Finding::clear(Rule::Content, "machines", text).because(self.line.because(bytes));
        Some(match self.unknown {
            0 => finding,
            some => finding.remedy(format!("Of {some} nobody told how much they hold; they are counted whole.")),
        })
    }
}

fn reading(draft: &Draft<'_>, (machine, only): (&Machine, &[Uuid]), before: Option<&StoredPoint>, whole: bool) -> Reading {
    let wanted = machine.disks.iter().filter(|d| only.is_empty() || only.contains(&d.key));
    let all: Bytes = wanted.map(|d| d.size).sum();
    let held = held(draft, machine).map(|held| held.min(all));
    let Some(before) = before.filter(|_| !whole) else {
        return Reading {
            bytes: held.unwrap_or(all),
            first: before.is_none(),
            known: held.is_some(),
        };
    };
    let most = held.unwrap_or(before.size);
    let changed = changed(draft, machine, draft.now.since(before.taken));
    Reading {
        bytes: changed.map_or(most, |c| c.min(most)),
        first: false,
        known: changed.is_some(),
    }
}

/// What its disks hold, if its host told lately.
pub(crate) fn held(draft: &crate::road::Draft<'_, impl crate::road::Work>, machine: &Machine) -> Option<Bytes> {
    let told = draft.view.evidence.fresh(&Probe::Layers(machine.id), draft.now);
    let Some(Answer::Layers(chain)) = told else { return draft.view.loads.machines.get(&machine.id)?.disk.map(|d| d.used) };
    Some(chain.seen(chain.current))
}

/// No more than it can have written since.
pub(crate) fn changed(draft: &crate::road::Draft<'_, impl crate::road::Work>, machine: &Machine, since: Span) -> Option<Bytes> {
    let load = draft.view.loads.machines.get(&machine.id)?;
    let writes = load.disk?.writes;
    Some(Bytes(writes.0.saturating_mul(since.0 / 1000)))
}
