//! Copies that a proof left, because its run was given up, are removed for good.

use super::{Draft, Event, Step};
use crate::{
    finding::{Finding, Rule},
    ids::{HostId, MachineId},
    rooms::machines::{self, PowerAct},
    runs::Object,
};

pub(super) fn clear(draft: &mut Draft<'_>, named: &[MachineId]) {
    let machines = draft.machines(named);
    draft.title = match machines.as_slice() {
        [one] => format!("Remove what a proof left: {}", one.name),
        many => format!("Remove what proofs left: {} machines", many.len()),
    };
    if machines.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    for m in machines {
        let (id, name) = (m.id, &m.name);
        let stop = |text: String| Finding::stop(Rule::State, name, text).at("machines");
        if m.proves.is_none() {
            draft.found(stop(format!("{name} is no copy that proves anything; only such are removed here.")));
            continue;
        }
        if !draft.view.runs.about(Object::Machine(id)).is_empty() {
            draft.found(stop(format!("A run still has to do with {name}.")));
            continue;
        }
        if !draft.knows(&m) {
            continue;
        }
        let mut after = vec![];
        if !m.is_off() {
            let mut part = draft.beside::<machines::Step>(draft.view);
            machines::power(&mut part, &[id], PowerAct::Off);
            after = draft.take_in(part, &[], |f| f, (Step::Machine, Event::Machine)).collect();
        }
        if let Some(via) = draft.via(&m) {
            removed(draft, id, via, &after);
        }
    }
    let text = "They are copies of what lies in a store; nothing is lost with them.";
    draft.found(Finding::clear(Rule::Deleted, "machines", text));
}

/// Deleted and removed for good, in the words of one copy.
pub(super) fn removed(draft: &mut Draft<'_>, machine: MachineId, via: HostId, after: &[usize]) {
    let delete = Step::Machine(machines::Step::Delete { machine, via });
    let deleted = draft.step(delete, "Delete the copy".into(), after, None);
    let purge = Step::Machine(machines::Step::Purge { machine, via });
    draft.step(purge, "Remove the copy for good".into(), &[deleted], None);
}
