//! The checks before a machine is held for a record.

use super::{Draft, Records, Step};
use crate::{
    estate::{Machine, Stray, Volume, Why},
    finding::{Finding, Rule},
    ids::HostId,
};
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;

/// A record, what it says, and why it is no machine's.
type One<'a> = (Uuid, &'a Stray, Why);

/// Those of the volume that are still as they were seen, and the host that reads them.
pub(super) fn chosen<'a>(draft: &mut Draft<'a>, ask: &Records) -> Option<(&'a Arc<Volume>, HostId, Vec<One<'a>>)> {
    let estate = &draft.view.estate;
    let volume = draft.volume(ask.volume)?;
    let name = &volume.name;
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("records");
    let mut all = Vec::new();
    for uuid in draft.chosen(&ask.records) {
        match volume.stray(estate, uuid) {
            Some((stray, why)) => all.push((uuid, stray, why)),
            None => {
                let text = format!("There is no such record to settle on {name} any more.");
                draft.found(stop(Rule::Exists, text).remedy("Look at the volume again."));
            }
        }
    }
    if all.is_empty() {
        draft.found(stop(Rule::Nothing, "No record is chosen.".into()));
        return None;
    }
    let Some(via) = draft.estate().reach(volume.id).map(|h| h.id) else {
        draft.found(stop(Rule::HostOpen, format!("No host that mounts {name} answers.")));
        return None;
    };
    Some((volume, via, all))
}

/// Whoever runs it has it; nobody else may touch it.
pub(super) fn runs(draft: &mut Draft<'_>, stray: &Stray) -> bool {
    let Some(host) = &stray.runs_on else { return false };
    let text = format!("{} runs at {host}, by this record.", stray.name);
    let stop = Finding::stop(Rule::State, &stray.name, text).at("records");
    draft.found(stop.remedy("It is shut down there first; a host of this installation tells of what it runs by itself."));
    true
}

pub(super) fn register(draft: &mut Draft<'_>, ask: &Records) {
    "Register records".clone_into(&mut draft.title);
    let Some((volume, via, all)) = chosen(draft, ask) else { return };
    draft.title = match all.as_slice() {
        [(_, one, Why::Unknown)] => format!("Register {}", one.name),
        [(_, one, Why::Twice(_))] => format!("Take {} from {}", one.name, volume.name),
        many => format!("Register {} records", many.len()),
    };
    let mut names = BTreeSet::new();
    for (uuid, stray, why) in all {
        if runs(draft, stray) {
            continue;
        }
        let (machine, text) = match why {
            Why::Unknown => {
                named(draft, stray, &mut names);
                (None, format!("Register {}", stray.name))
            }
            Why::Twice(known) => {
                if !another(draft, volume, stray, &known) {
                    continue;
                }
                (Some(known.id), format!("{} has its disks on {}", known.name, volume.name))
            }
        };
        if machine.is_none() {
            said(draft, volume, stray);
        }
        let step = Step::Register {
            volume: volume.id,
            via,
            record: uuid,
            machine,
        };
        draft.step(step, text, &[], Some("records"));
    }
}

/// A name that somebody has already is kept on the record, and told apart here.
fn named(draft: &mut Draft<'_>, stray: &Stray, names: &mut BTreeSet<String>) {
    let taken = draft.estate().machine_named(&stray.name).is_some() || !names.insert(stray.name.clone());
    if taken {
        let text = format!("There is a {} already: this one has a number after its name here.", stray.name);
        let mind = Finding::mind(Rule::Name, &stray.name, text).at("records");
        draft.found(mind.remedy("Rename it afterwards; that writes the record too."));
    }
    let held = stray.macs.iter().filter_map(|mac| Some((mac, draft.estate().machine_with_mac(mac)?)));
    let both: Vec<String> = held.map(|(mac, m)| format!("{mac} of {}", m.name)).collect();
    if !both.is_empty() {
        let text = format!("{} has the same MAC address as another machine: {}. They must not be on in one network.", stray.name, both.join(", "));
        draft.found(Finding::mind(Rule::Address, &stray.name, text).at("records"));
    }
}

fn said(draft: &mut Draft<'_>, volume: &Volume, stray: &Stray) {
    let name = &stray.name;
    let finding = match stray.deleted {
        true => {
            let days = Machine::KEPT_DAYS;
            let text = format!("{name} was deleted: it stands among the deleted machines, recoverable for {days} days from now.");
            Finding::mind(Rule::Deleted, name, text)
        }
        false => Finding::clear(Rule::State, name, format!("{name} is registered as it is on {}, off.", volume.name)),
    };
    draft.found(finding);
}

/// What two records of one machine say otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Differs {
    pub what: &'static str,
    /// The one that the machine has now.
    pub held: String,
    pub other: String,
}

impl Differs {
    /// All that can be compared, each with whether it is the same.
    pub fn between(held: &Machine, other: &Stray) -> Vec<(Differs, bool)> {
        let ours = Stray::of(held, other.since);
        let row = |what, say: &dyn Fn(&Stray) -> String| {
            let (held, other) = (say(&ours), say(other));
            let same = held == other;
            (Differs { what, held, other }, same)
        };
        vec![
            row("Name", &|s| s.name.clone()),
            row("Taken by hosts", &|s| format!("{} times", s.generation)),
            row("vCPUs", &|s| s.vcpus.to_string()),
            row("Memory", &|s| s.memory.to_string()),
            row("Disks", &|s| s.disks.iter().map(|d| d.size.to_string()).collect::<Vec<_>>().join(", ")),
            row("Cards", &|s| s.macs.join(", ")),
            row("Snapshots", &|s| s.snapshots.to_string()),
            row("Deleted", &|s| if s.deleted { "yes" } else { "no" }.to_owned()),
        ]
    }
}

/// The machine is held already: its disks are those of this record from now on.
fn another(draft: &mut Draft<'_>, volume: &Volume, stray: &Stray, known: &Machine) -> bool {
    let name = &known.name;
    let home = known.volumes().into_iter().find_map(|v| draft.estate().volumes.get(&v));
    let home = home.map_or("another volume", |v| v.name.as_str()).to_owned();
    let stop = |rule, text: String| Finding::stop(rule, name, text).at("records");
    let refused = if !known.is_off() {
        Some(stop(Rule::State, format!("{name} runs, with its disks on {home}.")).remedy(format!("Shut it down first, or forget the record on {}.", volume.name)))
    } else if known.deleted.is_some() {
        Some(stop(Rule::Deleted, format!("{name} was deleted.")).remedy("Remove it for good first; then this record is one that nobody knows."))
    } else if !known.shares.is_empty() {
        Some(stop(Rule::Disk, format!("{name} has shared disks, which its other record knows nothing of.")))
    } else {
        None
    };
    if let Some(stop) = refused {
        draft.found(stop);
        return false;
    }
    let text = format!("{name} has what lies on {} from now on. Its record on {home} stays there, and stands among those to settle.", volume.name);
    draft.found(Finding::mind(Rule::Disk, name, text).at("records"));
    if stray.generation < known.generation {
        let text = format!("The record on {} was taken by hosts {} times, that on {home} {} times: it is probably the older one.", volume.name, stray.generation, known.generation);
        draft.found(Finding::mind(Rule::Content, name, text).at("records"));
    }
    true
}
