//! What a machine that runs can't reach from where it runs.

use super::{Estate, Host, HostNet, Machine, Path, Uplink};
use crate::ids::VolumeId;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

/// What is missing there. One that lacks its volume stands still; one that lacks its networks runs, and nobody reaches it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Lack {
    Volume {
        volume: VolumeId,
        /// Its target answers and offers it no more; else nothing answers on any path.
        gone: bool,
    },
    /// None of the uplinks beneath its networks has a link.
    Networks,
}

/// What a host says that it reaches.
#[derive(Debug, Clone, Copy)]
pub struct Reach<'a> {
    pub mounts: &'a BTreeMap<VolumeId, Vec<Path>>,
    pub uplinks: &'a [Uplink],
    pub networks: &'a BTreeMap<String, HostNet>,
}

impl Host {
    pub fn reach(&self) -> Reach<'_> {
        Reach {
            mounts: &self.mounts,
            uplinks: &self.uplinks,
            networks: &self.networks,
        }
    }
}

impl Reach<'_> {
    /// What a machine would lack on this host. A volume that it doesn't mount at all is another matter.
    pub fn lacks(&self, estate: &Estate, machine: &Machine) -> Option<Lack> {
        let lost = machine.volumes().into_iter().find_map(|volume| {
            let paths = self.mounts.get(&volume)?;
            let gone = paths.is_empty();
            (!paths.iter().any(|p| p.up)).then_some(Lack::Volume { volume, gone })
        });
        lost.or_else(|| self.is_unlinked(estate, machine).then_some(Lack::Networks))
    }

    /// It has networks, and each of them is without a link.
    fn is_unlinked(&self, estate: &Estate, machine: &Machine) -> bool {
        let names = machine.nics.iter().filter_map(|n| n.network);
        let mut nets = names
            .filter_map(|id| self.networks.get(&estate.networks.get(&id)?.name))
            .peekable();
        nets.peek().is_some() && nets.all(|net| !has_link(self.uplinks, net))
    }
}

/// Whether any of a network's uplinks has a link; one that the host doesn't tell of is not known to be dead.
fn has_link(uplinks: &[Uplink], net: &HostNet) -> bool {
    let mut beneath = uplinks.iter().filter(|u| net.uplinks.contains(&u.name));
    let mut any = false;
    beneath.any(|u| {
        any = true;
        u.up
    }) || !any
}

impl Estate {
    /// What a machine lacks where it is on, as its host last said.
    pub fn lacks(&self, machine: &Machine) -> Option<Lack> {
        let host = machine.host.filter(|_| !machine.is_off())?;
        self.hosts.get(&host)?.reach().lacks(self, machine)
    }
}
