//! The checks before machines are backed up (rules, section 17): those of a snapshot, and those of the copy.

use super::{BackUp, Draft, Step};
use crate::{
    estate::{Estate, Job, Machine, Store},
    finding::{Finding, Rule},
    ids::{HostId, MachineId, draw_uuid},
    layers,
    moment::{Moment, Span},
    road::{self, Work},
    runs::Object,
    rooms::{
        backups::Event,
        carrying,
        snapshots::{self, Quiet, Take},
    },
    units::Bytes,
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// A mark that a run left goes by itself after this.
const LEFT: Span = Span::days(3);
/// The same of a job that rests in some hours: its copies go on after them, at the latest in the next week.
const LEFT_RESTING: Span = Span::days(10);
/// So many are copied at the same time: a store and a line are shared.
const AT_ONCE: usize = 4;

/// Nobody wants a point for less, or longer.
const LEAST: Span = Span::mins(60);
const MOST: Span = Span::days(3660);

/// Who wishes it, and until when.
pub(super) enum Whose<'a> {
    Job(&'a Job),
    Person(Option<Moment>),
}

/// How machines stand still for a copy.
#[derive(Clone, Copy)]
pub(crate) struct Still<'a> {
    pub(crate) to: &'a str,
    pub(crate) quiet: Quiet,
    /// What was copied stays beside the machine for so long; none: it is released at once.
    pub(crate) stays: Option<Span>,
    /// Who shares a point with whom; none: nobody does.
    pub(crate) job: Option<&'a Job>,
}

impl<'a> Still<'a> {
    /// As a job wants it.
    pub(crate) fn of(job: &'a Job, to: &'a str) -> Still<'a> {
        Still {
            to: if job.how.local.is_some() { &job.name } else { to },
            quiet: if job.quiet { Quiet::IfPossible } else { Quiet::No },
            stays: job.how.local,
            job: Some(job),
        }
    }

    /// How long a mark is there that nobody released.
    fn left(&self) -> Span {
        match self.job.is_some_and(|j| j.how.cap.rests()) {
            true => LEFT_RESTING,
            false => LEFT,
        }
    }

    /// Whoever is by itself, and those that stand still at once.
    fn groups(&self, estate: &Estate, machines: &[MachineId]) -> Vec<(bool, Vec<MachineId>)> {
        let mut alone = Vec::new();
        let mut groups: BTreeMap<&str, Vec<MachineId>> = BTreeMap::new();
        for id in machines {
            let machine = estate.machines.get(id);
            match machine.zip(self.job).and_then(|(m, job)| job.shares(m)) {
                Some(value) => groups.entry(value).or_default().push(*id),
                None => alone.push(*id),
            }
        }
        let (several, single): (Vec<_>, Vec<_>) = groups.into_values().partition(|g| g.len() > 1);
        alone.extend(single.into_iter().flatten());
        let alone = Some((false, alone)).filter(|(_, all)| !all.is_empty() || several.is_empty());
        alone.into_iter().chain(several.into_iter().map(|g| (true, g))).collect()
    }
}

/// What is asked of snapshots.
pub(super) fn mark(machines: &[MachineId], still: Still<'_>, now: Moment) -> Take {
    // Whatever its store or job is called, its own name is not too long.
    let to: String = still.to.chars().take(40).collect();
    let name = match still.stays {
        Some(_) => format!("{to} {}", now.stamp()),
        None => format!("mark for {to}"),
    };
    Take {
        machines: machines.to_vec(),
        name: name.into(),
        note: Default::default(),
        quiet: still.quiet,
        memory: false,
        together: false,
        ends: Some(still.stays.unwrap_or(still.left())),
    }
}

/// The marks of machines, with what is said of them: those that share a point in one.
pub(crate) fn marks<S: Work>(draft: &mut road::Draft<'_, S>, machines: &[MachineId], still: Still<'_>, become_ours: impl Fn(snapshots::Step) -> S) -> Vec<Marked<S>> {
    let mut all = Vec::new();
    for (together, group) in still.groups(draft.estate(), machines) {
        let mut part = draft.beside::<snapshots::Step>(draft.view);
        let take = Take { together, ..mark(&group, still, draft.now) };
        snapshots::take(&mut part, &take);
        // What is said of a snapshot that stays is not so of one that goes again.
        let said = part.findings().iter().filter(|f| f.stops() || f.rule != Rule::Content);
        draft.found_all(said.cloned().collect::<Vec<_>>());
        let (run, now) = (draft.run().0, draft.now.0.unsigned_abs());
        let marked = part.planned().filter_map(|step| Marked::of(step, &become_ours, (run, now)));
        all.extend(marked.collect::<Vec<_>>());
    }
    all
}

pub(super) fn back_up(draft: &mut Draft<'_>, ask: &BackUp) {
    "Back up".clone_into(&mut draft.title);
    let store = carrying::chosen(draft, ask.store);
    let to = store.as_ref().map_or_else(|| "a store".to_owned(), |s| s.name.clone());
    let still = Still { to: &to, quiet: ask.quiet, stays: None, job: None };
    let marks = marks(draft, &ask.machines, still, Step::Snap);
    draft.title = match marks.as_slice() {
        [one] => format!("Back up {} to {to}", Object::Machine(one.marks[0].machine).name(draft.estate())),
        all => format!("Back up {} machines to {to}", all.len()),
    };
    if ask.keep.is_some_and(|k| k < LEAST || k > MOST) {
        let text = format!("Between {LEAST} and {MOST}.");
        draft.found(Finding::stop(Rule::State, "keep", text).at("keep"));
    }
    if let Some(store) = store {
        let ends = ask.keep.map(|k| draft.now.plus(k));
        copied(draft, &store, marks, Whose::Person(ends));
        if let Some(ends) = ends {
            let text = format!("The points go by themselves at {} UTC.", ends.stamp());
            draft.found(Finding::clear(Rule::Deleted, &to, text).at("keep"));
        }
    }
}

