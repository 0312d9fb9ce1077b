//! Machines from a recovery point: what they share with the one that it is of (rules, section 17).

use super::{CreateMachines, Draft, taken};
use crate::{
    copying::{Source, kept},
    estate::{Machine, PointAt},
    finding::{Finding, Rule},
};

/// What is said of a machine that is brought back beside whatever became of its original.
pub(super) fn check(draft: &mut Draft<'_>, ask: &CreateMachines, at: PointAt) {
    let view = draft.view;
    let Ok(kept) = kept(view, at, draft.now) else { return };
    let name = &kept.name;
    let macs: Vec<&str> = kept.cards.iter().map(|(mac, _)| mac.as_str()).collect();
    taken::macs(draft, ask, &macs, name);
    let original = draft.estate().machine_with_uuid(&at.machine).cloned();
    if let Some(original) = original.filter(|m| m.deleted.is_none()) {
        let now = &original.name;
        let text = format!("{now} is still there: both have the same host keys, machine id and guest's addresses, and where both are on the same network, either may be taken for the other.");
        let mind = Finding::mind(Rule::Identity, name, text).at("nics");
        draft.found(mind.remedy("Give its cards another network, or none, until it is known which of them stays."));
    }
    let text = "Settings that a point does not keep are as in the form: rules, tier, protection, what its memory may grow to, and what a security chip held.";
    draft.found(Finding::clear(Rule::Content, name, text));
}

/// Addresses of cards, if they are kept.
pub(super) fn apply(draft: &Draft<'_>, ask: &CreateMachines, machines: &mut [Machine]) {
    let Some(Source::Point(at)) = ask.copied.map(|c| c.source) else { return };
    let Ok(kept) = kept(draft.view, at, draft.now) else { return };
    if !ask.taken.as_ref().is_some_and(|t| t.keep_macs) {
        return;
    }
    let macs: Vec<Option<&str>> = kept.cards.iter().map(|(mac, _)| Some(mac.as_str())).collect();
    for machine in machines {
        taken::keep(machine, &macs);
    }
}
