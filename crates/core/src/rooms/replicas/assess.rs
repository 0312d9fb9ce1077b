//! The checks before a replica becomes a machine of its own (rules, section 18).

use super::{Draft, Event, Step};
use crate::{
    estate::{Machine, Replica},
    finding::{Finding, Rule},
    ids::MachineId,
    road::{self, Work},
    text::Line,
};
use std::sync::Arc;

pub(super) fn free(draft: &mut Draft<'_>, id: MachineId, typed: &Line) {
    "Make a replica a machine of its own".clone_into(&mut draft.title);
    let Some((machine, _)) = freed::<Step>(draft, id, typed) else { return };
    draft.title = format!("Make {} a machine of its own", machine.name);
    draft.intend(Event::Freed {
        machine: id,
        name: machine.name.clone(),
    });
}

/// What is said of it, whatever is done with it then.
pub(crate) fn freed<S: Work>(draft: &mut road::Draft<'_, S>, id: MachineId, typed: &Line) -> Option<(Arc<Machine>, Box<Replica>)> {
    let machine = draft.machine(id)?.clone();
    let name = &machine.name;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("typed");
    let Some(replica) = machine.replica.clone() else {
        draft.found(stop(Rule::State, format!("{name} is no replica.")));
        return None;
    };
    if typed.trim() != name {
        draft.found(stop(Rule::Name, format!("Type its name to confirm: {name}.")));
    }
    let of = &replica.name;
    let text = format!("{name} follows {of} no more. The next copy of {of} makes another replica, and is of everything.");
    draft.found(Finding::mind(Rule::Content, name, text).at("typed"));
    match draft.estate().original_of(&replica).cloned() {
        Some(original) => {
            let state = if original.is_off() { "is off" } else { "is on" };
            let text = format!("{} is still there and {state}. Both have the same host keys and machine id, and their guests the same addresses: where both are on and hear of each other, either may be taken for the other.", original.name);
            draft.found(Finding::mind(Rule::Identity, name, text).at("typed").remedy("Make a copy of one of its points instead, on a network that nobody else is on."));
        }
        None => draft.found(Finding::clear(Rule::Identity, name, format!("{of} is not there any more."))),
    }
    if let Some(newest) = machine.replicated().next_back() {
        let text = format!("It holds what {of} held at {} UTC; what was written since is not on it.", newest.taken.stamp());
        draft.found(Finding::mind(Rule::Disk, name, text));
    }
    Some((machine, replica))
}
