//! A copy of a recovery point that stands alone: made beside it, powered on, asked, removed for good. What proving a point and
//! drilling a plan have in common.

use super::{Event, Step, clear};
use crate::{
    copying::{Source, kept},
    estate::{AnyPoint, Estate, FirmwareKind, FirmwareWish, Machine, Memory, Provisioning, Question},
    finding::{Finding, Rule},
    ids::{ClusterId, HostId, MachineId, NetworkId},
    moment::{Moment, Span},
    road::{self, Work},
    rooms::{
        answers,
        machines::{self, CreateMachines, NewDisk, NewNic},
    },
    units::Bytes,
    view::View,
};

/// The machine as the point has it, as far as a copy of it is made so.
pub(crate) struct Had {
    pub name: String,
    vcpus: u32,
    memory: Bytes,
    firmware: FirmwareKind,
    /// What its cards are on where the point lies; none: on nothing that is known there.
    pub cards: Vec<Option<NetworkId>>,
    disks: Vec<Bytes>,
}

impl Had {
    /// As its store has it; what a replica has is what it is made with.
    ///
    /// # Errors
    /// Why nothing can be copied of it, without a field.
    pub(crate) fn of(view: &View, at: AnyPoint, now: Moment) -> Result<Had, Finding> {
        match at {
            AnyPoint::Stored(at) => kept(view, at, now).map(|kept| Had {
                name: kept.name.clone(),
                vcpus: kept.vcpus,
                memory: kept.memory,
                firmware: kept.firmware,
                cards: vec![None; kept.cards.len()],
                disks: kept.disks.iter().map(|d| d.size).collect(),
            }),
            AnyPoint::Replicated { replica, .. } => {
                let gone = || Finding::stop(Rule::Exists, "replica", "The replica is gone.");
                let machine = view.estate.machines.get(&replica).ok_or_else(gone)?;
                let original = Source::from(at).shown(view, now)?;
                Ok(Had {
                    name: machine.replica.as_ref().map_or_else(|| machine.name.clone(), |r| r.name.clone()),
                    vcpus: machine.vcpus,
                    memory: machine.memory.size,
                    firmware: machine.firmware.as_ref().map_or(FirmwareKind::Uefi, |f| f.kind),
                    cards: machine.nics.iter().map(|n| n.network).collect(),
                    disks: original.disks.iter().map(|d| d.size).collect(),
                })
            }
        }
    }
}

/// What a copy shall be, where, and what it is asked.
pub(crate) struct Copied<'a> {
    pub at: AnyPoint,
    pub had: &'a Had,
    pub name: String,
    pub note: &'a str,
    /// A network for each card; none: on none.
    pub cards: Vec<Option<NetworkId>>,
    pub cluster: ClusterId,
    pub host: Option<HostId>,
    /// Its guest may take so long.
    pub limit: Span,
    pub must: &'a [Question],
    /// Whose copies are booted with it.
    pub with: Vec<String>,
}

impl Copied<'_> {
    /// Its steps, in an estate in which what came before it takes its room.
    pub(crate) fn made<'v, S: Work>(&self, beside: &road::Draft<'_, S>, view: &'v View) -> road::Draft<'v, machines::Step> {
        let mut part = beside.beside::<machines::Step>(view);
        machines::create(&mut part, &self.wanted());
        // Of what is said of any new machine only what concerns one that stays for minutes.
        part.leave_out(|f| f.stops() || matches!(f.rule, Rule::Placement | Rule::VolumeRoom | Rule::Headroom));
        part
    }

    fn wanted(&self) -> CreateMachines {
        let had = self.had;
        let disk = |size| NewDisk { size, provisioning: Provisioning::Thin };
        let card = |network: &Option<NetworkId>| NewNic { network: *network, address: None };
        CreateMachines {
            pattern: self.name.as_str().into(),
            count: 1,
            cluster: Some(self.cluster),
            qualities: Default::default(),
            pledge: None,
            volume: None,
            host: self.host,
            vcpus: had.vcpus,
            memory: Memory { kept: had.memory, size: had.memory, max: had.memory },
            disks: had.disks.iter().copied().map(disk).collect(),
            nics: self.cards.iter().map(card).collect(),
            copied: Some(machines::Copied { source: self.at.into(), dependent: false, seal: false }),
            taken: None,
            firmware: FirmwareWish { kind: Some(had.firmware), chip: None },
            image: None,
            first_boot: None,
            document: None,
            labels: Default::default(),
            tier: 4,
            protected: false,
            apart: false,
            note: self.note.into(),
            start: true,
        }
    }

    /// In place of waiting for the guest it is asked.
    pub(crate) fn asked(&self) -> impl Fn(machines::Step) -> Step + use<> {
        let (at, must, limit, with) = (self.at, self.must.to_vec(), self.limit, self.with.clone());
        let host = std::cell::Cell::new(HostId(0));
        move |step| {
            if let Some((_, on)) = started(&step) {
                host.set(on);
            }
            match step {
                machines::Step::AwaitGuest { machine, .. } => Step::Try(answers::Step::Try {
                    machine,
                    host: host.get(),
                    point: Some(at),
                    limit,
                    must: must.clone(),
                    with: with.clone(),
                }),
                other @ (machines::Step::Create { .. }
                | machines::Step::Copy { .. }
                | machines::Step::Start { .. }
                | machines::Step::AskStop { .. }
                | machines::Step::AwaitOff { .. }
                | machines::Step::Off { .. }
                | machines::Step::Delete { .. }
                | machines::Step::Recover { .. }
                | machines::Step::Purge { .. }) => Step::Machine(other),
            }
        }
    }

    /// Everybody knows what it is there for, and nobody brings it back where its host fails.
    pub(crate) fn marked(&self) -> impl Fn(machines::Event) -> Event + use<> {
        let at = self.at;
        move |event| {
            let machines::Event::Planned(machine) = event else {
                return Event::Machine(event);
            };
            let proves = Some(Box::new(at));
            Event::Machine(machines::Event::Planned(Box::new(Machine { proves, restarts: false, ..*machine })))
        }
    }
}

/// `proof-ledger`, or with a number that is not taken.
pub(crate) fn name(estate: &Estate, word: &str, of: &str) -> String {
    let usual = format!("{word}-{of}");
    let numbered = (2u32..).map(|n| format!("{word}{n}-{of}"));
    let mut all = std::iter::once(usual).chain(numbered);
    all.find(|n| estate.machine_named(n).is_none()).unwrap_or_default()
}

/// The machine that a step starts, and where.
pub(crate) fn started(step: &machines::Step) -> Option<(MachineId, HostId)> {
    match step {
        machines::Step::Start { machine, host } => Some((*machine, *host)),
        machines::Step::Create { .. }
        | machines::Step::Copy { .. }
        | machines::Step::AwaitGuest { .. }
        | machines::Step::AskStop { .. }
        | machines::Step::AwaitOff { .. }
        | machines::Step::Off { .. }
        | machines::Step::Delete { .. }
        | machines::Step::Recover { .. }
        | machines::Step::Purge { .. } => None,
    }
}

/// Off, deleted, removed for good.
pub(crate) fn gone(draft: &mut road::Draft<'_, Step>, machine: MachineId, host: HostId, after: &[usize]) {
    let off = Step::Machine(machines::Step::Off { machine });
    let off = draft.step(off, "Power the copy off".into(), after, None);
    clear::removed(draft, machine, host, &[off]);
}
