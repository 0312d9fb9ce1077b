//! What the guests of a host do with the disks that they share, and what they say of it.

use super::disk::{Does, Share};
use crate::{rooms::machines::guest::Guest, rooms::storage::volume::Record, world::State};
use std::{collections::BTreeSet, fmt::Write};

fn does(guest: &Guest, record: &Record, now: i64) -> Does {
    if guest.frozen.is_some() || guest.hung.is_some() {
        return Does::Nothing;
    }
    match guest.phase(now, record.temper) {
        "up" => Does::Works,
        "stopping" | "off" => Does::Leaves,
        _ => Does::Nothing,
    }
}

/// Lets them act; answers the volumes on which something changed.
pub(crate) fn act(state: &mut State, host: &str, now: i64) -> BTreeSet<String> {
    let acting = |(uuid, guest): (&String, &Guest)| {
        let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
        let does = does(guest, record, now);
        (!record.shares.is_empty()).then(|| (uuid.clone(), does, record.shares.clone()))
    };
    let guests = state.hosts.get(host).into_iter().flat_map(|h| &h.guests);
    let all: Vec<(String, Does, Vec<Share>)> = guests.filter_map(acting).collect();
    let mut changed = BTreeSet::new();
    for (uuid, does, shares) in all {
        for share in shares {
            if !state.reaches(host, &share.volume) {
                continue;
            }
            let Some(volume) = state.volumes.get_mut(&share.volume) else {
                continue;
            };
            let Some(disk) = volume.shared.disks.get_mut(&share.disk) else {
                continue;
            };
            if disk.acts(&uuid, does, share.reserves(), now) {
                volume.shared.seq += 1;
                changed.insert(share.volume);
            }
        }
    }
    changed
}

/// What `cluster status` prints on a node.
pub(crate) fn status(state: &State, uuid: &str, record: &Record, now: i64) -> String {
    let mut out = String::new();
    for share in &record.shares {
        let disk = state
            .volumes
            .get(&share.volume)
            .and_then(|v| v.shared.disks.get(&share.disk));
        let Some(disk) = disk else {
            let _ = write!(out, "disk {}: not there\r\n", share.disk);
            continue;
        };
        let _ = write!(
            out,
            "{}: controller {}, unit {}, {}\r\n",
            disk.name, share.controller, share.unit, share.mode
        );
        for (node, name) in state.nodes(share.disk) {
            let part = match &disk.holder {
                Some(h) if h.machine == node => format!("writes, for {} s", (now - h.since) / 1000),
                _ if disk.registered.contains_key(&node) => "stands by".to_owned(),
                _ => "not registered".to_owned(),
            };
            let me = if node == uuid { " (this one)" } else { "" };
            let _ = write!(out, "  {name}{me}: {part}\r\n");
        }
        if let Some(over) = disk.takeovers.last() {
            let name = |node: &str| state.machine_name(node).unwrap_or_else(|| node.to_owned());
            let _ = write!(
                out,
                "  last take-over: {} from {}, nobody wrote for {} ms\r\n",
                name(&over.to),
                name(&over.from),
                over.first - over.last
            );
        }
    }
    if out.is_empty() {
        out.push_str("this machine is in no cluster\r\n");
    }
    out
}

impl State {
    pub(crate) fn machine_name(&self, uuid: &str) -> Option<String> {
        let mut records = self.volumes.values().filter_map(|v| v.records.get(uuid));
        records.next().map(|r| r.name.clone())
    }
    /// The machines that have a shared disk, with their names.
    pub(crate) fn nodes(&self, disk: uuid::Uuid) -> Vec<(String, String)> {
        let records = self.volumes.values().flat_map(|v| &v.records);
        let has = |(_, r): &(&String, &Record)| r.shares.iter().any(|s| s.disk == disk);
        records
            .filter(has)
            .map(|(uuid, r)| (uuid.clone(), r.name.clone()))
            .collect()
    }
}
