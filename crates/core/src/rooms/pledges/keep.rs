//! The checks before a pledge is kept or withdrawn: who enters, who leaves, which clause changes, and what would hold.

use super::{Draft, Event, Keep, stands::{count, listed, stands}};
use crate::{
    estate::{Estate, Fact, Machine, Pledge},
    expression::Expression,
    finding::{Finding, Rule},
    ids::{MachineId, PledgeId},
    limits, names,
    moment::Span,
    pledges::{CLAUSES, Demand, Sort},
};
use std::{collections::BTreeMap, sync::Arc};

/// Nothing is promised more often, nor for a shorter time.
const LEAST: Span = Span::mins(1);

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let name = ask.name.trim().to_owned();
    let had = ask.pledge.and_then(|id| draft.estate().pledges.get(&id)).cloned();
    draft.title = match (&had, name.as_str()) {
        (None, "") => "Make a pledge".to_owned(),
        (None, name) => format!("Make the pledge {name}"),
        (Some(had), _) => format!("Change the pledge {}", had.name),
    };
    if ask.pledge.is_some() && had.is_none() {
        return draft.found(Finding::stop(Rule::Exists, "pledge", "The pledge is gone.").at("name"));
    }
    named(draft, ask, &name);
    sound(draft, ask);
    let Some(to) = expression(draft, ask) else { return };
    let pledge = Pledge {
        id: had.as_ref().map_or_else(|| PledgeId(draft.number()), |p| p.id),
        name,
        note: ask.note.trim().to_owned(),
        to,
        clauses: ask.clauses.clone(),
    };
    if had.as_deref() == Some(&pledge) {
        let text = "Nothing of the pledge is changed.";
        return draft.found(Finding::stop(Rule::Nothing, "pledge", text).at("name"));
    }
    let mut after = draft.estate().clone();
    after.put(Fact::Pledge(Arc::new(pledge.clone())));
    who(draft, had.as_deref(), &pledge);
    what(draft, had.as_deref(), &pledge, &after);
    let having = draft.estate().machines.values().filter(|m| pledge.is_given(m)).map(|m| m.id);
    let having: Vec<MachineId> = having.collect();
    stands(draft, after, having, Some(&pledge.name));
    let event = if had.is_some() { Event::Kept } else { Event::Made };
    draft.intend(event(Box::new(pledge)));
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    let mut all = draft.estate().pledges.values();
    let other = all.any(|p| p.name == name && Some(p.id) != ask.pledge);
    if name.is_empty() {
        draft.found(stop("Give it a name; machines and findings name it.".into()));
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        draft.found(stop(words));
    } else if other {
        draft.found(stop(format!("There is a pledge {name} already.")));
    }
    if ask.pledge.is_none()
        && let Err(words) = limits::PLEDGES.check(draft.estate().pledges.len() + 1)
    {
        draft.found(stop(words));
    }
}

/// Who has it by labels; none: it can't be read.
#[expect(clippy::option_option, reason = "no expression is one that can be read")]
fn expression(draft: &mut Draft<'_>, ask: &Keep) -> Option<Option<Expression>> {
    let text = ask.to.trim();
    if text.is_empty() {
        return Some(None);
    }
    match Expression::read(text) {
        Ok(read) => Some(Some(read)),
        Err(words) => {
            draft.found(Finding::stop(Rule::Label, "labels", words).at("to"));
            None
        }
    }
}

/// Whether the clauses can be promised at all.
fn sound(draft: &mut Draft<'_>, ask: &Keep) {
    let clauses = &ask.clauses;
    let stop = |field: &str, text: String| Finding::stop(Rule::State, field, text).at(field);
    if clauses.is_empty() {
        draft.found(stop("clauses", "Promise something: at least one clause.".into()));
    }
    if let Some(storage) = &clauses.storage {
        let wrong = storage.qualities.iter().find_map(|q| names::check_word(q, "quality").err());
        draft.found_all(wrong.map(|words| stop("qualities", words)));
        if let Err(words) = limits::QUALITIES.check(storage.qualities.len()) {
            draft.found(stop("qualities", words));
        }
        if storage.latency_us == Some(0) {
            draft.found(stop("latency", "No operation takes no time.".into()));
        }
    }
    let spans = [
        ("every", clauses.point.as_ref().map(|p| p.every)),
        ("kept", clauses.kept),
        ("age", clauses.remote.as_ref().map(|r| r.age)),
        ("proved", clauses.proved),
        ("back", clauses.back),
    ];
    for (field, span) in spans {
        if span.is_some_and(|s| s < LEAST) {
            draft.found(stop(field, format!("At least {LEAST}.")));
        }
    }
    if let Some((every, kept)) = clauses.point.as_ref().map(|p| p.every).zip(clauses.kept)
        && kept < every
    {
        draft.found(stop("kept", "Each would be gone before the next is there.".into()));
    }
    if clauses.tier == Some(0) {
        draft.found(stop("tier", "The first tier is 1.".into()));
    }
    let site = clauses.remote.as_ref().and_then(|r| r.site);
    if site.is_some_and(|s| !draft.estate().sites.contains_key(&s)) {
        draft.found(stop("site", "The site is gone; choose another.".into()));
    }
}

