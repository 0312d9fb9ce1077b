//! The checks before a disk is shared no more.

use super::{Draft, Step, nodes};
use crate::{
    estate::Machine,
    finding::{Finding, Rule},
};
use std::sync::Arc;
use uuid::Uuid;

pub(super) fn end(draft: &mut Draft<'_>, disk: Uuid) {
    "Share a disk no more".clone_into(&mut draft.title);
    let Some((volume, shared)) = nodes::known(draft, disk) else { return };
    let name = &shared.name;
    draft.title = format!("Share {name} no more");
    let Some(via) = draft.estate().reach(volume.id).map(|h| h.id) else {
        let text = format!("No host that mounts {} answers.", volume.name);
        return draft.found(Finding::stop(Rule::HostOpen, &volume.name, text));
    };
    let had: Vec<Arc<Machine>> = draft.estate().nodes(disk).cloned().collect();
    let taken: Vec<Option<usize>> = had.iter().map(|m| nodes::taken(draft, &volume, (disk, &shared), m)).collect();
    if taken.contains(&None) {
        return;
    }
    let after: Vec<usize> = taken.into_iter().flatten().collect();
    let step = Step::End { volume: volume.id, via, disk };
    draft.step(step, format!("Keep {name} as an unattached disk"), &after, None);
    let text = format!("It stays on {} with everything on it, among the unattached disks: there it can be attached to a machine, or deleted.", volume.name);
    draft.found(Finding::mind(Rule::Disk, name, text));
}
