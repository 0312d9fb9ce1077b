//! A job's run: what it does not keep goes, then whoever it is about is copied, and once a day the store is swept.

use super::{
    Draft, Event, Step,
    assess::{Still, Whose, copied, mark, marks},
};
use crate::{
    estate::{Job, Machine, MachineState},
    finding::{Finding, Rule},
    ids::{JobId, MachineId, StoreId},
    limits,
    moment::Span,
    road::{self, Work},
    rooms::{
        carrying, jobs,
        snapshots::{self, Quiet},
        stores::{self, Expired},
    },
    runs::{Object, RunState},
};
use std::{collections::BTreeMap, sync::Arc};

/// A store is swept no more often.
const SWEPT: Span = Span::mins(20 * 60);
/// Points that one step takes away.
const TOGETHER: usize = 500;

pub(super) fn job(draft: &mut Draft<'_>, id: JobId, by_hand: bool) {
    "Back up by a job".clone_into(&mut draft.title);
    let Some(job) = draft.estate().jobs.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "job", "The job is gone.").at("job"));
    };
    draft.title = format!("Back up what job {} is about", job.name);
    let Some(store) = job.to.store() else {
        return draft.found(Finding::stop(Rule::State, &job.name, "This job replicates to another site.").at("job"));
    };
    let Some(store) = carrying::chosen(draft, Some(store)) else { return };
    if !begins(draft, &job, by_hand, Event::Job) {
        return;
    }
    let all = able(draft, &job);
    let mut last = vec![];
    if !all.is_empty() {
        let marks = marks(draft, &all, Still::of(&job, &store.name), Step::Snap);
        last = copied(draft, &store, marks, Whose::Job(&job));
    }
    // What a copy is read against is there until it is made.
    let before = expire(draft, &job, store.id);
    for step in &before {
        draft.takes_turn(*step, &last);
    }
    if store.swept.is_none_or(|at| draft.now.since(at) > SWEPT) {
        let step = stores::Step::Sweep { store: store.id };
        let sweep = draft.step(Step::Store(step), format!("Sweep {}", store.name), &before, None);
        draft.takes_turn(sweep, &last);
    }
}

/// Whether a run of the job begins, which is written down; it does not where one still goes on.
pub(crate) fn begins<S: Work>(draft: &mut road::Draft<'_, S>, job: &Job, by_hand: bool, event: impl Fn(jobs::Event) -> S::Event) -> bool {
    let id = job.id;
    let goes_on = runs(draft, Object::Job(id)).any(|waits| !waits);
    let next = job.when.next(draft.now);
    if goes_on {
        let text = format!("A run of {} still goes on.", job.name);
        if by_hand {
            draft.found(Finding::stop(Rule::State, &job.name, text).at("job"));
            return false;
        }
        draft.found(Finding::mind(Rule::State, &job.name, format!("{text} This one is skipped.")));
        let due = job.next.unwrap_or(draft.now);
        draft.intend(event(jobs::Event::Skipped { job: id, due, next }));
        return false;
    }
    let next = if by_hand { job.next } else { next };
    draft.intend(event(jobs::Event::Begun { job: id, at: draft.now, next }));
    true
}

