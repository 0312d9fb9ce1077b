//! Delete, bring back, remove for good: three different acts.

use super::{Draft, Step};
use crate::{
    estate::{Machine, MachineState},
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    units::Bytes,
};
use std::sync::Arc;

fn each(
    draft: &mut Draft<'_>,
    machines: &[MachineId],
    what: &str,
    check: impl Fn(&mut Draft<'_>, &Machine) -> bool,
    step: impl Fn(MachineId, HostId) -> Step,
) -> Vec<Arc<Machine>> {
    if machines.is_empty() {
        draft.found(Finding::stop(
            Rule::Nothing,
            "machines",
            "No machine is selected.",
        ));
    }
    let named = draft.machines(machines);
    draft.title = match named.as_slice() {
        [one] => format!("{what} {}", one.name),
        many => format!("{what} {} machines", many.len()),
    };
    for machine in &named {
        if check(draft, machine)
            && let Some(via) = draft.via(machine)
        {
            draft.step(
                step(machine.id, via),
                format!("{what} {}", machine.name),
                &[],
                Some("machines"),
            );
        }
    }
    named
}

pub(super) fn delete(draft: &mut Draft<'_>, machines: &[MachineId]) {
    let named = each(
        draft,
        machines,
        "Delete",
        |draft, m| {
            let name = &m.name;
            let stop = if m.deleted.is_some() {
                Some(Finding::stop(
                    Rule::Deleted,
                    name,
                    format!("{name} was deleted already."),
                ))
            } else if m.protected {
                Some(
                    Finding::stop(
                        Rule::Protected,
                        name,
                        format!("{name} is protected from deletion."),
                    )
                    .remedy("Edit it and take the protection away first."),
                )
            } else if m.is_node() {
                let shared = draft.estate().clustered(m).join(" and ");
                Some(
                    Finding::stop(Rule::Held, name, format!("{name} is a node of guest cluster {shared}."))
                        .remedy("Take the shared disk from it first."),
                )
            } else if m.state != MachineState::Off {
                Some(
                    Finding::stop(
                        Rule::State,
                        name,
                        format!("{name} is not off; only a stopped machine is deleted."),
                    )
                    .remedy("Stop it first."),
                )
            } else {
                None
            };
            let fine = stop.is_none();
            draft.found_all(stop.map(|f| f.at("machines")));
            fine
        },
        |machine, via| Step::Delete { machine, via },
    );
    let room: Bytes = named.iter().map(|m| m.disk_total()).sum();
    draft.found(Finding::mind(
        Rule::Deleted,
        "deletion",
        format!(
            "Recoverable for {} days; until then the disks (up to {room}) stay on the volume.",
            Machine::KEPT_DAYS
        ),
    ));
}

pub(super) fn purge(draft: &mut Draft<'_>, machines: &[MachineId], typed: &str) {
    let named = each(
        draft,
        machines,
        "Remove for good",
        |draft, m| {
            let fine = m.deleted.is_some();
            if !fine {
                let text = format!(
                    "{} must be deleted first; then it can be removed for good.",
                    m.name
                );
                draft.found(Finding::stop(Rule::State, &m.name, text).at("machines"));
            }
            fine
        },
        |machine, via| Step::Purge { machine, via },
    );
    let expected = match named.as_slice() {
        [one] => one.name.clone(),
        many => many.len().to_string(),
    };
    if typed.trim() != expected {
        let what = if named.len() == 1 {
            "the machine's name"
        } else {
            "the number of machines"
        };
        let text = format!("Type {what} to confirm: {expected}.");
        draft.found(Finding::stop(Rule::Name, "confirmation", text).at("typed"));
    }
    let room: Bytes = named.iter().map(|m| m.disk_total()).sum();
    draft.found(Finding::mind(
        Rule::Deleted,
        "removal",
        format!("The disks (up to {room}) and everything on them are gone. There is no way back."),
    ));
}
