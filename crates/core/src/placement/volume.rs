//! Room on a volume for new machines (rules, sections 1.5 and 2).

use crate::{
    estate::{Machine, MachineState, Volume},
    finding::{Finding, Rule},
    units::Bytes,
    view::View,
};

/// A volume keeps this much free, in thousandths.
const RESERVE: u64 = 150;
/// Disks may be promised this many hundredths of the capacity before it is worth a thought.
const PROMISE: u128 = 200;

/// Whether `machines` find room on `volume`: thick in full, thin a tenth, and swap for what isn't always kept.
pub fn volume_findings(
    view: &View,
    volume: &Volume,
    machines: &[Machine],
    starting: bool,
) -> Vec<Finding> {
    let on_it: Vec<_> = view.estate.machines_with_disk_on(volume.id).collect();
    let coming: Bytes = on_it
        .iter()
        .filter(|m| m.state == MachineState::Planned)
        .map(|m| m.first_room() + m.swap())
        .sum();
    let free = volume.capacity.less(volume.used + coming);
    let disks: Bytes = machines.iter().map(Machine::first_room).sum();
    let swap: Bytes = if starting {
        machines.iter().map(Machine::swap).sum()
    } else {
        Bytes::ZERO
    };
    let needs = disks + swap;
    let after = free.less(needs);
    let mut found = Vec::new();
    if needs > free {
        found.push(
            Finding::stop(
                Rule::VolumeRoom,
                &volume.name,
                format!("{} is short of {}: {free} are free, {needs} are needed.", volume.name, needs.less(free)),
            )
            .because("thick disks in full, thin ones a tenth, and swap for memory that isn't always kept")
            .at("disks")
            .remedy("Make the disks smaller or thin, or purge deleted machines."),
        );
    } else if after < volume.capacity.per_mille(RESERVE) {
        found.push(
            Finding::mind(
                Rule::VolumeReserve,
                &volume.name,
                format!("{} would have {after} free, less than 15 %.", volume.name),
            )
            .because(format!(
                "{} in all, {} used now",
                volume.capacity, volume.used
            ))
            .at("disks"),
        );
    } else {
        found.push(Finding::clear(
            Rule::VolumeRoom,
            &volume.name,
            format!("{} keeps {after} free.", volume.name),
        ));
    }
    let promised: Bytes = on_it.iter().map(|m| m.disk_total()).sum::<Bytes>()
        + machines.iter().map(Machine::disk_total).sum();
    let hundredths = (u128::from(promised.0) * 100)
        .checked_div(u128::from(volume.capacity.0))
        .unwrap_or(0);
    if hundredths > PROMISE {
        found.push(
            Finding::mind(
                Rule::Storage,
                &volume.name,
                format!(
                    "{} would be promised {}.{} times over.",
                    volume.name,
                    hundredths / 100,
                    hundredths % 100 / 10
                ),
            )
            .because(format!("{promised} of disks on {}", volume.capacity))
            .at("disks"),
        );
    }
    found
}
