//! What a guard is told and what it says.

use super::{Act, Plan, Word};
use crate::{
    estate::Lack,
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// A machine as its host reports it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Running {
    pub machine: MachineId,
    pub generation: u64,
    /// Whether its guest is up; one that has no agent counts when its boot is over.
    pub answers: bool,
    /// Signs of life, where the host tells of them.
    pub pulse: Option<Pulse>,
    /// A run changes it: what it does meanwhile says nothing.
    pub held: bool,
    /// What it can't reach from there.
    pub lacks: Option<Lack>,
}

/// Signs of life of a guest, counted since its start.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Pulse {
    /// Heartbeats of its agent.
    pub beats: u64,
    /// Operations of its disks and network cards.
    pub moved: u64,
}

/// What came of reading a host's power.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Power {
    On {
        serial: String,
    },
    Off {
        serial: String,
    },
    /// No answer, or none that says it.
    Silent {
        why: String,
    },
}

/// Why a machine was not started.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    pub said: String,
    /// Nobody knows whether it was.
    pub open: bool,
}

#[derive(Debug, Clone, PartialEq)]
pub enum Input {
    Plan(Box<Plan>),
    /// The agent of a host was heard.
    Heard {
        host: HostId,
        boot: u64,
        /// An armed watchdog resets it at the end of its lease.
        watchdog: bool,
        running: Vec<Running>,
    },
    /// The leases on a volume, as somebody who reaches it reads them.
    Leases {
        volume: VolumeId,
        leases: BTreeMap<HostId, Word>,
    },
    /// What came of an [`Order::ReadPower`].
    Power {
        host: HostId,
        ask: u64,
        said: Power,
    },
    /// The controller took the order to switch off, or refused it.
    Switched {
        host: HostId,
        refused: Option<String>,
    },
    /// The arrays beneath every volume of the host let it reach nothing any more, and say so; or one of them doesn't.
    Withdrawn {
        host: HostId,
        ask: u64,
        refused: Option<String>,
    },
    /// What had to be written before anything else is done is written: the verdict, or that it is fenced.
    Recorded {
        host: HostId,
        fenced: bool,
    },
    Started {
        machine: MachineId,
        host: HostId,
        result: Result<u64, Refusal>,
    },
    /// That a guest hangs is written.
    GuestRecorded {
        machine: MachineId,
    },
    /// What came of an [`Order::Reset`]: the generation under which it runs now.
    WasReset {
        machine: MachineId,
        result: Result<u64, Refusal>,
    },
    /// That machines of a host lack something is written.
    LackRecorded {
        host: HostId,
        lack: Lack,
    },
    /// What came of an [`Order::End`].
    Ended {
        machine: MachineId,
        host: HostId,
        result: Result<(), Refusal>,
    },
    /// Another site, a witness or a person says that no other site took over what this cluster shares with it.
    Permitted,
    /// A person vouches that a host is off.
    Declared {
        host: HostId,
    },
    Tick,
}

/// What proves that a host runs nothing.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Proof {
    /// Its controller said so, twice.
    Controller,
    /// Every array beneath its volumes said that it reaches nothing there any more.
    Storage,
    /// Its lease ran out, and its watchdog was armed.
    Watchdog,
    /// It was told through its lease to end all that it runs, and its lease says that it did.
    Lease,
    /// A person declared so.
    Person,
}

impl Proof {
    pub fn words(&self) -> &'static str {
        match self {
            Proof::Controller => "its controller said so twice",
            Proof::Storage => "its arrays took away all that it reached, and say so",
            Proof::Watchdog => "its lease ran out, and its watchdog was armed",
            Proof::Lease => "its lease says that it ended all that it ran, as it was told",
            Proof::Person => "a person declared so",
        }
    }
}

