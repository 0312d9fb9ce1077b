//! What happened. Events change the estate through [`crate::estate::Estate::absorb`] and are told in the Logbook.

use crate::{
    estate::{Cluster, Condition, Estate, Host, Machine, MachineState, Site, Volume, Wanted},
    ids::{ClusterId, HostId, MachineId, RunId, VolumeId},
    moment::Moment,
    plan::Plan,
    proposal::{Set, Target},
    run::Run,
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Event {
    SiteAdded(Site),
    /// Its name and address are held; the claim runs.
    HostClaiming(Box<Host>),
    HostClaimed(Box<Host>),
    HostReleased { host: HostId },
    HostCondition { host: HostId, condition: Condition },
    HostSeen { host: HostId, boot: u64, seq: u64, software: String },
    HostJoined { host: HostId, cluster: ClusterId },
    HostLeft { host: HostId },
    ClusterAdded { cluster: Box<Cluster>, volume: Box<Volume> },
    ClusterReady { cluster: ClusterId },
    ClusterDropped { cluster: ClusterId },
    VolumeSeen { volume: VolumeId, capacity: Bytes, used: Bytes },
    MachinePlanned(Box<Machine>),
    MachineMade { machine: MachineId, guest_key: String },
    MachineAdopted(Box<Machine>),
    MachineDropped { machine: MachineId },
    MachineWanted { machine: MachineId, wanted: Wanted, host: Option<HostId> },
    MachineSeen { machine: MachineId, state: MachineState, host: Option<HostId>, generation: u64 },
    MachineDeleted { machine: MachineId, at: Moment },
    MachineRecovered { machine: MachineId },
    MachinePurged { machine: MachineId },
    Edited { target: Target, sets: Vec<Set> },
    RunStarted { run: Box<Run>, plan: Box<Plan> },
    RunMoved { run: Box<Run>, what: String },
    /// A device must do this now: becomes an order.
    Ordered { run: RunId, step: usize, attempt: u32, after_ms: u64 },
}

/// An event as people read it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Told {
    pub kind: String,
    pub text: String,
    /// Identifiers of what it is about, such as `machine-7`.
    pub about: Vec<String>,
}

impl Event {
    /// The event in words, with the names that things have in `estate`; none for what is not worth a line.
    pub fn tell(&self, estate: &Estate) -> Option<Told> {
        let host = |id: &HostId| estate.hosts.get(id).map_or_else(|| id.to_string(), |h| h.name.clone());
        let machine = |id: &MachineId| estate.machines.get(id).map_or_else(|| id.to_string(), |m| m.name.clone());
        let cluster = |id: &ClusterId| estate.clusters.get(id).map_or_else(|| id.to_string(), |c| c.name.clone());
        let (kind, text, about) = match self {
            Event::SiteAdded(site) => ("site", format!("Site {} was added", site.name), vec![site.id.to_string()]),
            Event::HostClaiming(_) | Event::HostSeen { .. } | Event::Ordered { .. } | Event::VolumeSeen { .. } => {
                return None;
            }
            Event::HostClaimed(h) => ("host", format!("{} was claimed", h.name), vec![h.id.to_string()]),
            Event::HostReleased { host: id } => ("host", format!("{} was handed back", host(id)), vec![id.to_string()]),
            Event::HostCondition { host: id, condition } => {
                let text = match condition {
                    Condition::Claiming => return None,
                    Condition::Steady => format!("{} answers", host(id)),
                    Condition::Lost { why, .. } => format!("{} does not answer: {why}", host(id)),
                    Condition::Stranger { .. } => {
                        format!("{} shows another certificate than the pinned one; orders are held", host(id))
                    }
                };
                ("host", text, vec![id.to_string()])
            }
            Event::HostJoined { host: h, cluster: c } => (
                "host",
                format!("{} joined {}", host(h), cluster(c)),
                vec![h.to_string(), c.to_string()],
            ),
            Event::HostLeft { host: h } => ("host", format!("{} left its cluster", host(h)), vec![h.to_string()]),
            Event::ClusterAdded { cluster: c, .. } => {
                ("cluster", format!("Cluster {} is being made", c.name), vec![c.id.to_string()])
            }
            Event::ClusterReady { cluster: c } => {
                ("cluster", format!("Cluster {} is ready", cluster(c)), vec![c.to_string()])
            }
            Event::ClusterDropped { cluster: c } => {
                ("cluster", format!("Cluster {} was not made", cluster(c)), vec![c.to_string()])
            }
            Event::MachinePlanned(m) => {
                ("machine", format!("Name and room are held for {}", m.name), vec![m.id.to_string()])
            }
            Event::MachineMade { machine: m, .. } => {
                ("machine", format!("{} was created", machine(m)), vec![m.to_string()])
            }
            Event::MachineAdopted(m) => {
                ("machine", format!("{} was found and registered", m.name), vec![m.id.to_string()])
            }
            Event::MachineDropped { machine: m } => {
                ("machine", format!("{} was not created; its name and room are free", machine(m)), vec![m.to_string()])
            }
            Event::MachineWanted { machine: m, wanted, .. } => {
                let word = if *wanted == Wanted::On { "on" } else { "off" };
                ("machine", format!("{} shall be {word}", machine(m)), vec![m.to_string()])
            }
            Event::MachineSeen { machine: m, state, host: h, .. } => {
                let place = h.as_ref().map(|h| format!(" on {}", host(h))).unwrap_or_default();
                let text = match state {
                    MachineState::Off => format!("{} is off", machine(m)),
                    MachineState::Running { guest: true } => format!("{} is up and answers{place}", machine(m)),
                    MachineState::Running { guest: false } => format!("{} runs{place}; its agent is silent", machine(m)),
                    MachineState::Paused(why) => format!("{} was paused{place}: {why}", machine(m)),
                    MachineState::Starting(phase) if phase == "firmware" => format!("{} starts{place}", machine(m)),
                    MachineState::Starting(_) | MachineState::Planned | MachineState::Stopping => return None,
                };
                ("machine", text, vec![m.to_string()])
            }
            Event::MachineDeleted { machine: m, .. } => (
                "machine",
                format!("{} was deleted; it can be brought back for {} days", machine(m), Machine::KEPT_DAYS),
                vec![m.to_string()],
            ),
            Event::MachineRecovered { machine: m } => {
                ("machine", format!("{} was brought back", machine(m)), vec![m.to_string()])
            }
            Event::MachinePurged { machine: m } => {
                ("machine", format!("{} was removed for good", machine(m)), vec![m.to_string()])
            }
            Event::Edited { target, sets } => {
                let what = sets.iter().map(Set::tell).collect::<Vec<_>>().join("; ");
                ("edit", format!("{}: {what}", target.name(estate)), vec![target.to_string()])
            }
            Event::RunStarted { run, .. } => ("run", format!("Began: {}", run.title), vec![run.id.to_string()]),
            Event::RunMoved { run, what } if !what.is_empty() => {
                ("run", format!("{}: {what}", run.title), vec![run.id.to_string()])
            }
            Event::RunMoved { .. } => return None,
        };
        Some(Told { kind: kind.into(), text, about })
    }
}
