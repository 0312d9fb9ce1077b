//! The checks before disks that no machine has are deleted, brought back or removed for good.

use super::{Draft, Spare, SpareAct, Step};
use crate::{
    estate::{Machine, SpareDisk},
    finding::{Finding, Rule},
    units::Bytes,
};

pub(super) fn spare(draft: &mut Draft<'_>, ask: &Spare) {
    "Unattached disks".clone_into(&mut draft.title);
    let Some(volume) = draft.volume(ask.volume).cloned() else { return };
    let chosen = draft.chosen(&ask.disks);
    let mut all: Vec<(uuid::Uuid, SpareDisk)> = Vec::new();
    for key in chosen {
        match volume.unattached.disks.get(&key) {
            Some(disk) => all.push((key, disk.clone())),
            None => {
                let text = format!("{} has no such unattached disk any more.", volume.name);
                draft.found(Finding::stop(Rule::Exists, &volume.name, text).at("disks"));
            }
        }
    }
    if all.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, &volume.name, "No disk is chosen.").at("disks"));
    }
    let what = match all.as_slice() {
        [(_, one)] => format!("the disk that {} had", one.had),
        many => format!("{} unattached disks", many.len()),
    };
    let Some(via) = draft.estate().reach(volume.id).map(|h| h.id) else {
        let text = format!("No host that mounts {} answers.", volume.name);
        return draft.found(Finding::stop(Rule::HostOpen, &volume.name, text).at("disks"));
    };
    let verb = match &ask.act {
        SpareAct::Delete => "Delete",
        SpareAct::Restore => "Bring back",
        SpareAct::Purge { .. } => "Remove for good",
    };
    draft.title = format!("{verb} {what}");
    for (key, disk) in &all {
        let step = match &ask.act {
            SpareAct::Delete => marked(draft, ask, (*key, disk), true, via),
            SpareAct::Restore => marked(draft, ask, (*key, disk), false, via),
            SpareAct::Purge { .. } => purged(draft, ask, (*key, disk), via),
        };
        if let Some(step) = step {
            draft.step(step, format!("{verb} the disk that {} had", disk.had), &[], Some("disks"));
        }
    }
    let room: Bytes = all.iter().map(|(_, d)| d.takes).sum();
    said(draft, ask, &all, room);
}

fn said(draft: &mut Draft<'_>, ask: &Spare, all: &[(uuid::Uuid, SpareDisk)], room: Bytes) {
    let found = match &ask.act {
        SpareAct::Delete => {
            let days = Machine::KEPT_DAYS;
            Finding::mind(Rule::Deleted, "disks", format!("Recoverable for {days} days; until then {room} stay on the volume."))
        }
        SpareAct::Restore => Finding::clear(Rule::Deleted, "disks", "They are unattached again, and can be attached to a machine."),
        SpareAct::Purge { typed } => {
            let expected = match all {
                [(_, one)] => one.had.clone(),
                many => many.len().to_string(),
            };
            if typed.trim() != expected {
                let what = if all.len() == 1 { "the name of the machine that had it" } else { "the number of disks" };
                let text = format!("Type {what} to confirm: {expected}.");
                draft.found(Finding::stop(Rule::Name, "confirmation", text).at("typed"));
            }
            Finding::mind(Rule::Deleted, "removal", format!("{room} and everything on them are gone. There is no way back."))
        }
    };
    draft.found(found);
}

fn marked(
    draft: &mut Draft<'_>,
    ask: &Spare,
    (key, disk): (uuid::Uuid, &SpareDisk),
    deleted: bool,
    via: crate::ids::HostId,
) -> Option<Step> {
    if disk.deleted.is_some() == deleted {
        let text = match deleted {
            true => format!("The disk that {} had was deleted already.", disk.had),
            false => format!("The disk that {} had was not deleted.", disk.had),
        };
        draft.found(Finding::stop(Rule::State, &disk.had, text).at("disks"));
        return None;
    }
    Some(Step::Mark {
        volume: ask.volume,
        via,
        disk: key,
        deleted,
    })
}

fn purged(
    draft: &mut Draft<'_>,
    ask: &Spare,
    (key, disk): (uuid::Uuid, &SpareDisk),
    via: crate::ids::HostId,
) -> Option<Step> {
    if disk.deleted.is_none() {
        let text = format!("The disk that {} had must be deleted first; then it can be removed for good.", disk.had);
        draft.found(Finding::stop(Rule::State, &disk.had, text).at("disks"));
        return None;
    }
    Some(Step::Purge {
        volume: ask.volume,
        via,
        disk: key,
    })
}
