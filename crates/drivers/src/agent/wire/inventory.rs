//! What a host has that another manager runs.

use super::{Machine, WireNet, WireOwner, WireUplink, WireVolume, limited};
use serde::Deserialize;
use std::collections::BTreeMap;
use uuid::Uuid;
use zastrugi_core::{
    inventory::{self, CarriedMachine, CarriedNic, CarriedVolume, Former},
    moment::Span,
};

/// The most that is read of what one host has.
const VOLUMES: usize = 4096;
const RECORDS: usize = 20_000;
const NETWORKS: usize = 512;

#[derive(Debug, Deserialize)]
pub(crate) struct Inventory {
    former: Option<WireFormer>,
    #[serde(default)]
    volumes: Vec<Carried>,
    #[serde(default)]
    networks: BTreeMap<String, WireNet>,
    #[serde(default)]
    uplinks: Vec<WireUplink>,
    /// How long each machine that runs there has been on.
    #[serde(default)]
    up_ms: BTreeMap<Uuid, u64>,
    #[serde(default)]
    others: Vec<String>,
}

#[derive(Debug, Deserialize)]
struct WireFormer {
    installation: String,
    name: String,
    silent_ms: u64,
    automation: bool,
}

#[derive(Debug, Deserialize)]
struct Carried {
    #[serde(flatten)]
    volume: WireVolume,
    owner: Option<WireOwner>,
    #[serde(default)]
    machines: Vec<Machine>,
}

impl Inventory {
    pub(crate) fn read(self) -> inventory::Inventory {
        let up = self.up_ms;
        inventory::Inventory {
            former: self.former.map(WireFormer::read),
            volumes: self
                .volumes
                .into_iter()
                .take(VOLUMES)
                .map(|v| v.read(&up))
                .collect(),
            networks: self
                .networks
                .into_iter()
                .take(NETWORKS)
                .map(|(name, n)| (limited(name), n.read()))
                .collect(),
            uplinks: self
                .uplinks
                .into_iter()
                .take(64)
                .map(WireUplink::read)
                .collect(),
            others: self.others.into_iter().take(64).map(limited).collect(),
        }
    }
}

impl WireFormer {
    fn read(self) -> Former {
        Former {
            id: limited(self.installation),
            name: limited(self.name),
            silent: Span(self.silent_ms),
            automation: self.automation,
        }
    }
}

impl Carried {
    fn read(self, up: &BTreeMap<Uuid, u64>) -> CarriedVolume {
        let live = self.machines.into_iter().filter(|m| !m.deleted);
        CarriedVolume {
            seen: self.volume.read(),
            owner: self
                .owner
                .map(|o| (limited(o.installation), limited(o.name))),
            machines: live.take(RECORDS).map(|m| carried(m, up)).collect(),
        }
    }
}

fn carried(machine: Machine, up: &BTreeMap<Uuid, u64>) -> CarriedMachine {
    let on = machine.running_on.clone().map(limited);
    let report = machine.read();
    let nics = report.nics.into_iter().map(|n| CarriedNic {
        mac: n.mac,
        network: n.network,
        addresses: n.addresses,
    });
    CarriedMachine {
        uuid: report.uuid,
        on,
        up: up.get(&report.uuid).copied().map(Span),
        nics: nics.collect(),
        hardware: report.virtual_hardware,
        name: report.name,
    }
}
