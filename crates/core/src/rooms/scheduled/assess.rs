//! One snapshot of every machine that can have one; whoever can't is left out, and that is said.

use super::{Draft, Event, Step};
use crate::{
    estate::{Machine, Schedule},
    finding::{Finding, Rule},
    ids::{MachineId, ScheduleId},
    limits,
    rooms::{
        schedules,
        snapshots::{self, Quiet, Take},
    },
};
use std::sync::Arc;

pub(super) fn take(draft: &mut Draft<'_>, id: ScheduleId) {
    "Take snapshots by a schedule".clone_into(&mut draft.title);
    let Some(schedule) = draft.estate().schedules.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "schedule", "The schedule is gone."));
    };
    let named = schedule.named(draft.now);
    draft.title = format!("Take snapshots {named}");
    let all: Vec<Arc<Machine>> = draft.estate().scheduled(&schedule).into_iter().cloned().collect();
    if all.is_empty() {
        let text = format!("No machine has {}.", schedule.label);
        return draft.found(Finding::stop(Rule::Nothing, &schedule.label, text));
    }
    // One run takes so many; the others are taken next time.
    let (all, rest) = all.split_at(all.len().min(limits::CHOSEN.most));
    if !rest.is_empty() {
        let text = format!("{} machines more have {}; one run takes up to {}.", rest.len(), schedule.label, limits::CHOSEN.most);
        draft.found(Finding::mind(Rule::Count, &schedule.label, text));
    }
    let ids: Vec<MachineId> = all.iter().map(|m| m.id).collect();
    let out = snapshots::able(draft, &asked(draft, &schedule, ids.clone()));
    for machine in all.iter().filter(|m| out.contains_key(&m.id)) {
        let text = format!("None of {} is taken. {}", machine.name, out[&machine.id]);
        draft.found(Finding::mind(Rule::State, &machine.name, text));
    }
    draft.intend(Event::Schedule(schedules::Event::Begun { schedule: id, at: draft.now }));
    let can: Vec<MachineId> = ids.into_iter().filter(|id| !out.contains_key(id)).collect();
    if can.is_empty() {
        let text = format!("No machine with {} can have one now.", schedule.label);
        return draft.found(Finding::mind(Rule::Nothing, &schedule.label, text));
    }
    let mut part = draft.beside::<snapshots::Step>(draft.view);
    snapshots::take(&mut part, &asked(draft, &schedule, can));
    draft.take_in(part, &[], |f| f, (Step::Snap, Event::Snap));
}

fn asked(draft: &Draft<'_>, schedule: &Schedule, machines: Vec<MachineId>) -> Take {
    Take {
        machines,
        name: schedule.named(draft.now).into(),
        note: Default::default(),
        quiet: Quiet::IfPossible,
        memory: false,
        together: false,
        ends: Some(schedule.keeps),
    }
}
