//! What new machines are promised.

use super::{CreateMachines, Draft};
use crate::{
    estate::{Machine, Pledged},
    finding::{Finding, Rule},
    ids::VolumeId,
};
use std::collections::BTreeSet;

/// Given by hand with their making.
pub(super) fn by_hand(ask: &CreateMachines) -> Option<Box<Pledged>> {
    let pledge = ask.pledge?;
    Some(Box::new(Pledged { by_hand: BTreeSet::from([pledge]), ..Pledged::default() }))
}

pub(super) fn exists(draft: &mut Draft<'_>, ask: &CreateMachines) {
    if ask.pledge.is_some_and(|id| !draft.estate().pledges.contains_key(&id)) {
        let text = "The pledge is gone; choose another.";
        draft.found(Finding::stop(Rule::Exists, "pledge", text).at("pledge"));
    }
}

/// By which pledges the volume was chosen.
pub(super) fn told(draft: &Draft<'_>, first: Option<&Machine>, volume: VolumeId) -> Option<Finding> {
    let estate = draft.estate();
    let names: Vec<&str> = estate.pledges_of(first?).map(|p| p.name.as_str()).collect();
    if names.is_empty() {
        return None;
    }
    let home = estate.volumes.get(&volume)?;
    let (names, verb) = (names.join(" and "), if names.len() == 1 { "asks" } else { "ask" });
    let text = format!("{} gives what {names} {verb} of a place.", home.name);
    Some(Finding::clear(Rule::Storage, &home.name, text))
}