#[derive(Debug, Clone, PartialEq)]
pub enum Order {
    /// Write it down. A [`Note::Judged`] and a [`Note::Fenced`] are answered by [`Input::Recorded`], and nothing that
    /// follows from them is done before.
    Record(Note),
    /// The answer says which question it is of: a late one is not believed.
    ReadPower { host: HostId, ask: u64 },
    /// Once; whether it worked is read.
    SwitchOff { host: HostId },
    /// Every array beneath its volumes takes away what it reaches; done again, it changes nothing.
    Withdraw { host: HostId, ask: u64 },
    /// It is told through its lease on this volume to end all that it runs, under a number of which it knows none higher.
    Tell {
        host: HostId,
        volume: VolumeId,
        number: u64,
    },
    /// A guest that hangs is switched off where it is, its last picture kept, and started there again.
    Reset {
        machine: MachineId,
        host: HostId,
        boot: u64,
        /// Of the run lease that it has.
        generation: u64,
    },
    /// A machine that stands still because its host doesn't reach its volume is ended there, before it starts elsewhere.
    End {
        machine: MachineId,
        host: HostId,
        boot: u64,
        /// Of the run lease that it has.
        generation: u64,
    },
    Start {
        machine: MachineId,
        host: HostId,
        /// Of the host: one that went down meanwhile must not take an order that is older than itself.
        boot: u64,
        /// Of the run lease that it takes.
        generation: u64,
        /// Who may still hold the run lease, at which generation, and is proved off.
        fenced: Vec<(HostId, u64)>,
    },
}

/// What is worth a line in the story.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Note {
    /// Not heard, and its lease is renewed: its machines go on.
    CutOff {
        host: HostId,
        since: Moment,
    },
    /// Machines of a host that is alive lack something for too long. Once this is written they are ended and start elsewhere,
    /// or whoever can moves them away.
    Lacks {
        host: HostId,
        since: Moment,
        lack: Lack,
        evidence: String,
    },
    /// It was ended where it stood still, or wasn't and why.
    Ended {
        machine: MachineId,
        from: HostId,
        refused: Option<String>,
    },
    /// The verdict, with what it rests on and what shall be done.
    Judged {
        host: HostId,
        since: Moment,
        evidence: String,
        act: Act,
    },
    Fenced {
        host: HostId,
        proof: Proof,
    },
    /// What happens to it on the way.
    Said {
        host: HostId,
        words: String,
    },
    /// Nothing goes on without a person, and why.
    Waits {
        host: HostId,
        why: String,
    },
    /// What was proved of it can't be so: nothing more is started of what ran there.
    Doubted {
        host: HostId,
        why: String,
    },
    /// It was heard again before it was fenced.
    Back {
        host: HostId,
    },
    Starts {
        machine: MachineId,
        from: HostId,
        to: HostId,
    },
    Up {
        machine: MachineId,
        from: HostId,
        on: HostId,
        /// From the order to start until it was up.
        took: Span,
    },
    /// It could not be started there; another host is tried, or nobody is left to try.
    NotStarted {
        machine: MachineId,
        from: HostId,
        on: HostId,
        why: String,
        last: bool,
    },
    /// No sign of life of a guest: it is restarted, once this is written.
    Hangs {
        machine: MachineId,
        host: HostId,
        evidence: String,
    },
    /// It was restarted, or was not and why.
    Revived {
        machine: MachineId,
        host: HostId,
        refused: Option<String>,
    },
    /// The cluster was dark, and another site may have taken it over: nobody starts it here before somebody says that it wasn't.
    Unsure {
        machine: MachineId,
        from: HostId,
    },
    /// No host can take it.
    Left {
        machine: MachineId,
        from: HostId,
        why: String,
    },
}

impl Note {
    /// The machine that it is about.
    pub fn machine(&self) -> Option<MachineId> {
        match self {
            Note::Starts { machine, .. }
            | Note::Up { machine, .. }
            | Note::NotStarted { machine, .. }
            | Note::Hangs { machine, .. }
            | Note::Revived { machine, .. }
            | Note::Ended { machine, .. }
            | Note::Unsure { machine, .. }
            | Note::Left { machine, .. } => Some(*machine),
            Note::CutOff { .. }
            | Note::Lacks { .. }
            | Note::Judged { .. }
            | Note::Fenced { .. }
            | Note::Said { .. }
            | Note::Waits { .. }
            | Note::Doubted { .. }
            | Note::Back { .. } => None,
        }
    }
}
