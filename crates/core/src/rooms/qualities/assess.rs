//! What follows from stating what a volume offers.

use super::{Draft, Event};
use crate::{
    finding::{Finding, Rule},
    ids::VolumeId,
    limits,
    names,
    text::Line,
};
use std::collections::BTreeSet;

pub(super) fn state(draft: &mut Draft<'_>, id: VolumeId, qualities: &BTreeSet<Line>) {
    "State what a volume offers".clone_into(&mut draft.title);
    let Some(volume) = draft.volume(id).cloned() else {
        return;
    };
    draft.title = format!("State what {} offers", volume.name);
    let stop = |text: String| Finding::stop(Rule::Label, "qualities", text).at("qualities");
    let wrong = qualities.iter().find_map(|q| names::check_word(q, "quality").err());
    draft.found_all(wrong.map(stop));
    if let Err(words) = limits::QUALITIES.check(qualities.len()) {
        draft.found(stop(words));
    }
    if volume.qualities == *qualities {
        let text = "Nothing is changed yet.";
        return draft.found(Finding::stop(Rule::Nothing, "qualities", text).at("qualities"));
    }
    let lost: Vec<&str> = volume.qualities.difference(qualities).map(Line::as_str).collect();
    let users = draft.estate().machines_with_disk_on(id).count();
    if !lost.is_empty() && users > 0 {
        let text = format!("{users} machines lie on it; it no longer offers {}.", lost.join(", "));
        let mind = Finding::mind(Rule::Storage, &volume.name, text);
        draft.found(mind.remedy("Move the disks of those that need it to another volume."));
    }
    let text = "New machines that ask for what it offers may be put there.";
    draft.found(Finding::clear(Rule::Storage, &volume.name, text));
    draft.intend(Event::Stated {
        volume: id,
        qualities: qualities.clone(),
    });
}
