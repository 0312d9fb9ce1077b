//! What happens to arrays and volumes.

use crate::{
    estate::{Array, ArrayCondition, Backing, Estate, LeftLun, LocalDisk, Path, Pen, Pooled, Volume},
    ids::{ArrayId, HostId, VolumeId},
    pooled::usable,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name and addresses are held; the first reading runs.
    ArrayConnecting(Box<Array>),
    /// Everything that a reading said.
    ArraySeen(Box<Array>),
    ArrayDropped {
        array: ArrayId,
    },
    /// Its name is held; the run that connects it works.
    VolumePlanned(Box<Volume>),
    /// The array has made it.
    VolumeMade {
        volume: VolumeId,
        uid: String,
        backing: Backing,
    },
    VolumeReady {
        volume: VolumeId,
    },
    /// Not connected after all, or handed back.
    VolumeGone {
        volume: VolumeId,
        handed_back: bool,
    },
    /// What lies on a LUN that could not be taken.
    LunFound {
        array: ArrayId,
        lun: String,
        what: String,
    },
    /// A host lends its disks to a volume, which the first of them made.
    Lent {
        volume: VolumeId,
        host: HostId,
        uid: String,
        domain: String,
        raw: Bytes,
    },
    /// It has them to itself again.
    LentBack {
        volume: VolumeId,
        host: HostId,
    },
    /// What a volume of hosts' own disks is made of, and how whole it is.
    PoolSeen {
        volume: VolumeId,
        pooled: Box<Pooled>,
        /// How that is otherwise than before.
        turn: Option<PoolTurn>,
    },
    /// A host's own disks.
    Disks {
        host: HostId,
        disks: Vec<LocalDisk>,
        /// Those that died.
        dead: Vec<String>,
    },
    /// Its array does something else for it than before; for those who read of it.
    Served {
        volume: VolumeId,
        was: String,
        now: String,
    },
    VolumeSeen {
        volume: VolumeId,
        capacity: Bytes,
        used: Bytes,
    },
    /// A host has one volume, by these ways; several may come at once.
    Mounted {
        host: HostId,
        volume: VolumeId,
        paths: Vec<Path>,
    },
    Unmounted {
        host: HostId,
        volume: VolumeId,
    },
    /// Everything that a host says that it mounts.
    Mounts {
        host: HostId,
        initiator: String,
        mounts: BTreeMap<VolumeId, Vec<Path>>,
    },
}

/// A turn in what can be read of a volume.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PoolTurn {
    Unreadable,
    Readable,
    Lacks,
    Whole,
}

