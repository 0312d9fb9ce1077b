//! What is done at arrays, and on hosts for a volume.

use super::Event;
use crate::{
    estate::Estate,
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    view::View,
    estate::{ArrayCondition, Provisioning},
    finding::{Finding, Rule},
    ids::{ArrayId, HostId, VolumeId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Sign in on every management address and read what there is.
    ReadArray { array: ArrayId },
    MakeLun {
        array: ArrayId,
        volume: VolumeId,
        pool: String,
        size: Bytes,
        provisioning: Provisioning,
    },
    GrowLun {
        array: ArrayId,
        volume: VolumeId,
        size: Bytes,
    },
    /// Let the host's initiator reach the volume.
    Map {
        array: ArrayId,
        volume: VolumeId,
        host: HostId,
    },
    Unmap {
        array: ArrayId,
        volume: VolumeId,
        host: HostId,
    },
    LogIn { array: ArrayId, host: HostId },
    /// Format it if it is empty, take it if it is ours or nobody's; else refuse with what was found.
    Prepare {
        volume: VolumeId,
        host: HostId,
        /// The installation that it may be taken from.
        over: Option<String>,
    },
    Mount { volume: VolumeId, host: HostId },
    /// Every path that there should be works.
    CheckPaths { volume: VolumeId, host: HostId },
    Unmount { volume: VolumeId, host: HostId },
    /// Let its format fill what the array gave.
    Fill { volume: VolumeId, host: HostId },
    Disown { volume: VolumeId, host: HostId },
    /// Lend a host's free disks to the volume; the first that does so makes it.
    Lend {
        volume: VolumeId,
        host: HostId,
        /// What fails with it.
        domain: String,
    },
    /// Take them back, once what they hold was copied to others.
    GiveBack { volume: VolumeId, host: HostId },
    /// One that does not answer any more is left out; `host` tells the others.
    Expel {
        volume: VolumeId,
        host: HostId,
        gone: HostId,
    },
    /// No device: every host has it.
    VolumeReady { volume: VolumeId },
    /// No device: nobody has it any more.
    VolumeGone { volume: VolumeId },
}

impl Step {
    /// The host that must be there for it; none where the array alone does it, or nobody.
    pub fn host(&self) -> Option<HostId> {
        match self {
            Step::Map { host, .. }
            | Step::Unmap { host, .. }
            | Step::LogIn { host, .. }
            | Step::Prepare { host, .. }
            | Step::Mount { host, .. }
            | Step::CheckPaths { host, .. }
            | Step::Unmount { host, .. }
            | Step::Fill { host, .. }
            | Step::Lend { host, .. }
            | Step::GiveBack { host, .. }
            | Step::Expel { host, .. }
            | Step::Disown { host, .. } => Some(*host),
            Step::ReadArray { .. }
            | Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::VolumeReady { .. }
            | Step::VolumeGone { .. } => None,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::ReadArray { .. } => "sign in, read pools and portals",
            Step::MakeLun { .. } => "make the LUN",
            Step::GrowLun { .. } => "extend the LUN",
            Step::Map { .. } => "let the host reach it",
            Step::Unmap { .. } => "take the host's reach away",
            Step::LogIn { .. } => "log in on all portals",
            Step::Prepare { over: Some(_), .. } => "take it from its owner",
            Step::Prepare { over: None, .. } => "format if empty, else take",
            Step::Mount { .. } => "mount, verify the paths",
            Step::CheckPaths { .. } => "look at the paths",
            Step::Unmount { .. } => "unmount",
            Step::Fill { .. } => "grow the format",
            Step::Disown { .. } => "clear the owner",
            Step::Lend { .. } => "lend free disks",
            Step::Expel { .. } => "leave out what is gone",
            Step::GiveBack { .. } => "copy what they hold, give disks back",
            Step::VolumeReady { .. } => "open the volume",
            Step::VolumeGone { .. } => "forget the volume",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::VolumeReady { .. } | Step::VolumeGone { .. } => Length::Computed(Span(0)),
            Step::ReadArray { .. }
            | Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::Map { .. }
            | Step::Unmap { .. }
            | Step::LogIn { .. }
            | Step::Prepare { .. }
            | Step::Mount { .. }
            | Step::CheckPaths { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Lend { .. }
            | Step::GiveBack { .. }
            | Step::Expel { .. }
            | Step::Disown { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(300)
    }

    fn goes_on(&self) -> bool {
        false
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::ReadArray { array }
            | Step::MakeLun { array, .. }
            | Step::GrowLun { array, .. }
            | Step::Map { array, .. }
            | Step::Unmap { array, .. } => Some(Object::Array(*array)),
            Step::LogIn { host, .. }
            | Step::Prepare { host, .. }
            | Step::Mount { host, .. }
            | Step::CheckPaths { host, .. }
            | Step::Unmount { host, .. }
            | Step::Fill { host, .. }
            | Step::Lend { host, .. }
            | Step::GiveBack { host, .. }
            | Step::Expel { host, .. }
            | Step::Disown { host, .. } => Some(Object::Host(*host)),
            Step::VolumeReady { .. } | Step::VolumeGone { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::ReadArray { array } => vec![Object::Array(*array)],
            Step::MakeLun { array, volume, .. } | Step::GrowLun { array, volume, .. } => {
                vec![Object::Array(*array), Object::Volume(*volume)]
            }
            Step::Map {
                array,
                volume,
                host,
            }
            | Step::Unmap {
                array,
                volume,
                host,
            } => vec![
                Object::Array(*array),
                Object::Volume(*volume),
                Object::Host(*host),
            ],
            Step::LogIn { array, host } => vec![Object::Array(*array), Object::Host(*host)],
            Step::Prepare { volume, host, .. }
            | Step::Mount { volume, host }
            | Step::CheckPaths { volume, host }
            | Step::Unmount { volume, host }
            | Step::Fill { volume, host }
            | Step::Lend { volume, host, .. }
            | Step::GiveBack { volume, host }
            | Step::Expel { volume, host, .. }
            | Step::Disown { volume, host } => vec![Object::Volume(*volume), Object::Host(*host)],
            Step::VolumeReady { volume } | Step::VolumeGone { volume } => {
                vec![Object::Volume(*volume)]
            }
        }
    }

    fn locks(&self) -> Vec<Lock> {
        match self {
            Step::ReadArray { array } => vec![Lock::exclusive(Object::Array(*array))],
            Step::MakeLun { volume, array, .. } | Step::GrowLun { volume, array, .. } => vec![
                Lock::exclusive(Object::Volume(*volume)),
                Lock::shared(Object::Array(*array)),
            ],
            // Hosts are connected side by side; what changes the volume itself waits for none of them.
            Step::Map { volume, host, .. }
            | Step::Unmap { volume, host, .. }
            | Step::Mount { volume, host }
            | Step::CheckPaths { volume, host }
            | Step::Lend { volume, host, .. }
            | Step::GiveBack { volume, host }
            | Step::Expel { volume, host, .. }
            | Step::Unmount { volume, host } => vec![
                Lock::shared(Object::Volume(*volume)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::LogIn { host, .. } => vec![Lock::shared(Object::Host(*host))],
            Step::Prepare { volume, host, .. }
            | Step::Fill { volume, host }
            | Step::Disown { volume, host } => vec![
                Lock::exclusive(Object::Volume(*volume)),
                Lock::shared(Object::Host(*host)),
            ],
            Step::VolumeReady { volume } | Step::VolumeGone { volume } => {
                vec![Lock::exclusive(Object::Volume(*volume))]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        if let Step::Disown { volume, .. } = self
            && let on_it @ 1.. = view.estate.machines_with_disk_on(*volume).count()
        {
            let text = format!("{on_it} machines have disks on it now.");
            return Finding::stop(Rule::State, volume.to_string(), text).into();
        }
        Premise::exist(view, &self.about())
    }

    fn record(&self) -> Option<Event> {
        match self {
            Step::VolumeReady { volume } => Some(Event::VolumeReady { volume: *volume }),
            Step::VolumeGone { volume } => Some(Event::VolumeGone {
                volume: *volume,
                handed_back: true,
            }),
            Step::ReadArray { .. }
            | Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::Map { .. }
            | Step::Unmap { .. }
            | Step::LogIn { .. }
            | Step::Prepare { .. }
            | Step::Mount { .. }
            | Step::CheckPaths { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Lend { .. }
            | Step::GiveBack { .. }
            | Step::Expel { .. }
            | Step::Disown { .. } => None,
        }
    }

    fn undo(&self, estate: &Estate, left: Left) -> Option<Event> {
        match self {
            // What it found there is worth more than that nobody knows.
            Step::Prepare { volume, .. } => {
                let Left::Undone { said: Some(what) } = left else {
                    return None;
                };
                let backing = estate.volumes.get(volume)?.backing.clone()?;
                Some(Event::LunFound {
                    array: backing.array,
                    lun: backing.lun,
                    what,
                })
            }
            Step::ReadArray { array } => {
                let held = estate.arrays.get(array);
                let unknown = held.filter(|a| a.condition == ArrayCondition::Connecting);
                unknown.map(|_| Event::ArrayDropped { array: *array })
            }
            // What some hosts mount already stays, and its drift is shown; what nobody has goes.
            Step::VolumeReady { volume } => {
                let mounted = estate.hosts.values().any(|h| h.mounts.contains_key(volume));
                let pooled = estate.volumes.get(volume).and_then(|v| v.pooled.as_ref());
                let lent = pooled.is_some_and(|p| !p.members.is_empty());
                Some(if mounted || lent {
                    Event::VolumeReady { volume: *volume }
                } else {
                    Event::VolumeGone {
                        volume: *volume,
                        handed_back: false,
                    }
                })
            }
            Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::Map { .. }
            | Step::Unmap { .. }
            | Step::LogIn { .. }
            | Step::Mount { .. }
            | Step::CheckPaths { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Lend { .. }
            | Step::GiveBack { .. }
            | Step::Expel { .. }
            | Step::Disown { .. }
            | Step::VolumeGone { .. } => None,
        }
    }
}
