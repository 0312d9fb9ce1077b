//! A machine as a descriptor says it.

use crate::{
    estate::{Estate, Machine},
    ovf::{Descriptor, Disk, File, Hardware, Item, RAW},
};
use uuid::Uuid;

/// What the disk of this number is called in an archive, or alone.
pub fn file_name(machine: &str, disk: usize, gzip: bool) -> String {
    let ending = if gzip { ".raw.gz" } else { ".raw" };
    format!("{machine}-disk{disk}{ending}")
}

/// The machine with the disks that it has, or had when a snapshot was taken.
pub fn described(estate: &Estate, machine: &Machine, snapshot: Option<Uuid>, gzip: bool) -> Descriptor {
    let held = snapshot.and_then(|s| machine.snapshots.get(s)?.disks);
    let disks: Vec<_> = machine.disks.iter().take(held.unwrap_or(machine.disks.len())).collect();
    let numbered = || (1usize..).zip(&disks);
    let network = |nic: &crate::estate::Nic| {
        let found = nic.network.and_then(|id| estate.networks.get(&id));
        found.map_or_else(|| "none".to_owned(), |n| n.name.clone())
    };
    let mut networks: Vec<(String, String)> = machine
        .nics
        .iter()
        .map(|nic| {
            let found = nic.network.and_then(|id| estate.networks.get(&id));
            (network(nic), found.map_or_else(String::new, |n| n.vlan_word()))
        })
        .collect();
    networks.sort();
    networks.dedup();
    let hardware = [
        Hardware::Vcpus(machine.vcpus),
        Hardware::Memory {
            size: machine.memory.size,
            kept: Some(machine.memory.kept),
        },
    ];
    let with_disks = numbered().map(|(n, _)| Hardware::Disk(format!("disk{n}")));
    let cards = machine.nics.iter().map(|nic| Hardware::Card {
        network: network(nic),
        mac: Some(nic.mac.clone()),
    });
    let item = |hardware| Item {
        configurations: vec![],
        hardware,
    };
    Descriptor {
        name: machine.name.clone(),
        note: machine.note.clone(),
        files: numbered()
            .map(|(n, _)| File {
                id: format!("file{n}"),
                href: file_name(&machine.name, n, gzip),
                gzip,
            })
            .collect(),
        disks: numbered()
            .map(|(n, d)| Disk {
                id: format!("disk{n}"),
                file: Some(format!("file{n}")),
                capacity: d.size,
                format: RAW.into(),
            })
            .collect(),
        networks,
        items: hardware.into_iter().chain(with_disks).chain(cards).map(item).collect(),
        ..Descriptor::default()
    }
}
