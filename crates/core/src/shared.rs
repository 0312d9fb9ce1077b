//! What is amiss with a disk that several machines have, and what protects it (rules, section 15).

use crate::{
    estate::{Estate, Machine, MachineState, SharedDisk, Volume},
    ids::{HostId, MachineId},
};
use std::{collections::BTreeMap, sync::Arc};
use uuid::Uuid;

/// Something that is not as it shall be at one of the machines.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    pub machine: MachineId,
    pub words: String,
    pub heals: Heals,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Heals {
    /// Giving it to all of them anew.
    Giving,
    /// Moving this machine.
    Moving,
    /// Something within its guest.
    Guest,
}

/// Of one shared disk; those that are healed by giving it anew first.
pub fn troubles(estate: &Estate, key: Uuid, disk: &SharedDisk) -> Vec<Trouble> {
    let nodes: Vec<&Arc<Machine>> = estate.nodes(key).collect();
    let mut all = Vec::new();
    for node in &nodes {
        let Some(has) = node.shares(key) else {
            continue;
        };
        all.extend(disk.differs(has).into_iter().map(|what| Trouble {
            machine: node.id,
            words: what.words(),
            heals: Heals::Giving,
        }));
    }
    let mut on: BTreeMap<HostId, &str> = BTreeMap::new();
    for node in &nodes {
        let Some(host) = node.host else { continue };
        if let Some(other) = on.get(&host) {
            let name = estate
                .hosts
                .get(&host)
                .map_or("its host", |h| h.name.as_str());
            all.push(Trouble {
                machine: node.id,
                words: format!("it is on {name}, and so is {other}"),
                heals: Heals::Moving,
            });
        } else {
            on.insert(host, &node.name);
        }
    }
    let silent = nodes.iter().filter(|n| {
        let up = matches!(n.state, MachineState::Running { .. });
        // What differs is said already, and may be why.
        let differs = n
            .shares(key)
            .is_some_and(|has| !disk.differs(has).is_empty());
        up && !differs && !disk.registered.contains_key(&n.uuid)
    });
    all.extend(silent.map(|n| Trouble {
        machine: n.id,
        words: "it is up and not registered with it, so it would not take over".into(),
        heals: Heals::Guest,
    }));
    all
}

/// One sentence, and whether it is so that the disk is safer for it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Statement {
    pub protects: bool,
    pub words: String,
}

/// What protects it, and what doesn't; the former first.
pub fn statements(
    estate: &Estate,
    key: Uuid,
    (volume, disk): (&Volume, &SharedDisk),
) -> Vec<Statement> {
    let nodes: Vec<&Arc<Machine>> = estate.nodes(key).collect();
    let registered = nodes
        .iter()
        .filter(|n| disk.registered.contains_key(&n.uuid))
        .count();
    let hosts: std::collections::BTreeSet<HostId> = nodes.iter().filter_map(|n| n.host).collect();
    let on = nodes.iter().filter(|n| n.host.is_some()).count();
    let recovers = |n: &&&Arc<Machine>| {
        let cluster = n.cluster.and_then(|c| estate.clusters.get(&c));
        n.restarts && cluster.is_some_and(|c| c.recovers)
    };
    let back = nodes.iter().filter(recovers).count();
    let copies = volume.pooled.as_deref().map(|p| p.copies);
    let mut all = vec![
        match registered {
            0 | 1 => (false, format!("{registered} of {} machines are registered: nobody would take over.", nodes.len())),
            n => (true, format!("{n} machines are registered: if the one that writes falls silent, another takes over.")),
        },
        match on > hosts.len() {
            true => (false, "Machines that have it are on the same host: what takes that host takes them all.".to_owned()),
            false => (true, "Its machines are never on the same host, and are moved one at a time.".to_owned()),
        },
        match back == nodes.len() && back > 0 {
            true => (true, "If the host of one fails, it starts elsewhere by itself.".to_owned()),
            false => (false, format!("{} of {} machines start elsewhere by themselves if their host fails.", back, nodes.len())),
        },
        match copies {
            Some(n) => (true, format!("{} keeps {n} copies of everything on it.", volume.name)),
            None => (false, format!("All of it lies on {}: if that volume is lost, so is this disk.", volume.name)),
        },
        (false, "No snapshot of its machines can be taken while they have it.".to_owned()),
        (false, "Copies, templates and archives of its machines leave it out, and nothing here copies what is on it.".to_owned()),
    ];
    all.sort_by_key(|(protects, _)| !protects);
    all.into_iter()
        .map(|(protects, words)| Statement { protects, words })
        .collect()
}
