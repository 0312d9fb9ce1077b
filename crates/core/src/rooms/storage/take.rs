//! A volume that the hosts of a cluster mount already, and that somebody else owned: its owner changes, and what lies on it is
//! as it was.

use super::{Draft, Event, Step};
use crate::{
    estate::{Host, Volume},
    evidence::SeenVolume,
    ids::{ClusterId, VolumeId},
};

pub struct Taken<'a> {
    /// What it is called here.
    pub name: &'a str,
    pub seen: &'a SeenVolume,
    /// The installation that it may be taken from.
    pub over: Option<String>,
    pub cluster: ClusterId,
    /// Every host of the cluster mounts it.
    pub everywhere: bool,
}

/// The first of these hosts changes its owner; then each tells of its mount.
pub fn take(draft: &mut Draft<'_>, taken: &Taken<'_>, on: &[&Host]) {
    let Some(first) = on.first() else { return };
    let id = VolumeId(draft.number());
    let name = taken.name;
    draft.intend(Event::VolumePlanned(Box::new(Volume {
        id,
        uid: taken.seen.uid.clone(),
        name: name.to_owned(),
        cluster: Some(taken.cluster),
        capacity: taken.seen.capacity,
        used: taken.seen.used,
        backing: None,
        pooled: None,
        made: false,
        intended: (!taken.everywhere).then(|| on.iter().map(|h| h.id).collect()),
        ready: false,
        qualities: Default::default(),
        note: String::new(),
        unattached: Default::default(),
        strays: Default::default(),
        shared: Default::default(),
    })));
    let prepare = Step::Prepare {
        volume: id,
        host: first.id,
        over: taken.over.clone(),
    };
    let prepared = draft.step(prepare, format!("{name} changes its owner, by {}", first.name), &[], None);
    let mounted: Vec<usize> = on
        .iter()
        .map(|host| {
            let step = Step::Mount {
                volume: id,
                host: host.id,
            };
            draft.step(step, format!("{} says what it has of {name}", host.name), &[prepared], None)
        })
        .collect();
    draft.step(Step::VolumeReady { volume: id }, format!("{name} is ours"), &mounted, None);
}