/// Marked, copied, released, a few at a time; the steps of the last ones.
pub(super) fn copied(draft: &mut Draft<'_>, store: &Store, marks: Vec<Marked<Step>>, whose: Whose<'_>) -> Vec<usize> {
    let to = &store.name;
    let (job, ends) = match whose {
        Whose::Job(job) => (Some(job), job.how.wanted.map(|w| draft.now.plus(w))),
        Whose::Person(ends) => (None, ends),
    };
    let stays = job.is_some_and(|j| j.how.local.is_some());
    let count = marks.iter().map(|m| m.marks.len()).sum();
    let copies = carrying::Copies::to(&draft.beside(draft.view), store, count, job);
    let mut copies = copies.until(ends);
    let mut all: Vec<Vec<usize>> = Vec::new();
    for marked in marks {
        // A mark holds room for what is written meanwhile: it is set when its copy can begin.
        let turn = all.len().checked_sub(AT_ONCE).and_then(|at| all.get(at)).cloned();
        let title = marked.title(draft.estate());
        let step = draft.step(marked.step, title, &[], Some("machines"));
        draft.takes_turn(step, &turn.unwrap_or_default());
        let copies = copies.of_group(marked.group);
        for mark in marked.marks {
            let Some(machine) = draft.estate().machines.get(&mark.machine).cloned() else { continue };
            let mut steps = vec![step];
            steps.extend(one(draft, copies, &machine, (mark, step), stays));
            all.push(steps);
        }
    }
    draft.found_all(copies.said());
    if !all.is_empty() {
        let held = match job.and_then(|j| j.how.local) {
            Some(local) => format!("Each state that is copied stays beside its machine for {local}."),
            None => "Each state is held fast only until it is copied; then it is released.".into(),
        };
        let text = format!("{held} Settings, cards and labels are in the copy, cards keep their addresses only where the machine is put back. Nobody knows that {to} brings a machine back before one did.");
        draft.found(Finding::clear(Rule::Content, "machines", text));
    }
    let last = all.iter().rev().take(AT_ONCE).flatten();
    last.copied().collect()
}

/// The step by which one or several stand still, and what is copied then.
pub(crate) struct Marked<S> {
    pub(crate) step: S,
    pub(crate) marks: Vec<Mark>,
    /// Of several the points are of one instant.
    pub(crate) group: Option<Uuid>,
}

/// What is copied of one machine.
#[derive(Clone, Copy)]
pub(crate) struct Mark {
    pub(crate) machine: MachineId,
    pub(crate) via: HostId,
    pub(crate) snapshot: Uuid,
}

impl<S> Marked<S> {
    fn of(step: &snapshots::Step, become_ours: impl Fn(snapshots::Step) -> S, (run, now): (u64, u64)) -> Option<Marked<S>> {
        let mark = |m: &snapshots::Member| Mark {
            machine: m.machine,
            via: m.via,
            snapshot: m.snapshot,
        };
        match step {
            snapshots::Step::Take { machine, via, snapshot, .. } => Some(Marked {
                step: become_ours(step.clone()),
                marks: vec![Mark {
                    machine: *machine,
                    via: *via,
                    snapshot: *snapshot,
                }],
                group: None,
            }),
            snapshots::Step::Together { members, .. } => Some(Marked {
                step: become_ours(step.clone()),
                group: members.first().map(|m| draw_uuid(run, m.machine.0, now ^ GROUP)),
                marks: members.iter().map(mark).collect(),
            }),
            snapshots::Step::Back { .. } | snapshots::Step::Forget { .. } => None,
        }
    }

    /// What its step is called.
    pub(crate) fn title(&self, estate: &Estate) -> String {
        let name = |m: &Mark| Object::Machine(m.machine).name(estate);
        match self.marks.as_slice() {
            [one] => format!("Mark {}", name(one)),
            all => format!("Mark {} at one instant", all.iter().map(name).collect::<Vec<_>>().join(", ")),
        }
    }
}

/// Sets identities of groups apart from those of snapshots.
const GROUP: u64 = 0x6772_6f75_7073_2121;

/// Copied once it stands still, and released: the numbers of these steps.
fn one(draft: &mut Draft<'_>, copies: &mut carrying::Copies<'_>, machine: &Arc<Machine>, (mark, marked): (Mark, usize), stays: bool) -> Vec<usize> {
    let (name, via, snapshot) = (&machine.name, mark.via, mark.snapshot);
    let mut part = draft.beside::<carrying::Step>(draft.view);
    copies.copy(&mut part, machine, via, snapshot);
    let copied: Vec<usize> = draft.take_in(part, &[marked], |f| f, (Step::Carry, Event::Carry)).collect();
    if stays {
        return copied;
    }
    let forget = snapshots::Step::Forget {
        machine: machine.id,
        via,
        snapshots: vec![snapshot],
        bytes: Bytes::ZERO,
        time: Span::secs(10).plus(layers::STILL),
    };
    let released = draft.step(Step::Snap(forget), format!("Release the mark of {name}"), &copied, None);
    copied.into_iter().chain([released]).collect()
}