impl PoolTurn {
    pub fn between(before: Option<&Pooled>, now: &Pooled) -> Option<Self> {
        let said = |p: &Pooled| (p.health.lost > Bytes::ZERO, p.health.lacking > Bytes::ZERO);
        match (before.map(said).unwrap_or_default(), said(now)) {
            ((false, _), (true, _)) => Some(PoolTurn::Unreadable),
            ((true, _), (false, _)) => Some(PoolTurn::Readable),
            ((_, false), (_, true)) => Some(PoolTurn::Lacks),
            ((_, true), (_, false)) => Some(PoolTurn::Whole),
            ((_, true), (_, true)) | ((_, false), (_, false)) => None,
        }
    }
    fn words(self) -> &'static str {
        match self {
            PoolTurn::Unreadable => "has contents of which no copy can be read",
            PoolTurn::Readable => "can be read as a whole again",
            PoolTurn::Lacks => "lacks copies of some of its contents",
            PoolTurn::Whole => "has all copies again",
        }
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::ArrayConnecting(array) => pen.add_array(array),
            // A reading that comes after the array was given up changes nothing.
            Event::ArraySeen(array) => pen.array(array.id, |a| *a = a.as_read(array)),
            Event::ArrayDropped { array } => pen.drop_array(*array),
            Event::VolumePlanned(volume) => {
                pen.add_volume(volume);
                if let Some(backing) = &volume.backing {
                    pen.array(backing.array, |a| a.left.retain(|l| l.lun != backing.lun));
                }
            }
            Event::VolumeMade {
                volume,
                uid,
                backing,
            } => {
                pen.volume(*volume, |v| {
                    v.uid.clone_from(uid);
                    v.backing = Some(backing.clone());
                });
                pen.array(backing.array, |a| a.left.retain(|l| l.lun != backing.lun));
            }
            Event::VolumeReady { volume } => opens(pen, *volume),
            Event::LunFound { array, lun, what } => pen.array(*array, |a| {
                a.found.insert(lun.clone(), what.clone());
            }),
            Event::Lent {
                volume,
                host,
                uid,
                domain,
                raw,
            } => pen.volume(*volume, |v| {
                v.uid.clone_from(uid);
                if let Some(pooled) = &mut v.pooled {
                    let share = pooled.members.entry(*host).or_default();
                    (share.domain, share.raw, share.leaving) = (domain.clone(), *raw, false);
                    let raws: Vec<Bytes> = pooled.members.values().map(|s| s.raw).collect();
                    v.capacity = usable(&raws, pooled.copies);
                }
            }),
            Event::LentBack { volume, host } => pen.volume(*volume, |v| {
                if let Some(pooled) = &mut v.pooled {
                    pooled.members.remove(host);
                }
            }),
            Event::PoolSeen { volume, pooled, .. } => pen.volume(*volume, |v| v.pooled = Some(pooled.clone())),
            Event::Disks { host, disks, .. } => pen.host(*host, |h| h.disks.clone_from(disks)),
            Event::VolumeSeen {
                volume,
                capacity,
                used,
            } => pen.volume(*volume, |v| (v.capacity, v.used) = (*capacity, *used)),
            Event::VolumeGone {
                volume,
                handed_back,
            } => {
                leave(pen, *volume, *handed_back);
                drop_volume(pen, *volume);
            }
            Event::Mounted {
                host,
                volume,
                paths,
            } => pen.host(*host, |h| drop(h.mounts.insert(*volume, paths.clone()))),
            Event::Unmounted { host, volume } => pen.host(*host, |h| drop(h.mounts.remove(volume))),
            Event::Mounts {
                host,
                initiator,
                mounts,
            } => pen.host(*host, |h| {
                h.initiator.clone_from(initiator);
                h.mounts.clone_from(mounts);
            }),
            // What it does now stands at its array.
            Event::Served { .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |id: &VolumeId| Object::Volume(*id).name(estate);
        let line = |id: &VolumeId, text| Some(Entry::new("storage", text, vec![id.to_string()]));
        match self {
            Event::ArraySeen(new) => {
                let text = array_words(estate.arrays.get(&new.id).map(|a| &**a), new)?;
                Some(Entry::new("storage", text, vec![new.id.to_string()]))
            }
            Event::ArrayDropped { array } => {
                let text = format!("{} was not connected", Object::Array(*array).name(estate));
                Some(Entry::new("storage", text, vec![array.to_string()]))
            }
            Event::VolumePlanned(v) => line(&v.id, format!("Volume {} is being connected", v.name)),
            Event::VolumeMade { volume, .. } => {
                line(volume, format!("{} was made on its array", name(volume)))
            }
            Event::VolumeReady { volume } => line(volume, format!("{} is connected", name(volume))),
            Event::VolumeGone {
                volume,
                handed_back,
            } => {
                let what = if *handed_back {
                    "was handed back"
                } else {
                    "was not connected"
                };
                line(volume, format!("{} {what}", name(volume)))
            }
            Event::Mounts { host, mounts, .. } => {
                let held = estate.hosts.get(host)?;
                let gone = |v: &VolumeId| {
                    let paths = mounts.get(v);
                    paths.is_none_or(|paths| paths.iter().all(|p| !p.up))
                };
                let had = held.mounts.keys().filter(|v| held.paths_up(**v) > 0);
                let lost: Vec<String> = had.filter(|v| gone(v)).map(name).collect();
                let text = format!("{} has no path to {} any more", held.name, lost.join(", "));
                let about = vec![host.to_string()];
                (!lost.is_empty()).then(|| Entry::new("storage", text, about))
            }
            Event::Unmounted { host, volume } => {
                let held = estate.hosts.get(host)?;
                held.mounts.contains_key(volume).then_some(())?;
                let text = format!("{} unmounted {}", held.name, name(volume));
                let about = vec![host.to_string(), volume.to_string()];
                Some(Entry::new("storage", text, about))
            }
            Event::Served { volume, was, now } => {
                let text = format!("The array of {} does something else for it: {now}; before it was {was}", name(volume));
                line(volume, text)
            }
            Event::PoolSeen { volume, turn, .. } => line(volume, format!("{} {}", name(volume), turn.as_ref()?.words())),
            Event::Lent { volume, host, raw, .. } => {
                let text = format!("{} lends {raw} of its own disks to {}", Object::Host(*host).name(estate), name(volume));
                Some(Entry::new("storage", text, vec![host.to_string(), volume.to_string()]))
            }
            Event::LentBack { volume, host } => {
                let text = format!("{} has the disks that it lent to {} to itself again", Object::Host(*host).name(estate), name(volume));
                Some(Entry::new("storage", text, vec![host.to_string(), volume.to_string()]))
            }
            Event::Disks { host, dead, .. } => {
                let text = format!("A disk of {} is dead: {}", Object::Host(*host).name(estate), dead.join(", "));
                (!dead.is_empty()).then(|| Entry::new("storage", text, vec![host.to_string()]))
            }
            Event::ArrayConnecting(_)
            | Event::VolumeSeen { .. }
            | Event::LunFound { .. }
            | Event::Mounted { .. } => None,
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn opens(pen: &mut Pen<'_>, volume: VolumeId) {
    pen.volume(volume, |v| v.ready = true);
    let held = pen.estate().volumes.get(&volume);
    if let Some(backing) = held.and_then(|v| v.backing.clone()) {
        pen.array(backing.array, |a| drop(a.found.remove(&backing.lun)));
    }
}

/// What stays on the array of a volume that is ours no more: it is known there, with who can still reach it.
fn leave(pen: &mut Pen<'_>, volume: VolumeId, handed_back: bool) {
    let estate = pen.estate();
    let Some(v) = estate.volumes.get(&volume).cloned() else {
        return;
    };
    let Some(backing) = v.backing.clone() else {
        return;
    };
    let hosts = v.hosts(estate);
    let reach = hosts.iter().map(|h| h.initiator.clone()).filter(|i| !i.is_empty());
    let left = LeftLun {
        volume,
        lun: backing.lun,
        uid: v.uid.clone(),
        name: v.name.clone(),
        ours: handed_back || v.made,
        reach: if handed_back { BTreeSet::new() } else { reach.collect() },
    };
    pen.array(backing.array, |a| {
        a.left.retain(|l| l.lun != left.lun);
        if left.ours || !left.reach.is_empty() {
            a.left.push(left.clone());
        }
    });
}

fn drop_volume(pen: &mut Pen<'_>, volume: VolumeId) {
    let images: Vec<_> = pen.estate().images_on(volume).iter().map(|i| i.id).collect();
    images.into_iter().for_each(|image| pen.drop_image(image));
    let hosts = pen.estate().hosts.values();
    let mounting: Vec<_> = hosts
        .filter(|h| h.mounts.contains_key(&volume))
        .map(|h| h.id)
        .collect();
    for host in mounting {
        pen.host(host, |h| {
            h.mounts.remove(&volume);
        });
    }
    pen.drop_volume(volume);
}

fn array_words(before: Option<&Array>, new: &Array) -> Option<String> {
    use ArrayCondition::{Connecting, Lost, Steady};
    Some(match (&before?.condition, &new.condition) {
        (Connecting, _) => format!("{} was connected", new.name),
        (Lost { .. }, Steady) => format!("{} answers again", new.name),
        (Steady, Lost { why, .. }) => format!("{} does not answer: {why}", new.name),
        _ => return None,
    })
}
