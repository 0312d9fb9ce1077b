//! Moving machines' disks to another volume, while they run or not (rules, section 5).
//!
//! With `U` the used blocks, `B` the rate of the copy and `W` what the machine writes: what it writes meanwhile is copied
//! again, so the copy takes `U / (B − W)` and ends only if `W < B`.

use super::{Draft, Step};
use crate::{
    copying::rate,
    estate::{Host, Machine, Provisioning, Volume},
    finding::{Finding, Rule},
    ids::{MachineId, VolumeId},
    loads::DiskUse,
    migration::FIXED,
    pledges::Lies,
    moment::Span,
    units::{Bytes, Rate, round},
};
use std::{collections::BTreeMap, sync::Arc};

/// A volume keeps this much free, in thousandths.
const RESERVE: u64 = 150;

/// Machines as they will be once their disks are there, and the step that gets each there.
pub(super) struct Shifted {
    pub(super) machines: Vec<Machine>,
    pub(super) after: BTreeMap<MachineId, usize>,
}

/// Plans the copies one after the other, so that each gets the whole rate.
pub(super) fn shift(draft: &mut Draft<'_>, to: VolumeId, machines: &[Machine]) -> Shifted {
    let mut out = Shifted {
        machines: Vec::new(),
        after: BTreeMap::new(),
    };
    let stop = |text: &str| Finding::stop(Rule::Exists, to.to_string(), text).at("volume");
    let Some(volume) = draft.estate().volumes.get(&to).cloned() else {
        draft.found(stop("This volume is gone."));
        return out;
    };
    if !volume.ready {
        draft.found(stop("This volume is being connected; wait for its run."));
    }
    let mut free = volume.capacity.less(volume.used);
    let mut last = None;
    for machine in machines {
        let Some((from, via)) = ends(draft, machine, &volume) else {
            continue;
        };
        let breaks = Lies::on(draft.estate(), &volume).lacks(machine, draft.now);
        draft.found_all(breaks.map(|why| unpledged(machine, &volume, &why)));
        let copy = foretell(draft, machine, &from, &volume, &via);
        free = room(draft, machine, &volume, copy.bytes, free);
        let (id, name) = (machine.id, &machine.name);
        let step = Step::MoveDisks {
            machine: id,
            via: via.id,
            from: from.id,
            to: volume.id,
            bytes: copy.bytes,
            time: copy.time,
        };
        let title = format!(
            "Move the disks of {name} from {} to {}",
            from.name, volume.name
        );
        let waits: Vec<usize> = last.into_iter().collect();
        let step = draft.step(step, title, &waits, Some("volume"));
        last = Some(step);
        out.after.insert(id, step);
        let mut there = machine.clone();
        there.disks.iter_mut().for_each(|d| d.volume = volume.id);
        out.machines.push(there);
    }
    if !out.machines.is_empty() {
        let text = "Change tracking begins anew on the other volume: the next replication or backup copies everything.";
        draft.found(Finding::mind(Rule::Disk, &volume.name, text).at("volume"));
    }
    out
}

/// It would not have there what it is promised.
fn unpledged(machine: &Machine, to: &Volume, why: &str) -> Finding {
    let text = format!("Not all that {} is promised holds on {}: {why}.", machine.name, to.name);
    let mind = Finding::mind(Rule::Storage, &machine.name, text).at("volume");
    mind.remedy("Choose a volume where it holds.")
}

/// The volume that the disks are on, and the host that copies: both must be within its reach.
fn ends(draft: &mut Draft<'_>, machine: &Machine, to: &Volume) -> Option<(Arc<Volume>, Arc<Host>)> {
    let estate = draft.estate();
    let name = &machine.name;
    let from = machine.volumes().into_iter().next();
    let from = from
        .and_then(|id: VolumeId| estate.volumes.get(&id))
        .cloned();
    let found = match &from {
        None => Some(format!("{name} has no disks on a volume.")),
        Some(from) if from.id == to.id => {
            Some(format!("The disks of {name} are on {} already.", to.name))
        }
        Some(_) if machine.arriving.is_some() => Some(format!("{name} is being moved already.")),
        Some(_) if machine.deleted.is_some() => Some(format!("{name} was deleted.")),
        Some(from) if machine.parent.is_some() => Some(format!(
            "The disks of {name} lie on a version of a template on {}; make it whole first.",
            from.name
        )),
        Some(_) => None,
    };
    if let Some(text) = found {
        draft.found(
            Finding::stop(Rule::Disk, name, text)
                .at("volume")
                .remedy("Take it out of the selection."),
        );
        return None;
    }
    let from = from?;
    let reaches =
        |h: &Arc<Host>| h.accepts_work() && h.paths_up(from.id) > 0 && h.paths_up(to.id) > 0;
    let own = machine.host.and_then(|h| estate.hosts.get(&h)).cloned();
    let via = match own {
        // Only the host that runs it can copy what it writes meanwhile.
        Some(own) => Some(own).filter(reaches),
        None => machine
            .cluster
            .and_then(|c| estate.hosts_in(c).find(|h| reaches(h)).cloned()),
    };
    if via.is_none() {
        let who = machine
            .host
            .and_then(|h| estate.hosts.get(&h))
            .map_or("No host of its cluster", |h| h.name.as_str());
        let text = format!("{who} does not reach both {} and {}.", from.name, to.name);
        draft.found(
            Finding::stop(Rule::Paths, name, text)
                .at("volume")
                .remedy(format!("Connect {} to its host first.", to.name)),
        );
    }
    via.map(|via| (from, via))
}

