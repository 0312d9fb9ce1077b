//! The checks before a job is kept, paused or removed (rules, section 17).

use super::{Draft, Event, Keep, foretold::Foretold, habits};
use crate::{
    estate::{Estate, Goal, Job, Machine, Volume, Way},
    expression::Expression,
    finding::{Finding, Rule},
    ids::{JobId, SiteId},
    layers::DEEPEST,
    limits,
    moment::{Moment, Span},
    pairing,
    recurrence::Recurrence,
    retention::Keeps,
    units::Bytes,
};
use std::{collections::BTreeSet, sync::Arc};

/// Nothing is proven more often by itself.
const DAY: Span = Span::days(1);
/// So many copies are booted at the same time by themselves.
pub const PROVEN_AT_ONCE: u64 = 2;
/// So many runs to come are looked at: a week of hours.
const LOOKED_AT: u16 = 168;
/// Nothing is copied more often.
const LEAST: Span = Span::mins(15);

pub(super) fn stop(rule: Rule, field: &str, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let name = ask.name.trim().to_owned();
    draft.title = match (ask.job, name.as_str()) {
        (_, "") => "Copy by a job".to_owned(),
        (None, name) => format!("Make job {name}"),
        (Some(_), name) => format!("Change job {name}"),
    };
    let had = ask.job.and_then(|id| draft.estate().jobs.get(&id)).cloned();
    if ask.job.is_some() && had.is_none() {
        return draft.found(stop(Rule::Exists, "name", "The job is gone."));
    }
    named(draft, ask, &name);
    let who = read(draft, "who", Expression::read(ask.who.trim()));
    let to = goal(draft, ask.to);
    let same = had.as_ref().filter(|j| j.when.rule == ask.rule.trim() && j.when.zone == ask.zone.trim());
    let begins = ask.begins.or_else(|| same.map(|j| j.when.begins)).unwrap_or(draft.now);
    let when = read(draft, "rule", Recurrence::read(&ask.rule, ask.zone.trim(), begins));
    let keeps = read(draft, "keeps", ask.keeps.parse::<Keeps>());
    let how = habits::read_all(draft, ask);
    let (Some(who), Some(to), Some(when), Some(keeps), Some(how)) = (who, to, when, keeps, how) else { return };
    let id = had.as_ref().map_or_else(|| JobId(draft.number()), |j| j.id);
    let job = Job {
        id,
        name,
        who,
        to,
        next: when.next(draft.now),
        when,
        keeps,
        quiet: ask.quiet,
        proves: ask.proves,
        how,
        paused: had.as_ref().is_some_and(|j| j.paused),
        last: had.as_ref().and_then(|j| j.last),
    };
    if had.as_ref().is_some_and(|h| **h == job) {
        return draft.found(stop(Rule::Nothing, "name", "Nothing of the job is changed."));
    }
    about(draft, &job);
    taken(draft, &job);
    if let Goal::Over(way) = job.to {
        over(draft, &job, way);
    }
    proves(draft, &job);
    habits::said(draft, &job);
    if let Some(had) = had {
        let elsewhere = left(draft, &had, &job);
        draft.found_all(elsewhere);
        let gone = fewer(draft, &job);
        draft.found_all(gone);
    }
    draft.intend(Event::Kept(Box::new(job)));
}

/// Where to, if anything can be copied there.
fn goal(draft: &mut Draft<'_>, to: Option<Goal>) -> Option<Goal> {
    let estate = draft.estate();
    let found = match to {
        Some(Goal::Over(way)) => match estate.road(way) {
            Some(_) => Ok(Goal::Over(way)),
            None => Err(Finding::stop(Rule::Exists, "store", "The pair is gone.")),
        },
        Some(Goal::Store(id)) => estate.store_for_copies(Some(id)).map(|s| Goal::Store(s.id)),
        None if !estate.pairs.is_empty() => Err(Finding::stop(Rule::Exists, "store", "Choose where to.")),
        None => estate.store_for_copies(None).map(|s| Goal::Store(s.id)),
    };
    found.map_err(|why| draft.found(why.at("store"))).ok()
}

