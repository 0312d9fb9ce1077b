//! What a job leaves out, in which hours it copies, who comes first: read from its fields, and what follows from it.

use super::{
    Draft, Keep,
    foretold::Foretold,
    keep::{read, stop},
};
use crate::{
    caps::Cap,
    estate::{Goal, Job, Habits, Often},
    finding::{Finding, Rule},
    layers::DEEPEST,
    limits,
    moment::Span,
};
use std::collections::BTreeMap;

/// A machine holds more states than these for other reasons.
const STATES: u64 = DEEPEST as u64 / 2;
/// Nobody wants a point for less, or longer.
const LEAST: Span = Span::mins(60);
const MOST: Span = Span::days(3660);

/// None: something is wrong with it, which is said at its field.
pub(super) fn read_all(draft: &mut Draft<'_>, ask: &Keep) -> Option<Habits> {
    let how = &ask.how;
    let cap = read(draft, "cap", Cap::read_with_rests(&how.cap, ask.zone.trim()));
    let whole = match how.whole.trim() {
        "" => Some(None),
        text => read(draft, "whole", text.parse::<Often>()).map(Some),
    };
    let wanted = how.wanted.is_none_or(|w| (LEAST..=MOST).contains(&w));
    if !wanted {
        draft.found(stop(Rule::State, "wanted", format!("Between {LEAST} and {MOST}.")));
    }
    if how.wanted.is_some() && matches!(ask.to, Some(Goal::Over(_))) {
        let text = "What a replica holds goes by what stays, not after a time.";
        draft.found(stop(Rule::State, "wanted", text).remedy("Leave it empty."));
    }
    Some(Habits {
        cap: cap?,
        leaves_out: how.leaves_out,
        order: how.order,
        together: Some(how.together.trim().to_owned()).filter(|key| !key.is_empty()),
        whole: whole?,
        local: how.local.filter(|s| s.0 > 0),
        wanted: how.wanted.filter(|_| wanted),
    })
}

/// What follows from it.
pub(super) fn said(draft: &mut Draft<'_>, job: &Job) {
    let name = &job.name;
    let how = &job.how;
    if let Some(next) = job.next.filter(|at| !how.cap.is_open(*at)) {
        let opens = how.cap.opens(next).map_or_else(|| "never".to_owned(), |at| format!("at {} UTC", at.stamp()));
        let text = format!("At {} UTC it rests: what is due then begins {opens}.", next.stamp());
        draft.found(Finding::mind(Rule::State, name, text).at("cap"));
    }
    let out: usize = draft
        .estate()
        .in_job(job)
        .iter()
        .map(|m| m.disks.iter().filter(|d| m.excepts(d.key)).count())
        .sum();
    if out > 0 {
        let text = match how.leaves_out {
            true => format!("{out} disks that somebody took out of what is promised are not copied: a machine that is brought back has none of what they hold."),
            false => format!("{out} disks that somebody took out of what is promised are copied all the same."),
        };
        draft.found(Finding::clear(Rule::Content, name, text).at("leaves_out"));
    }
    if let Some(often) = how.whole {
        let bytes = Foretold::of(draft.view, job).held();
        let text = format!("Every {often} all of it is read, {bytes} now, whatever is known of what changed; what is there already is not stored again.");
        draft.found(Finding::clear(Rule::Content, name, text).at("whole"));
    }
    together(draft, job);
    local(draft, job);
    if let Some(wanted) = how.wanted {
        let text = format!("Its points go by themselves after {wanted}, also the last one.");
        draft.found(Finding::mind(Rule::Deleted, name, text).at("wanted"));
    }
}

/// Who stands still with whom.
fn together(draft: &mut Draft<'_>, job: &Job) {
    let Some(key) = &job.how.together else { return };
    let mut groups: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    let all = draft.estate().in_job(job);
    for m in &all {
        if let Some(value) = job.shares(m) {
            groups.entry(value).or_default().push(&m.name);
        }
    }
    groups.retain(|_, members| members.len() > 1);
    let found = match groups.len() {
        0 => Finding::mind(Rule::Label, &job.name, format!("No two of its machines have the same {key} now: each is copied by itself.")),
        n => {
            let each = groups.iter().take(4).map(|(value, members)| format!("{key}={value}: {}", members.join(", ")));
            let text = format!("{n} groups share their points, all of one instant or none: {}.", each.collect::<Vec<_>>().join("; "));
            Finding::clear(Rule::Label, &job.name, text)
        }
    };
    draft.found(found.at("together"));
    let most = groups.values().map(Vec::len).max().unwrap_or(0);
    if let Err(words) = limits::TOGETHER.check(most) {
        draft.found(stop(Rule::Count, "together", words));
    }
}

/// States that stay beside machines: how many at once, what room they take.
fn local(draft: &mut Draft<'_>, job: &Job) {
    let (Some(local), Some(between)) = (job.how.local, job.when.least(draft.now)) else { return };
    let name = &job.name;
    let at_once = local.0.div_ceil(between.0.max(1));
    if at_once > STATES {
        let text = format!("{at_once} states would stay beside each machine at once; at most {STATES}.");
        return draft.found(stop(Rule::Count, "local", text).remedy("Let each stay for less."));
    }
    let (bytes, _) = Foretold::of(draft.view, job).changed(local);
    let text = format!("Up to {at_once} states stay beside each machine: up to {bytes} more on their volumes, and each first write to a block after one is a new place for it.");
    draft.found(Finding::mind(Rule::VolumeRoom, name, text).at("local"));
}