struct Copy {
    bytes: Bytes,
    time: Span,
}

/// How long the copy takes, and whether it ends at all.
fn foretell(
    draft: &mut Draft<'_>,
    machine: &Machine,
    from: &Volume,
    to: &Volume,
    via: &Host,
) -> Copy {
    let name = &machine.name;
    let measured = draft
        .view
        .loads
        .machines
        .get(&machine.id)
        .and_then(|l| l.disk);
    if measured.is_none() {
        let text = format!(
            "Nobody measured how much the disks of {name} hold; computed as if they were full."
        );
        draft.found(Finding::unchecked(Rule::Disk, name, text));
    }
    let off = machine.is_off();
    let usage = measured.unwrap_or(DiskUse {
        used: machine.disk_total(),
        writes: Rate(0),
    });
    let writes = if off { Rate(0) } else { usage.writes };
    let rate = rate(via, from.id, to.id);
    let seconds = usage.used.as_f64() / (rate.0.saturating_sub(writes.0) as f64);
    let basis = format!(
        "{} used, copied at {rate}, {writes} written meanwhile",
        usage.used
    );
    if rate.0 == 0 {
        let text = format!(
            "The uplinks of {} to both volumes have no known speed.",
            via.name
        );
        draft.found(Finding::stop(Rule::Disk, name, text).at("volume"));
        return Copy {
            bytes: usage.used,
            time: Span(0),
        };
    }
    if writes.0 >= rate.0 {
        let text = format!(
            "{name} writes {writes}, and the copy is no faster than {rate}: it never gets there."
        );
        draft.found(
            Finding::stop(Rule::Disk, name, text)
                .because(basis)
                .at("volume")
                .remedy("Move its disks while it is off, or when it writes less."),
        );
        return Copy {
            bytes: usage.used,
            time: Span(0),
        };
    }
    let time = Span::millis(round(seconds * 1000.0));
    let still = if off {
        String::new()
    } else {
        format!("; it stands still for about {FIXED} at the end")
    };
    draft.found(
        Finding::clear(
            Rule::Disk,
            name,
            format!("The disks of {name} are there in about {time}{still}."),
        )
        .because(basis),
    );
    let text = format!(
        "How fast {} reads and {} writes is not told; computed from what the uplinks of {} carry.",
        from.name, to.name, via.name
    );
    draft.found(Finding::unchecked(Rule::Storage, &to.name, text));
    Copy {
        bytes: usage.used,
        time,
    }
}

/// Thick disks take their whole size, thin ones what they hold; answers what is left for the next.
fn room(draft: &mut Draft<'_>, machine: &Machine, to: &Volume, used: Bytes, free: Bytes) -> Bytes {
    let thick: Bytes = machine
        .disks
        .iter()
        .filter(|d| d.provisioning == Provisioning::Thick)
        .map(|d| d.size)
        .sum();
    let swap = if machine.is_off() {
        Bytes::ZERO
    } else {
        machine.swap()
    };
    let needs = thick.max(used) + swap;
    let name = &to.name;
    if needs > free {
        let text = format!(
            "{name} is short of {}: {free} are free, {} needs {needs}.",
            needs.less(free),
            machine.name
        );
        draft.found(
            Finding::stop(Rule::VolumeRoom, name, text)
                .because("thick disks in full, thin ones what they hold, and swap")
                .at("volume")
                .remedy("Choose another volume, or extend this one."),
        );
    } else if free.less(needs) < to.capacity.per_mille(RESERVE) {
        let text = format!(
            "{name} would have {} free, less than 15 %.",
            free.less(needs)
        );
        draft.found(Finding::mind(Rule::VolumeReserve, name, text).at("volume"));
    }
    free.less(needs)
}