/// What was typed, or what is wrong with it at its field.
pub(super) fn read<T>(draft: &mut Draft<'_>, field: &str, read: Result<T, String>) -> Option<T> {
    match read {
        Ok(read) => Some(read),
        Err(words) => {
            draft.found(stop(Rule::State, field, words));
            None
        }
    }
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let other = draft.estate().jobs.values().any(|j| j.name == name && Some(j.id) != ask.job);
    if name.is_empty() {
        draft.found(stop(Rule::Name, "name", "Give it a name."));
    } else if let Err(words) = limits::NAME.check(name.chars().count()) {
        draft.found(stop(Rule::Name, "name", words));
    } else if other {
        draft.found(stop(Rule::Name, "name", format!("There is a job {name} already.")));
    }
    if ask.job.is_none()
        && let Err(words) = limits::JOBS.check(draft.estate().jobs.len() + 1)
    {
        draft.found(stop(Rule::Count, "name", words));
    }
}

/// Who is in it now.
fn about(draft: &mut Draft<'_>, job: &Job) {
    let all: Vec<Arc<Machine>> = draft.estate().in_job(job).into_iter().cloned().collect();
    let who = String::from(job.who.clone());
    let nodes: Vec<&str> = all.iter().filter(|m| m.is_node()).map(|m| m.name.as_str()).collect();
    let finding = match all.len() {
        0 => Finding::mind(Rule::Label, &who, format!("No machine has {who} now; whoever gets it is in it from the next run.")),
        1 => Finding::clear(Rule::Label, &who, format!("{} has {who} now, and whoever gets it later is in it from the next run.", all[0].name)),
        n => Finding::clear(Rule::Label, &who, format!("{n} machines have {who} now, and whoever gets it later is in it from the next run.")),
    };
    draft.found(finding.at("who"));
    if all.len() > limits::CHOSEN.most {
        let text = format!("One run takes up to {} machines.", limits::CHOSEN.most);
        draft.found(stop(Rule::Count, "who", text).remedy("Split them by a label."));
    }
    if !nodes.is_empty() {
        let text = format!("{} share disks with others; no copy of them is made.", nodes.join(", "));
        draft.found(Finding::mind(Rule::Content, &who, text).at("who"));
    }
}

/// What it takes: bytes, time, room.
fn taken(draft: &mut Draft<'_>, job: &Job) {
    let name = &job.name;
    let foretold = Foretold::of(draft.view, job);
    let (first, bytes) = foretold.first();
    if first > 0 {
        let text = format!("The first run copies {bytes} at most: all that {first} machines hold.");
        draft.found(Finding::clear(Rule::Content, name, text).because(foretold.because(bytes)));
    }
    let Some(next) = job.next else {
        return draft.found(stop(Rule::State, "rule", "It is never due again."));
    };
    let text = format!("It is due next at {} UTC.", next.stamp());
    draft.found(Finding::clear(Rule::State, name, text).at("rule"));
    let Some(between) = job.when.least(draft.now) else { return };
    if between < LEAST {
        return draft.found(stop(Rule::State, "rule", format!("At least {LEAST} lie between two.")));
    }
    draft.found(feasible(&foretold, job, between, draft.now));
    let lock = job.to.store().and_then(|s| draft.estate().stores.get(&s)?.lock);
    // What is written is locked for half as long again: points to come rely on it.
    let held = lock.map_or(Span::millis(0), |l| Span(l.0 + l.0 / 2));
    let [month, quarter, year] = [30, 91, 365].map(|days| foretold.after(Span::days(days), between, &job.keeps, held));
    let points = u64::from(job.keeps.most()).max(lock.map_or(0, |l| l.0.div_ceil(between.0.max(1))));
    let grows = format!("lie {month} at most after a month, {quarter} after three, {year} after a year, as the machines are now; up to {points} points of each.");
    match job.to {
        Goal::Store(_) => {
            let to = job.to.name(draft.estate());
            let room = Finding::mind(Rule::VolumeRoom, &to, format!("In {to} {grows}")).at("keeps").because(foretold.packing());
            draft.found(room.remedy("How much room the bucket has it does not tell: look there."));
            if let Some(lock) = lock {
                let text = format!("{to} locks what is written to it: each point stays for {lock}, also where fewer are kept, and nobody can take it away before.");
                draft.found(Finding::mind(Rule::Deleted, &to, text).at("keeps"));
            }
        }
        Goal::Over(way) => room_at(draft, way, &grows, year),
    }
}

