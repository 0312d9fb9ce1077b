//! Until when a snapshot is kept: nothing is done to it.

use super::{Draft, Event, Keep};
use crate::{
    finding::{Finding, Rule},
    limits,
};

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    "Keep a snapshot".clone_into(&mut draft.title);
    let Some(machine) = draft.machine(ask.machine).cloned() else { return };
    let name = &machine.name;
    let Some(snapshot) = ask.snapshot.and_then(|s| machine.snapshots.get(s)) else {
        return draft.found(Finding::stop(Rule::Exists, name, "The snapshot is gone."));
    };
    draft.title = format!("Keep {} of {name}", snapshot.name);
    if let Err(words) = limits::NOTE.check(ask.note.chars().count()) {
        draft.found(Finding::stop(Rule::Label, "note", words).at("note"));
    }
    let ends = ask.ends.map(|e| draft.now.plus(e));
    let text = match ask.ends {
        Some(span) if span.0 == 0 => {
            let stop = Finding::stop(Rule::State, "ends", "It would end at once. Delete it instead.");
            return draft.found(stop.at("ends"));
        }
        Some(span) => format!("It is deleted by itself {span} from now, in the hour in which {name} writes least."),
        None => "It stays until somebody deletes it.".to_owned(),
    };
    draft.found(Finding::clear(Rule::State, name, text));
    draft.intend(Event::Kept {
        machine: machine.id,
        snapshot: snapshot.uuid,
        note: ask.note.trim().to_owned(),
        ends,
    });
}
