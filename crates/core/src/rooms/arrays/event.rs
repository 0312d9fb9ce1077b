//! What happens to arrays that are connected.

use crate::{
    estate::{Controller, Estate, Pen, Snaps},
    ids::{ArrayId, SecretRef, VolumeId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// It let us in this way.
    Access {
        array: ArrayId,
        controllers: Vec<Controller>,
        user: String,
        key: Option<SecretRef>,
    },
    Removed {
        array: ArrayId,
    },
    /// An initiator of ours can't reach a LUN any more.
    Withdrawn {
        array: ArrayId,
        lun: String,
        initiator: String,
    },
    Deleted {
        array: ArrayId,
        lun: String,
    },
    /// It takes snapshots of this class's volumes so, because it was asked to.
    SetBack {
        array: ArrayId,
        volume: VolumeId,
        snaps: Snaps,
        at: Moment,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Access {
                array,
                controllers,
                user,
                key,
            } => pen.array(*array, |a| {
                a.controllers.clone_from(controllers);
                a.user.clone_from(user);
                a.key = *key;
            }),
            Event::Removed { array } => pen.drop_array(*array),
            Event::Withdrawn {
                array,
                lun,
                initiator,
            } => pen.array(*array, |a| {
                a.left.iter_mut().filter(|l| l.lun == *lun).for_each(|l| {
                    l.reach.remove(initiator);
                });
                // What was there before is the array's own again.
                a.left.retain(|l| l.ours || !l.reach.is_empty());
            }),
            Event::SetBack { array, volume, snaps, at } => pen.array(*array, |a| {
                let class = a.served.get(volume).map(|s| s.service.class.clone());
                let same = a.served.values_mut().filter(|s| Some(&s.service.class) == class.as_ref());
                for served in same.filter(|s| s.service.snapshots.as_ref() != Some(snaps)) {
                    served.before = Some(Box::new(served.service.clone()));
                    served.service.snapshots = Some(snaps.clone());
                    served.since = *at;
                }
            }),
            Event::Deleted { array, lun } => {
                pen.array(*array, |a| a.left.retain(|l| l.lun != *lun));
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (array, words) = match self {
            Event::Access { array, .. } => (array, "is reached in another way".to_owned()),
            Event::Removed { array } => (array, "was removed".to_owned()),
            Event::Withdrawn {
                array,
                lun,
                initiator,
            } => {
                let held = estate.arrays.get(array)?;
                let left = held.left.iter().find(|l| l.lun == *lun)?;
                let host = estate.hosts.values().find(|h| h.initiator == *initiator);
                let who = host.map_or(initiator.as_str(), |h| h.name.as_str());
                (array, format!("does not let {who} reach {} any more", left.name))
            }
            Event::SetBack { array, volume, snaps, .. } => {
                let of = Object::Volume(*volume).name(estate);
                (array, format!("takes snapshots of {of} {} again, as it was asked to", snaps.words()))
            }
            Event::Deleted { array, lun } => {
                let held = estate.arrays.get(array)?;
                let left = held.left.iter().find(|l| l.lun == *lun)?;
                (array, format!("deleted {}, which was ours", left.name))
            }
        };
        let text = format!("{} {words}", Object::Array(*array).name(estate));
        Some(Entry::new("storage", text, vec![array.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