/// What the volumes at the other end have left.
fn room_at(draft: &mut Draft<'_>, way: Way, grows: &str, year: Bytes) {
    let estate = draft.estate();
    let Some(road) = estate.road(way) else { return };
    let site = road.to.site_name(estate);
    let clusters: BTreeSet<_> = road.to.clusters.values().collect();
    let here = |v: &&Arc<Volume>| match road.to.volumes.is_empty() {
        true => v.cluster.is_some_and(|c| clusters.contains(&c)),
        false => road.to.volumes.values().any(|id| *id == v.id),
    };
    let free: Bytes = estate.volumes.values().filter(here).map(|v| v.free()).sum();
    let text = format!("At {site} {grows} {free} are free there now.");
    let finding = match year > free {
        true => Finding::mind(Rule::VolumeRoom, &site, text).remedy("Let fewer points stay, or make room there."),
        false => Finding::clear(Rule::VolumeRoom, &site, text),
    };
    draft.found(finding.at("keeps").because("disks that replicas have already are in it"));
}

/// What is so of replicas alone.
fn over(draft: &mut Draft<'_>, job: &Job, way: Way) {
    let most = usize::try_from(job.keeps.most()).unwrap_or(usize::MAX);
    if most >= DEEPEST - 1 {
        let text = format!("Up to {most} points would stay of each; a replica holds up to {}.", DEEPEST - 2);
        draft.found(stop(Rule::Count, "keeps", text));
    }
    let estate = draft.estate();
    let Some(pair) = estate.pairs.get(&way.pair).cloned() else { return };
    if let Some(trouble) = pairing::trouble(draft.view, &pair, draft.now) {
        let text = format!("{} does not carry as it should: {}", pair.name, trouble.text);
        draft.found(Finding::mind(trouble.rule, &pair.name, text).at("store").because(trouble.evidence));
    }
    let Some(road) = estate.road(way) else { return };
    let all = estate.in_job(job);
    let lost = all.iter().filter(|m| m.cluster.is_none_or(|c| !road.to.clusters.contains_key(&c))).count();
    if lost > 0 {
        let text = format!("Of {lost} machines the pair says no cluster at {}; they are not replicated.", road.to.site_name(estate));
        draft.found(Finding::mind(Rule::Place, &job.name, text).at("who"));
    }
}

/// What is proven by itself, and what that takes.
fn proves(draft: &mut Draft<'_>, job: &Job) {
    let Some(every) = job.proves else {
        let text = "No copy of these machines is booted by itself: that one comes up nobody knows before somebody tries.";
        return draft.found(Finding::mind(Rule::Content, &job.name, text).at("proves"));
    };
    if every < DAY {
        return draft.found(stop(Rule::State, "proves", format!("At least {DAY} lie between two of a machine.")));
    }
    let (machines, time) = Foretold::of(draft.view, job).proofs();
    let each = Span(every.0 / u64::try_from(machines.max(1)).unwrap_or(u64::MAX));
    let (site, ready) = boots(draft.estate(), job.to);
    if !ready {
        let text = format!("No cluster at {site} can boot a copy, so none is proven by itself.");
        return draft.found(stop(Rule::Exists, "proves", text).remedy("Choose never, and prove them by hand where hosts are."));
    }
    let text = format!("The newest point of each machine is booted alone at {site} every {every}, {PROVEN_AT_ONCE} at a time: one in {each} for {machines} machines.");
    let long = time.0 / PROVEN_AT_ONCE > every.0;
    let finding = match long {
        true => Finding::mind(Rule::State, &job.name, format!("{text} All of them take {time}: they are proven less often.")),
        false => Finding::clear(Rule::State, &job.name, text),
    };
    draft.found(finding.at("proves"));
}

/// At which site copies of what goes there are booted, and whether any host can.
fn boots(estate: &Estate, to: Goal) -> (String, bool) {
    let named = |site: SiteId| estate.sites.get(&site).map_or_else(|| "its site".to_owned(), |s| s.name.clone());
    match to {
        Goal::Store(store) => {
            let site = estate.stores.get(&store).map(|s| s.site);
            let ready = estate.clusters.values().any(|c| c.ready && Some(c.site) == site);
            (site.map_or_else(|| "its site".into(), named), ready)
        }
        Goal::Over(way) => {
            let Some(road) = estate.road(way) else { return ("its site".into(), false) };
            let mut there = road.to.clusters.values().filter_map(|id| estate.clusters.get(id));
            (named(road.to.site), there.any(|c| c.ready))
        }
    }
}