/// Who has it then, who enters, and who leaves.
fn who(draft: &mut Draft<'_>, had: Option<&Pledge>, pledge: &Pledge) {
    let estate = draft.estate();
    let live = || estate.machines_by_name().filter(|m| m.deleted.is_none());
    let has = |p: Option<&Pledge>, m: &Machine| p.is_some_and(|p| p.is_given(m));
    let (mut stay, mut enter, mut leave) = (0, Vec::new(), Vec::new());
    for m in live() {
        match (has(had, m), pledge.is_given(m)) {
            (true, true) => stay += 1,
            (false, true) => enter.push(m),
            (true, false) => leave.push(m),
            (false, false) => {}
        }
    }
    let label = |text: String| Finding::clear(Rule::Label, &pledge.name, text).at("to");
    draft.found(match (&pledge.to, stay + enter.len()) {
        (None, 0) => Finding::mind(Rule::Label, &pledge.name, "Nobody has it yet: give it by hand, or say which labels.").at("to"),
        (Some(to), 0) => Finding::mind(Rule::Label, &pledge.name, format!("No machine has {to} now; whoever gets it has the pledge from then on.")).at("to"),
        (None, n) => label(format!("{} have it, by hand.", count(n))),
        (Some(_), 1) => label("One machine has it then, and whoever gets the labels later.".into()),
        (Some(_), n) => label(format!("{} have it then, and whoever gets the labels later.", count(n))),
    });
    if !enter.is_empty() {
        draft.found(label(format!("{} enter: {}.", count(enter.len()), listed(&enter))));
    }
    if !leave.is_empty() {
        let text = format!("{} leave, and are promised nothing by it any more: {}.", count(leave.len()), listed(&leave));
        draft.found(Finding::mind(Rule::Label, &pledge.name, text).at("to"));
    }
}

/// Which clause changes.
fn what(draft: &mut Draft<'_>, had: Option<&Pledge>, pledge: &Pledge, after: &Estate) {
    let Some(had) = had else { return };
    let of = |p: &Pledge| -> BTreeMap<Sort, Demand> { p.demands().into_iter().map(|d| (d.sort(), d)).collect() };
    let (before, now) = (of(had), of(pledge));
    for sort in CLAUSES {
        let (old, new) = (before.get(&sort), now.get(&sort));
        if old == new {
            continue;
        }
        let words = |d: Option<&Demand>| d.map_or_else(|| "nothing".to_owned(), |d| d.words(after));
        let text = format!("{}: {} instead of {}.", sort.word(), words(new), words(old));
        let less = old.is_some_and(|old| new.is_none_or(|new| !new.covers(old)));
        draft.found(match less {
            true => Finding::mind(Rule::State, &pledge.name, format!("{text} Less is promised than before.")),
            false => Finding::clear(Rule::State, &pledge.name, text),
        });
    }
}

pub(super) fn remove(draft: &mut Draft<'_>, id: PledgeId) {
    "Withdraw a pledge".clone_into(&mut draft.title);
    let Some(pledge) = draft.estate().pledges.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "pledge", "The pledge is gone.").at("pledge"));
    };
    let name = &pledge.name;
    draft.title = format!("Withdraw the pledge {name}");
    let having: Vec<&Arc<Machine>> = draft
        .estate()
        .machines_by_name()
        .filter(|m| m.deleted.is_none() && pledge.is_given(m))
        .collect();
    let bare = having.iter().filter(|m| draft.estate().pledges_of(m).count() == 1).count();
    draft.found(match having.len() {
        0 => Finding::clear(Rule::Label, name, "No machine has it."),
        n => {
            let text = format!("{} lose it: {}. {bare} of them have no other.", count(n), listed(&having));
            Finding::mind(Rule::Label, name, text)
        }
    });
    let text = "Schedules, arrays and snapshots go on as they are: only nobody looks any more whether they suffice.";
    draft.found(Finding::clear(Rule::State, name, text));
    draft.intend(Event::Removed { pledge: id, name: name.clone() });
}
