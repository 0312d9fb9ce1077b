//! Arrays and filers: pools, volumes on them, who may reach them, and by which portals. What a host really sees of a
//! volume is decided here, from the array's mapping, the host's logins and the state of each path.

use crate::{host::Identity, world::State};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ArrayKind {
    /// LUNs by iSCSI.
    Block,
    /// Exports by NFS.
    File,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Array {
    pub(crate) name: String,
    pub(crate) kind: ArrayKind,
    pub(crate) serial: String,
    /// `ip:port` of each management controller, with its certificate and whether it answers.
    pub(crate) controllers: Vec<Controller>,
    pub(crate) password: String,
    pub(crate) portals: Vec<Portal>,
    pub(crate) pools: BTreeMap<String, u64>,
    pub(crate) luns: BTreeMap<String, Lun>,
    /// Number → IQN, or a client's name where files are exported.
    pub(crate) initiators: BTreeMap<String, String>,
    pub(crate) connections: BTreeMap<String, Connection>,
    pub(crate) effects: BTreeMap<String, u32>,
    pub(crate) next: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Controller {
    pub(crate) address: String,
    pub(crate) identity: Identity,
    pub(crate) up: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Portal {
    pub(crate) address: String,
    pub(crate) up: bool,
}

/// A volume of the array; what is on it stands in [`crate::volume::Volume`] under the same identity.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Lun {
    pub(crate) name: String,
    pub(crate) uid: String,
    pub(crate) pool: String,
    pub(crate) capacity: u64,
    pub(crate) thin: bool,
    pub(crate) description: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Connection {
    pub(crate) lun: String,
    pub(crate) initiator: String,
}

/// One way from a host to a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Path {
    pub(crate) portal: String,
    pub(crate) uplink: String,
    pub(crate) up: bool,
}

impl Array {
    pub(crate) fn number(&mut self) -> String {
        self.next += 1;
        self.next.to_string()
    }
    pub(crate) fn lun_with(&self, uid: &str) -> Option<(&String, &Lun)> {
        self.luns.iter().find(|(_, l)| l.uid == uid)
    }
    /// May this initiator reach the volume?
    pub(crate) fn maps(&self, lun: &str, initiator: &str) -> bool {
        self.connections.values().any(|c| {
            c.lun == lun
                && self
                    .initiators
                    .get(&c.initiator)
                    .is_some_and(|i| i == initiator)
        })
    }
    pub(crate) fn map(&mut self, lun: &str, initiator: &str) {
        if self.maps(lun, initiator) {
            return;
        }
        let known = self
            .initiators
            .iter()
            .find(|(_, name)| *name == initiator)
            .map(|(id, _)| id.clone());
        let id = known.unwrap_or_else(|| {
            let id = self.number();
            self.initiators.insert(id.clone(), initiator.to_owned());
            id
        });
        let number = self.number();
        self.connections.insert(
            number,
            Connection {
                lun: lun.to_owned(),
                initiator: id,
            },
        );
    }
}

impl State {
    pub(crate) fn array_with(&self, uid: &str) -> Option<&Array> {
        self.arrays.values().find(|a| a.lun_with(uid).is_some())
    }

    /// Every path that the host logged in on and on which the array offers it the volume.
    pub(crate) fn paths(&self, host: &str, uid: &str) -> Vec<Path> {
        let (Some(host), Some(array)) = (self.hosts.get(host), self.array_with(uid)) else {
            return Vec::new();
        };
        let mapped = array
            .lun_with(uid)
            .is_some_and(|(id, _)| array.maps(id, &host.iqn));
        if !mapped {
            return Vec::new();
        }
        let portals = array.portals.iter().enumerate();
        portals
            .filter(|(_, p)| host.logins.contains(&p.address))
            .map(|(i, p)| Path {
                portal: p.address.clone(),
                uplink: format!("storage-{}", i + 1),
                up: p.up && !host.cut.contains(&p.address),
            })
            .collect()
    }
    pub(crate) fn reaches(&self, host: &str, uid: &str) -> bool {
        self.paths(host, uid).iter().any(|p| p.up)
    }

    /// Everything that arrays offer this host on paths that it is logged in on.
    pub(crate) fn devices(&self, host: &str) -> Vec<String> {
        let all: BTreeSet<&String> = self
            .arrays
            .values()
            .flat_map(|a| a.luns.values().map(|l| &l.uid))
            .collect();
        all.into_iter()
            .filter(|uid| self.reaches(host, uid))
            .cloned()
            .collect()
    }

    /// What is written in a pool: thin volumes by what is on them, thick ones whole.
    pub(crate) fn pool_used(&self, array: &Array, pool: &str) -> u64 {
        let on_it = |lun: &Lun| {
            if lun.thin {
                self.volumes
                    .get(&lun.uid)
                    .map_or(0, crate::volume::Volume::used)
            } else {
                lun.capacity
            }
        };
        array
            .luns
            .values()
            .filter(|l| l.pool == pool)
            .map(on_it)
            .sum()
    }
}
