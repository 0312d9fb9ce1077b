//! What a machine boots from.

use crate::{
    estate::{Boot, BootFrom, Estate, Machine},
    finding::{Finding, Rule},
    ids::VolumeId,
    units::Bytes,
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
    } else if !boot.order.iter().any(|from| has(machine, boot, *from)) {
        let lacks: Vec<&str> = boot.order.iter().map(|from| from.lack()).collect();
        let words = format!("It could boot from nothing of this: {}.", lacks.join(", "));
        stop("order", words);
    }
    match boot.once {
        Some(BootFrom::Image) if boot.attached.is_none() => {
            stop("once", "It has no image to boot from: choose one.".into());
        }
        Some(BootFrom::Network) if !has(machine, boot, BootFrom::Network) => {
            stop(
                "once",
                "To boot from the network it needs a card on one.".into(),
            );
        }
        _ => {}
    }
    found
}

/// Whether it has that; every card of ours carries a boot ROM.
fn has(machine: &Machine, boot: &Boot, from: BootFrom) -> bool {
    match from {
        BootFrom::Disk => !machine.disks.is_empty(),
        BootFrom::Image => boot.attached.is_some(),
        BootFrom::Network => machine.nics.iter().any(|n| n.network.is_some()),
    }
}

/// What a machine will boot from next: what was asked for once, else the first of its order that it has.
pub fn source(machine: &Machine) -> Option<BootFrom> {
    let boot = &machine.boot;
    let mut all = boot.once.iter().chain(&boot.order);
    all.find(|f| has(machine, boot, **f)).copied()
}

/// A BIOS reads where to boot from in a table (MBR) of 32-bit numbers of sectors of 512 bytes: 2 TiB.
const REACH_OF_BIOS: Bytes = Bytes(1 << 41);

/// What is on its first disk lies where its firmware may not find it.
pub fn out_of_reach(machine: &Machine) -> Option<Finding> {
    let bios = machine.firmware.as_ref().is_some_and(|f| !f.kind.is_uefi());
    let first = machine.disks.first()?;
    let text = format!(
        "A BIOS boots only from the first {REACH_OF_BIOS} of a disk; that of {} has {}.",
        machine.name, first.size
    );
    let mind = Finding::mind(Rule::Hardware, &machine.name, text).at("firmware");
    (bios && first.size > REACH_OF_BIOS)
        .then(|| mind.remedy("Give it UEFI when it is made, or a smaller disk to boot from."))
}

/// Whether an installer runs before its guest does.
pub fn installs(machine: &Machine) -> bool {
    matches!(source(machine), Some(BootFrom::Image | BootFrom::Network))
}

fn on_its_cluster(estate: &Estate, machine: &Machine, volume: VolumeId) -> bool {
    let v = estate.volumes.get(&volume);
    v.is_some_and(|v| v.cluster.is_some() && v.cluster == machine.cluster)
}
