//! What a machine boots from.

use crate::{
    estate::{Boot, BootFrom, Estate, Machine},
    finding::{Finding, Rule},
    ids::VolumeId,
};

/// What is wrong with what a machine shall boot from.
pub fn check(estate: &Estate, machine: &Machine, boot: &Boot) -> Vec<Finding> {
    let mut found = Vec::new();
    let name = &machine.name;
    let mut stop = |field: &str, words: String| {
        found.push(Finding::stop(Rule::Disk, name, words).at(field));
    };
    if let Some(attached) = boot.attached {
        match estate.images.get(&attached.image) {
            None => stop("image", "This image is gone.".into()),
            Some(i) if !i.ready => stop("image", format!("{} is not whole yet.", i.name)),
            Some(i) if !on_its_cluster(estate, machine, i.volume) => {
                let words = format!("The hosts of {name} don't mount the volume of {}.", i.name);
                stop("image", words);
            }
            Some(i) if !i.holds.is_installer() => {
                stop(
                    "image",
                    format!("Nothing boots from {}: {}.", i.name, i.holds.word()),
                );
            }
            Some(_) => {}
        }
    }
    if boot.order.is_empty() {
        stop("order", "It must boot from something.".into());
    }
    match boot.once {
        Some(BootFrom::Image) if boot.attached.is_none() => {
            stop("once", "It has no image to boot from: choose one.".into());
        }
        Some(BootFrom::Network) if machine.nics.iter().all(|n| n.network.is_none()) => {
            stop(
                "once",
                "To boot from the network it needs a card on one.".into(),
            );
        }
        _ => {}
    }
    found
}

/// What a machine will boot from next: what was asked for once, else the first of its order that it has.
pub fn source(machine: &Machine) -> Option<BootFrom> {
    let boot = &machine.boot;
    let has = |from: &BootFrom| match from {
        BootFrom::Disk => !machine.disks.is_empty(),
        BootFrom::Image => boot.attached.is_some(),
        BootFrom::Network => machine.nics.iter().any(|n| n.network.is_some()),
    };
    boot.once
        .iter()
        .chain(&boot.order)
        .find(|f| has(f))
        .copied()
}

/// Whether an installer runs before its guest does.
pub fn installs(machine: &Machine) -> bool {
    matches!(source(machine), Some(BootFrom::Image | BootFrom::Network))
}

fn on_its_cluster(estate: &Estate, machine: &Machine, volume: VolumeId) -> bool {
    let v = estate.volumes.get(&volume);
    v.is_some_and(|v| v.cluster.is_some() && v.cluster == machine.cluster)
}