fn feasible(foretold: &Foretold, job: &Job, between: Span, now: Moment) -> Finding {
    let name = &job.name;
    let (bytes, unknown) = foretold.changed(between);
    let Some(time) = foretold.longest(bytes, &job.when.after(now, LOOKED_AT)) else {
        let text = format!("Each run may read {bytes}; in the hours that it has it is never over.");
        return Finding::mind(Rule::State, name, text).at("cap").remedy("Let it have more hours, or more of the line.");
    };
    let evidence = match unknown {
        0 => foretold.because(bytes),
        some => format!("{}; of {some} machines nobody knows what changes, they are counted whole", foretold.because(bytes)),
    };
    if time <= between {
        let text = format!("Each run reads {bytes} at most, and is over in {time}, before the next is due.");
        return Finding::clear(Rule::State, name, text).because(evidence);
    }
    let text = format!("Each run may read {bytes} and take {time}; the next is due after {between} and is skipped then.");
    let mind = Finding::mind(Rule::State, name, text).at("rule").because(evidence);
    match foretold.shortest() {
        Some(span) => mind.remedy(format!("Let {span} lie between two at least.")),
        None if !job.how.cap.is_none() => mind.remedy("Let it have more hours, or more of the line."),
        None => mind.remedy("Split the machines over several stores or jobs: what changes is more than the line carries."),
    }
}

/// What it made in a store that it copies into no more.
fn left(draft: &Draft<'_>, had: &Job, job: &Job) -> Option<Finding> {
    if had.to == job.to {
        return None;
    }
    let estate = draft.estate();
    let points: usize = match had.to {
        Goal::Store(store) => estate.series_in(store).flat_map(|s| &s.points).filter(|p| p.job == Some(had.id)).count(),
        Goal::Over(way) => estate.replicas_over(way.pair).flat_map(|m| m.replicated()).filter(|p| p.job == Some(had.id)).count(),
    };
    let text = format!("{points} points that it made stay where they are ({}), and nothing takes them away any more. The first copies elsewhere are of everything.", had.to.name(estate));
    Some(Finding::mind(Rule::Content, &job.name, text).at("store"))
}

/// What goes at the next run, of what is there.
fn fewer(draft: &Draft<'_>, job: &Job) -> Option<Finding> {
    let estate = draft.estate();
    let replicas: usize = estate.expired_replicas(job, draft.now).iter().map(|(_, p)| p.len()).sum();
    let gone = estate.expired(job, draft.now).len() + replicas;
    let text = format!("{gone} of its points are not kept by this, and go when it is due next.");
    (gone > 0).then(|| Finding::mind(Rule::Deleted, &job.name, text).at("keeps"))
}

pub(super) fn pause(draft: &mut Draft<'_>, id: JobId, paused: bool) {
    "Pause a job".clone_into(&mut draft.title);
    let Some(job) = draft.estate().jobs.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "job", "The job is gone."));
    };
    let name = &job.name;
    draft.title = if paused { format!("Pause job {name}") } else { format!("Let job {name} go on") };
    if job.paused == paused {
        let text = if paused { "It is paused already." } else { "It is not paused." };
        return draft.found(stop(Rule::State, "job", text));
    }
    let next = job.when.next(draft.now);
    draft.found(match (paused, next) {
        (true, _) => Finding::mind(Rule::State, name, "Nothing is copied until somebody says so, and no promise rests on its next run; points that are there stay."),
        (false, Some(next)) => Finding::clear(Rule::State, name, format!("It is due next at {} UTC; what was missed is not made up for.", next.stamp())),
        (false, None) => Finding::mind(Rule::State, name, "It is never due again."),
    });
    draft.intend(Event::Paused { job: id, paused, next });
}

pub(super) fn remove(draft: &mut Draft<'_>, id: JobId) {
    "Remove a job".clone_into(&mut draft.title);
    let Some(job) = draft.estate().jobs.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "job", "The job is gone."));
    };
    let name = &job.name;
    draft.title = format!("Remove job {name}");
    let text = "Nothing more is copied by it. The points that it made stay in the store, and nothing takes them away any more.";
    draft.found(Finding::mind(Rule::Deleted, name, text));
    draft.intend(Event::Removed { job: id, name: name.clone() });
}