/// Whoever is in the job and can be copied now; who can't is said.
pub(crate) fn able<S: Work>(draft: &mut road::Draft<'_, S>, job: &Job) -> Vec<MachineId> {
    let who = String::from(job.who.clone());
    let all: Vec<Arc<Machine>> = draft.estate().in_turn(job).into_iter().cloned().collect();
    if all.is_empty() {
        draft.found(Finding::mind(Rule::Nothing, &who, format!("No machine has {who}.")));
        return vec![];
    }
    let (all, rest) = all.split_at(all.len().min(limits::CHOSEN.most));
    if !rest.is_empty() {
        let text = format!("{} machines more have {who}; one run takes up to {}.", rest.len(), limits::CHOSEN.most);
        draft.found(Finding::mind(Rule::Count, &who, text));
    }
    let ids: Vec<MachineId> = all.iter().map(|m| m.id).collect();
    let still = Still { to: "a store", quiet: Quiet::No, stays: None, job: None };
    let mut out = snapshots::able(draft, &mark(&ids, still, draft.now));
    // A run that waits for an answer has its machine; the others needn't wait with it.
    let waits = |m: &&Arc<Machine>| runs(draft, Object::Machine(m.id)).any(|waits| waits);
    let text = "An earlier run still waits for somebody to say how it goes on.";
    out.extend(all.iter().filter(waits).map(|m| (m.id, text.to_owned())));
    let over = draft.estate().going_over();
    let text = "It is going over to another site; what it holds is copied again once it is there.";
    out.extend(ids.iter().filter(|id| over.contains(id)).map(|id| (*id, text.to_owned())));
    with_them(job, all, &mut out);
    for machine in all.iter().filter(|m| out.contains_key(&m.id)) {
        let text = format!("{} is not copied. {}", machine.name, out[&machine.id]);
        draft.found(Finding::mind(Rule::State, &machine.name, text));
    }
    ids.into_iter().filter(|id| !out.contains_key(id)).collect()
}

/// Whoever shares a point with one that can't is not copied either; nor with one that can't stand still.
fn with_them(job: &Job, all: &[Arc<Machine>], out: &mut BTreeMap<MachineId, String>) {
    let mut groups: BTreeMap<&str, Vec<&Arc<Machine>>> = BTreeMap::new();
    for m in all {
        if let Some(value) = job.shares(m) {
            groups.entry(value).or_default().push(m);
        }
    }
    for members in groups.into_values().filter(|m| m.len() > 1) {
        // A label that spread since the job was kept holds up nobody else.
        if let Err(words) = limits::TOGETHER.check(members.len()) {
            out.extend(members.iter().map(|m| (m.id, format!("Too many share its label. {words}"))));
        }
        let silent = |m: &&&Arc<Machine>| !m.is_off() && m.state != MachineState::Running { guest: true };
        for m in members.iter().filter(silent) {
            out.entry(m.id).or_insert_with(|| "Its guest agent does not answer: it can't stand still with the others.".into());
        }
        let Some(first) = members.iter().find(|m| out.contains_key(&m.id)).map(|m| m.name.clone()) else { continue };
        for m in &members {
            out.entry(m.id).or_insert_with(|| format!("It shares its points with {first}, which is not copied either: all of one instant, or none."));
        }
    }
}

/// Of the runs with open steps about something: whether each waits for somebody's answer.
fn runs<S: Work>(draft: &road::Draft<'_, S>, of: Object) -> impl Iterator<Item = bool> {
    let all = draft.view.runs.about(of).into_iter();
    let runs = draft.view.runs.clone();
    all.filter_map(move |id| Some(runs.get(id)?.state == RunState::NeedsYou))
}

/// Points that are not kept any more, as they are known now: those that this run makes count from the next one on.
fn expire(draft: &mut Draft<'_>, job: &Job, store: StoreId) -> Vec<usize> {
    let gone: Vec<Expired> = draft
        .estate()
        .expired(job, draft.now)
        .into_iter()
        .map(|(series, point)| Expired {
            series: series.id,
            machine: series.machine,
            session: point.session,
            taken: point.taken,
        })
        .collect();
    if gone.is_empty() {
        return vec![];
    }
    let text = format!("{} points are not kept any more ({}); they go.", gone.len(), job.keeps);
    draft.found(Finding::clear(Rule::Deleted, &job.name, text));
    let all = gone.chunks(TOGETHER).map(|points| {
        let step = stores::Step::Expire { store, points: points.to_vec() };
        (points.len(), step)
    });
    let all: Vec<_> = all.collect();
    all.into_iter()
        .map(|(n, step)| draft.step(Step::Store(step), format!("Let {n} points go"), &[], None))
        .collect()
}
