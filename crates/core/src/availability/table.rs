//! A cluster as numbers: hosts with room, machines with needs, and which may share a host.

use crate::{
    ids::{HostId, MachineId},
    moment::Span,
    packing::Amount,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Always-kept memory and overhead.
pub const MEMORY: usize = 0;
/// Memory sizes against one and a half times what is usable.
pub const SIZES: usize = 1;
/// vCPUs against eight for each core.
pub const VCPUS: usize = 2;
/// CPU demand, which counts only for *runs well*; likewise active memory behind it.
pub const CPU: usize = 3;
/// Dimensions that must fit for machines to start, and to run well.
pub(super) const STARTS: usize = 3;
pub const WELL: usize = 5;

/// Hosts and machines of one cluster, or of a file.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Table {
    pub hosts: Vec<HostRow>,
    pub machines: Vec<MachineRow>,
    /// The names of the groups in `apart` and `together`.
    pub groups: Vec<String>,
    /// From power-on until a guest answers, where it was measured.
    pub boot: Option<Span>,
}

#[derive(Debug, Clone, Default, PartialEq)]
pub struct HostRow {
    pub id: Option<HostId>,
    pub name: String,
    /// What machines may take of it in all.
    pub room: Amount,
    /// Why no machine can be started there; none if it takes some.
    pub closed: Option<String>,
    /// It has failed already: its machines are to be started on the others.
    pub gone: bool,
    /// How long it takes to prove that it writes nothing, once it is silent; none where that takes a person.
    pub fencing: Option<Span>,
    /// Fault domains that it is in: `rack`, `chassis`, `feed`, `site` and the name of each.
    pub domains: BTreeMap<String, String>,
}

/// Whether a machine is started elsewhere when its host fails.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub enum Restart {
    #[default]
    Yes,
    /// Nobody asked for that.
    Unprotected,
    /// It is only counted here: it is on its way from another host, which restarts it.
    Arriving,
}

#[derive(Debug, Clone, Default, PartialEq)]
pub struct MachineRow {
    pub id: Option<MachineId>,
    pub name: String,
    pub needs: Amount,
    /// Always-kept memory, in bytes.
    pub kept: u64,
    pub tier: u8,
    /// The host that it is on.
    pub at: Option<usize>,
    pub restart: Restart,
    /// Never two machines of one group on a host.
    pub apart: Vec<u32>,
    /// Machines of one group share a host.
    pub together: Option<u32>,
    /// The hosts that may take it; none: all.
    pub only: Option<Arc<Vec<bool>>>,
    /// It boots once this machine answers.
    pub after: Option<usize>,
}

impl Table {
    /// What is free on each host while the machines of `without` are not there.
    pub(super) fn free(&self, without: &dyn Fn(usize) -> bool) -> Vec<Amount> {
        let mut free: Vec<Amount> = self.hosts.iter().map(|h| h.room).collect();
        for machine in &self.machines {
            if let Some(at) = machine.at.filter(|at| !without(*at)) {
                for (room, need) in free[at].iter_mut().zip(machine.needs) {
                    *room = room.saturating_sub(need);
                }
            }
        }
        free
    }
    /// Hosts that have failed already.
    pub fn gone(&self) -> impl Iterator<Item = usize> {
        let all = self.hosts.iter().enumerate();
        all.filter(|(_, h)| h.gone).map(|(i, _)| i)
    }
    /// The keep-apart groups that are on each host.
    pub(super) fn there(&self) -> Vec<BTreeSet<u32>> {
        let mut groups = vec![BTreeSet::new(); self.hosts.len()];
        for machine in &self.machines {
            if let Some(at) = machine.at {
                groups[at].extend(&machine.apart);
            }
        }
        groups
    }
    /// The machines on a host.
    pub fn on(&self, host: usize) -> impl Iterator<Item = usize> {
        let all = self.machines.iter().enumerate();
        all.filter(move |(_, m)| m.at == Some(host)).map(|(i, _)| i)
    }
}
