//! What happens to machines.

use crate::{
    estate::{Applied, AsOf, Boot, Fell, Firmware, Estate, Grows, Machine, MachineState, Nic, Now, Pen, Sealed, Wanted},
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Planned(Box<Machine>),
    Made {
        machine: MachineId,
        guest_key: String,
    },
    /// Made as a copy.
    Copied {
        machine: MachineId,
        guest_key: String,
        sealed: Sealed,
        copied: Bytes,
        took: Span,
    },
    Adopted(Box<Machine>),
    Dropped {
        machine: MachineId,
    },
    /// Its creation was given up without an answer: it may be there.
    LeftOver {
        machine: MachineId,
        at: Moment,
    },
    Wanted {
        machine: MachineId,
        wanted: Wanted,
        host: Option<HostId>,
    },
    Seen {
        machine: MachineId,
        state: MachineState,
        host: Option<HostId>,
        generation: u64,
        as_of: Option<AsOf>,
    },
    /// Its host went down and came back without it.
    Fell {
        machine: MachineId,
        host: HostId,
        at: Moment,
    },
    /// With what it runs, as its host says, and what its guest can take meanwhile.
    Runs {
        machine: MachineId,
        now: Box<Now>,
        grows: Grows,
    },
    /// Its guest was told that it is not what it was.
    Anew {
        machine: MachineId,
        generation_id: uuid::Uuid,
    },
    /// What a machine's record says that it boots with.
    Firmware {
        machine: MachineId,
        firmware: Box<Firmware>,
    },
    /// What a machine's record says of its cards.
    Nics {
        machine: MachineId,
        nics: Vec<Nic>,
    },
    /// What a machine's record says that it boots from.
    Boot {
        machine: MachineId,
        boot: Boot,
    },
    /// The volume that a machine's record and disks were found on.
    Home {
        machine: MachineId,
        volume: VolumeId,
    },
    /// Its guest says what came of what it was told at its first boot.
    Applied {
        machine: MachineId,
        applied: Box<Applied>,
    },
    /// It fell, and another site may have taken it over.
    Unsure {
        machine: MachineId,
    },
    /// The manager runs in it, or does no more.
    Carries {
        machine: MachineId,
        carries: bool,
    },
    Deleted {
        machine: MachineId,
        at: Moment,
    },
    Recovered {
        machine: MachineId,
    },
    Purged {
        machine: MachineId,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(machine) | Event::Adopted(machine) => pen.add_machine(machine),
            Event::Made { machine, guest_key } | Event::Copied { machine, guest_key, .. } => pen.machine(*machine, |m| {
                m.state = MachineState::Off;
                m.guest_key = Some(guest_key.clone());
                if m.wanted == Wanted::Off {
                    m.host = None;
                }
            }),
            Event::Dropped { machine } | Event::Purged { machine } => pen.drop_machine(*machine),
            Event::Wanted {
                machine,
                wanted,
                host,
            } => pen.machine(*machine, |m| {
                m.wanted = *wanted;
                if *wanted == Wanted::Off {
                    m.fell = None;
                }
                if host.is_some() {
                    m.host = *host;
                }
                if *wanted == Wanted::Off && m.is_off() && m.state != MachineState::Planned {
                    m.host = None;
                }
            }),
            Event::Seen {
                machine,
                state,
                host,
                generation,
                as_of,
            } => pen.machine(*machine, |m| sighted(m, state, *host, *as_of, *generation)),
            Event::Fell { machine, host, at } => pen.machine(*machine, |m| {
                m.falls(Fell {
                    host: *host,
                    at: *at,
                    proved: None,
                    unsure: false,
                });
            }),
            Event::Unsure { machine } => pen.machine(*machine, |m| {
                if let Some(fell) = &mut m.fell {
                    fell.unsure = true;
                }
            }),
            Event::Carries { machine, carries } => pen.machine(*machine, |m| m.carries = *carries),
            Event::Runs { machine, now, grows } => pen.machine(*machine, |m| {
                m.grows = *grows;
                m.runs((!m.is_off()).then_some(**now));
            }),
            Event::Applied { machine, applied } => pen.machine(*machine, |m| {
                if let Some(booted) = &mut m.first_boot {
                    booted.applied = Some(Applied::clone(applied));
                }
            }),
            Event::Anew { machine, generation_id } => pen.machine(*machine, |m| m.generation_id = Some(*generation_id)),
            Event::Firmware { machine, firmware } => pen.machine(*machine, |m| m.firmware = Some(firmware.clone())),
            Event::Nics { machine, nics } => pen.machine(*machine, |m| m.nics.clone_from(nics)),
            Event::Boot { machine, boot } => pen.machine(*machine, |m| m.boot.clone_from(boot)),
            Event::Home { machine, volume } => pen.machine(*machine, |m| {
                m.disks.iter_mut().for_each(|d| d.volume = *volume);
            }),
            Event::Deleted { machine, at } | Event::LeftOver { machine, at } => pen.machine(*machine, |m| {
                m.deleted = Some(*at);
                m.host = None;
                m.fell = None;
                m.wanted = Wanted::Off;
            }),
            Event::Recovered { machine } => pen.machine(*machine, |m| {
                m.deleted = None;
                if m.state == MachineState::Planned {
                    m.state = MachineState::Off;
                }
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (machine, words) = match self {
            Event::Planned(m) => {
                let text = format!("Name and room are held for {}", m.name);
                return Some(Entry::new("machine", text, vec![m.id.to_string()]));
            }
            Event::Adopted(m) => {
                let text = format!("{} was found and registered", m.name);
                return Some(Entry::new("machine", text, vec![m.id.to_string()]));
            }
            Event::Made { machine, .. } => (machine, "was created".to_owned()),
            Event::Copied { machine, sealed, copied, took, .. } => {
                let from = estate.machines.get(machine).map_or("", |m| m.made_from.as_str());
                let sealed = match sealed {
                    Sealed::Yes(removed) => format!("; removed: {}", removed.join(", ")),
                    Sealed::No => String::new(),
                    Sealed::Unable(why) => format!("; nothing was removed: {why}"),
                };
                (machine, format!("was made from {from}: {copied} copied in {took}{sealed}"))
            }
            Event::Dropped { machine } => {
                (machine, "was not created; its name and room are free".to_owned())
            }
            Event::LeftOver { machine, .. } => {
                let words = "may have been created, its answer was lost; bring it back if it is there, \
                             or remove it for good";
                (machine, words.to_owned())
            }
            Event::Wanted {
                machine, wanted, ..
            } => {
                let word = if *wanted == Wanted::On { "on" } else { "off" };
                (machine, format!("shall be {word}"))
            }
            Event::Seen {
                machine,
                state,
                host,
                ..
            } => {
                let host = host.as_ref().and_then(|h| estate.hosts.get(h));
                let place = host.map(|h| format!(" on {}", h.name)).unwrap_or_default();
                (machine, seen(state, &place)?)
            }
            Event::Fell { machine, host, .. } => {
                let host = Object::Host(*host).name(estate);
                (machine, format!("is off: {host} runs it no more, and it shall be on"))
            }
            Event::Boot { machine, boot } => {
                let was = estate.machines.get(machine)?.boot.once?;
                boot.once.is_none().then_some(())?;
                (machine, format!("booted once from its {was}"))
            }
            Event::Deleted { machine, .. } => {
                let days = Machine::KEPT_DAYS;
                (machine, format!("was deleted; it can be brought back for {days} days"))
            }
            Event::Recovered { machine } => (machine, "was brought back".to_owned()),
            Event::Purged { machine } => (machine, "was removed for good".to_owned()),
            Event::Carries { machine, carries } => {
                let words = if *carries { "is the machine in which this manager runs" } else { "carries this manager no more" };
                (machine, words.to_owned())
            }
            Event::Applied { machine, applied } => {
                let of = estate.machines.get(machine).and_then(|m| m.first_boot.as_ref());
                let of = of.map_or_else(|| "its first boot".into(), |b| b.words());
                let words = match applied.failed.as_slice() {
                    [] => format!("did all that {of} says"),
                    failed => format!("could not do all that {of} says: {}", failed.join("; ")),
                };
                (machine, words)
            }
            // The failure's story says it.
            Event::Unsure { .. } | Event::Runs { .. } | Event::Anew { .. } | Event::Firmware { .. } | Event::Nics { .. } | Event::Home { .. } => return None,
        };
        let text = format!("{} {words}", Object::Machine(*machine).name(estate));
        Some(Entry::new("machine", text, vec![machine.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        matches!(self, Event::Seen { .. })
    }
}

/// Where it was seen, and in what state.
fn sighted(m: &mut Machine, state: &MachineState, host: Option<HostId>, as_of: Option<AsOf>, generation: u64) {
    m.state = state.clone();
    m.host = host;
    if *state == MachineState::Off {
        m.now = None;
    } else {
        m.fell = None;
        // Whoever runs writes: what it holds is none of its points any more.
        if let Some(replica) = &mut m.replica {
            replica.astray = true;
        }
    }
    m.as_of = as_of.or(m.as_of);
    m.generation = m.generation.max(generation);
}

/// What a machine was seen doing; phases in between are not worth a line.
fn seen(state: &MachineState, place: &str) -> Option<String> {
    match state {
        MachineState::Off => Some("is off".into()),
        MachineState::Running { guest: true } => Some(format!("is up and answers{place}")),
        MachineState::Running { guest: false } => {
            Some(format!("runs{place}; its agent is silent"))
        }
        MachineState::Paused(why) => Some(format!("was paused{place}: {why}")),
        MachineState::Starting(phase) if phase == "firmware" => Some(format!("starts{place}")),
        MachineState::Starting(_) | MachineState::Planned | MachineState::Stopping => None,
    }
}
