//! The checks before a schedule is kept, paused or removed.

use super::{Draft, Event, Keep};
use crate::{
    estate::Schedule,
    finding::{Finding, Rule},
    ids::ScheduleId,
    layers::{DEEPEST, SLOWER},
    limits,
    moment::{Moment, Span},
};

/// Nothing is taken more often.
const LEAST: Span = Span::mins(15);
/// So many layers are left to people.
const LEFT: u64 = 4;

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let (name, label) = (ask.name.trim().to_owned(), ask.label.trim().to_owned());
    draft.title = match (ask.schedule, name.as_str()) {
        (_, "") => "Take snapshots by a schedule".to_owned(),
        (None, name) => format!("Take snapshots {name} by a schedule"),
        (Some(_), name) => format!("Change the schedule of snapshots {name}"),
    };
    let had = ask.schedule.and_then(|id| draft.estate().schedules.get(&id)).cloned();
    if ask.schedule.is_some() && had.is_none() {
        return draft.found(Finding::stop(Rule::Exists, "schedule", "The schedule is gone.").at("name"));
    }
    named(draft, ask, &name);
    if ask.at.is_some_and(|at| at >= 1440) {
        draft.found(Finding::stop(Rule::State, "at", "A day has 24 hours.").at("at"));
    }
    if label.is_empty() {
        draft.found(Finding::stop(Rule::Label, "label", "Say which machines: a label, such as env=prod.").at("label"));
    }
    timed(draft, ask);
    let id = had.as_ref().map_or_else(|| ScheduleId(draft.number()), |s| s.id);
    let schedule = Schedule {
        id,
        name,
        label,
        every: ask.every,
        keeps: ask.keeps,
        begins: begins(draft.now, ask.at, had.as_deref()),
        last: had.as_ref().and_then(|s| s.last),
        paused: had.as_ref().is_some_and(|s| s.paused),
    };
    if had.as_ref().is_some_and(|s| **s == schedule) {
        let text = "Nothing of the schedule is changed.";
        return draft.found(Finding::stop(Rule::Nothing, "schedule", text).at("name"));
    }
    about(draft, &schedule);
    draft.intend(Event::Kept(Box::new(schedule)));
}

/// The next time at which the clock says so; as it was, where nothing else is wished.
fn begins(now: Moment, at: Option<u16>, had: Option<&Schedule>) -> Moment {
    let Some(at) = at else {
        return had.map_or(now, |s| s.begins);
    };
    let at = i64::from(at);
    if let Some(had) = had.filter(|s| s.minute() == at) {
        return had.begins;
    }
    let today = Moment(now.0.div_euclid(86_400_000) * 86_400_000 + at * 60_000);
    if today >= now { today } else { today.plus(Span::days(1)) }
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    // Behind it stands when.
    let most = limits::NAME.most.saturating_sub(" 2026-01-01 00:00".len());
    let other = draft.estate().schedules.values().any(|s| s.name == name && Some(s.id) != ask.schedule);
    if name.is_empty() {
        draft.found(stop("Give it a name; its snapshots begin with it.".into()));
    } else if name.chars().count() > most {
        draft.found(stop(format!("At most {most} characters; behind them stands when each was taken.")));
    } else if other {
        draft.found(stop(format!("There is a schedule {name} already.")));
    }
}

fn timed(draft: &mut Draft<'_>, ask: &Keep) {
    let stop = |field: &str, text: String| Finding::stop(Rule::State, field, text).at(field);
    if ask.every < LEAST {
        return draft.found(stop("every", format!("At least {LEAST} lie between two.")));
    }
    if ask.keeps < ask.every {
        return draft.found(stop("keeps", "Each would be gone before the next is taken.".into()));
    }
    let at_once = ask.keeps.0.div_ceil(ask.every.0);
    let most = u64::try_from(DEEPEST).unwrap_or(u64::MAX).saturating_sub(LEFT);
    if at_once > most {
        let text = format!("{at_once} would be there at once; a machine has at most {DEEPEST}, and some are left to people.");
        return draft.found(stop("keeps", text).remedy("Keep each for a shorter time, or take them less often."));
    }
    let slower = at_once.saturating_mul(u64::try_from(SLOWER).unwrap_or(0));
    let text = format!("{at_once} are there at once: reads take about {slower} % longer, and nothing that lies on the same volume is a backup.");
    draft.found(Finding::mind(Rule::Disk, "snapshots", text).at("keeps"));
}

/// Who has the label now.
fn about(draft: &mut Draft<'_>, schedule: &Schedule) {
    let all = draft.estate().scheduled(schedule);
    let nodes: Vec<&str> = all.iter().filter(|m| m.is_node()).map(|m| m.name.as_str()).collect();
    let (found, label) = (all.len(), &schedule.label);
    let finding = match found {
        0 => Finding::mind(Rule::Label, label, format!("No machine has {label} now; whoever gets it is taken from then on.")).at("label"),
        1 => Finding::clear(Rule::Label, label, format!("One machine has {label} now, and whoever gets it later.")),
        n => Finding::clear(Rule::Label, label, format!("{n} machines have {label} now, and whoever gets it later.")),
    };
    let left = (!nodes.is_empty()).then(|| {
        let text = format!("{} share disks with others; no snapshot of them is taken.", nodes.join(", "));
        Finding::mind(Rule::Content, label, text).at("label")
    });
    draft.found(finding);
    draft.found_all(left);
    let text = format!("The first is taken when it is due; each is deleted by itself {} later, in the machine's quiet hour.", schedule.keeps);
    draft.found(Finding::clear(Rule::State, &schedule.name, text));
}

pub(super) fn pause(draft: &mut Draft<'_>, id: ScheduleId, paused: bool) {
    "Pause a schedule".clone_into(&mut draft.title);
    let Some(schedule) = draft.estate().schedules.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "schedule", "The schedule is gone.").at("schedule"));
    };
    let name = &schedule.name;
    draft.title = if paused { format!("Pause snapshots {name}") } else { format!("Take snapshots {name} again") };
    if schedule.paused == paused {
        let text = if paused { "It is paused already." } else { "It is not paused." };
        return draft.found(Finding::stop(Rule::State, name, text).at("schedule"));
    }
    draft.found(match paused {
        true => Finding::mind(Rule::State, name, "No snapshot is taken until somebody says so; those that are there end as before."),
        false => Finding::clear(Rule::State, name, "The next is taken when it is due; what was missed is not made up for."),
    });
    draft.intend(Event::Paused { schedule: id, paused });
}

pub(super) fn remove(draft: &mut Draft<'_>, id: ScheduleId) {
    "Remove a schedule".clone_into(&mut draft.title);
    let Some(schedule) = draft.estate().schedules.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "schedule", "The schedule is gone.").at("schedule"));
    };
    let name = &schedule.name;
    draft.title = format!("Remove the schedule of snapshots {name}");
    let text = "No more are taken. Those that are there stay until their end.";
    draft.found(Finding::mind(Rule::Deleted, name, text));
    draft.intend(Event::Removed { schedule: id, name: name.clone() });
}
