//! Room on a volume for new machines (rules, sections 1.5 and 2).

use crate::{
    estate::{Cluster, Machine, MachineState, Volume},
    finding::{Finding, Rule},
    ids::VolumeId,
    limits,
    text::Line,
    units::Bytes,
    view::View,
};
use std::{collections::BTreeSet, sync::Arc};

/// A volume keeps this much free, in thousandths.
const RESERVE: u64 = 150;
/// Disks may be promised this many hundredths of the capacity before it is worth a thought.
const PROMISE: u128 = 200;

/// No disk is smaller.
const LEAST: Bytes = Bytes::mib(1);

/// Whether a disk may be so large.
///
/// # Errors
/// What is wrong with it, in words.
pub fn sized(size: Bytes) -> Result<(), String> {
    let most = Bytes(u64::try_from(limits::FIGURE_DISK.most).unwrap_or(u64::MAX));
    if size < LEAST {
        Err(format!(
            "A disk of {size} is too small; give it at least {LEAST}."
        ))
    } else if size > most {
        Err(format!("A disk has at most {most}."))
    } else {
        Ok(())
    }
}

/// Room for more on disks that are there, or for one more: `needs` at once, and nothing where it is thin.
pub fn more(volume: &Volume, needs: Bytes, field: &str) -> Finding {
    let (name, free) = (&volume.name, volume.free());
    if needs == Bytes::ZERO {
        let text =
            format!("Thin disks take room on {name} only as they are written; {free} are free.");
        return Finding::clear(Rule::VolumeRoom, name, text);
    }
    if needs > free {
        let text = format!(
            "{name} is short of {}: {free} are free, {needs} more are needed at once.",
            needs.less(free)
        );
        let stop = Finding::stop(Rule::VolumeRoom, name, text).at(field);
        return stop.remedy("Extend the volume, or move disks of others away.");
    }
    let left = free.less(needs);
    if left < volume.capacity.per_mille(RESERVE) {
        let text = format!("{name} would have {left} free, less than 15 %.");
        return Finding::mind(Rule::VolumeReserve, name, text).at(field);
    }
    let text = format!("{name} has room for {needs} more: {free} are free.");
    Finding::clear(Rule::VolumeRoom, name, text)
}

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

/// Where the disks go: the volume, what was found about it, and why the others not.
pub struct VolumeChoice {
    pub volume: VolumeId,
    pub findings: Vec<Finding>,
}

/// What of that which is asked for the volume does not offer.
fn lacks(volume: &Volume, asked: &BTreeSet<Line>) -> Option<Finding> {
    let missing: Vec<&str> = asked
        .difference(&volume.qualities)
        .map(Line::as_str)
        .collect();
    if missing.is_empty() {
        return None;
    }
    let text = format!("{} does not offer {}.", volume.name, missing.join(", "));
    let stop = Finding::stop(Rule::Storage, &volume.name, text).at("qualities");
    Some(stop.remedy("Ask for less, or state what it offers on the volume's page."))
}

/// What is promised of the machines would not hold there.
fn unpledged(volume: &Volume, why: &str) -> Finding {
    let stop = Finding::stop(Rule::Storage, &volume.name, format!("{why}."));
    stop.at("pledge").remedy(
        "Choose another pledge, or another volume; or have this one's array do what is promised.",
    )
}

/// Which volumes come into question.
#[derive(Clone, Copy)]
pub struct Among<'a> {
    /// What it must offer.
    pub qualities: &'a BTreeSet<Line>,
    /// This one and no other.
    pub only: Option<VolumeId>,
    /// Why what the machines are promised would not hold there.
    pub breaks: &'a dyn Fn(&Volume) -> Option<String>,
}

/// Chooses among the cluster's volumes (rules, section 2): the qualities asked for, then room, then 15 % free afterwards,
/// then the overcommit limit, then the name. Latency is not measured yet.
///
/// # Errors
/// Why there is none.
pub fn choose_volume(
    view: &View,
    cluster: &Cluster,
    machines: impl Fn(VolumeId) -> Vec<Machine>,
    among: Among<'_>,
    starting: bool,
) -> Result<VolumeChoice, Vec<Finding>> {
    let all = view.estate.volumes_of(cluster);
    if all.is_empty() {
        let text = format!("{} has no volume yet.", cluster.name);
        return Err(vec![
            Finding::stop(Rule::Storage, &cluster.name, text)
                .at("volume")
                .remedy("Connect one to its hosts under Storage."),
        ]);
    }
    let mut fine = Vec::new();
    let mut why_not = Vec::new();
    let asked = |v: &&&Arc<Volume>| among.only.is_none_or(|id| id == v.id);
    for volume in all.iter().filter(asked) {
        let found = if let Some(lacks) = lacks(volume, among.qualities) {
            vec![lacks]
        } else if let Some(why) = (among.breaks)(volume) {
            vec![unpledged(volume, &why)]
        } else if volume.ready {
            volume_findings(view, volume, &machines(volume.id), starting)
        } else {
            let text = format!("{} is still being connected.", volume.name);
            vec![Finding::stop(Rule::State, &volume.name, text).at("volume")]
        };
        if found.iter().any(Finding::stops) {
            why_not.push((volume.name.clone(), found));
        } else {
            let tight = found.iter().any(|f| f.rule == Rule::VolumeReserve);
            let promised = found.iter().any(|f| f.rule == Rule::Storage);
            fine.push((tight, promised, volume.name.clone(), volume.id, found));
        }
    }
    fine.sort_by(|a, b| (a.0, a.1, &a.2).cmp(&(b.0, b.1, &b.2)));
    let dearer: Vec<String> = fine
        .iter()
        .skip(1)
        .map(|(tight, promised, name, ..)| match (tight, promised) {
            (true, _) => format!("{name}: less than 15 % would be free"),
            (_, true) => format!("{name}: promised too often"),
            _ => format!("{name}: as good, later by name"),
        })
        .chain(why_not.iter().map(|(name, found)| {
            let words = found
                .iter()
                .find(|f| f.stops())
                .map_or("", |f| f.text.as_str());
            format!("{name}: {}", words.trim_end_matches('.'))
        }))
        .collect();
    match fine.into_iter().next() {
        Some((_, _, name, volume, mut findings)) => {
            if all.len() > 1 {
                findings.push(
                    Finding::clear(Rule::Storage, &name, format!("The disks go to {name}."))
                        .because(dearer.join(" · ")),
                );
            }
            Ok(VolumeChoice { volume, findings })
        }
        None => Err(why_not.into_iter().next().map_or_else(
            || {
                let text = "Choose a volume of this cluster.";
                vec![Finding::stop(Rule::Exists, "volume", text).at("volume")]
            },
            |(_, found)| found,
        )),
    }
}
