//! The checks before a version is made: what is copied from where, how long it takes, and what is removed from the copy.

use super::{Draft, Event, Make, Step};
use crate::{
    copying::{Original, Source},
    estate::{Machine, MachineState, Sealed, Template, Version, Volume},
    finding::{Finding, Rule},
    ids::{HostId, TemplateId, draw_uuid},
    limits, placement,
    units::Bytes,
};
use std::sync::Arc;

pub(super) fn make(draft: &mut Draft<'_>, ask: &Make) {
    "Make a template".clone_into(&mut draft.title);
    let template = named(draft, ask);
    let Some(machine) = draft.machine(ask.machine).cloned() else { return };
    let source = Source::Machine {
        machine: machine.id,
        snapshot: ask.snapshot,
    };
    let number = template.as_ref().map_or(1, |t| t.next);
    let name = template.as_ref().map_or_else(|| ask.name.trim().to_owned(), |t| t.name.clone());
    draft.title = format!("Make {name} {number} from {}", machine.name);
    if machine.state == MachineState::Planned || machine.deleted.is_some() {
        let text = format!("{} is being made, or was deleted.", machine.name);
        return draft.found(Finding::stop(Rule::State, &machine.name, text).at("machines"));
    }
    let from = match source.resolve(draft.view, draft.now) {
        Ok(from) => from,
        Err(found) => return draft.found(found.at("snapshot")),
    };
    let Some(lies) = from.volume() else { return };
    let to = ask.volume.unwrap_or(lies);
    let Some(volume) = draft.volume(to).cloned() else { return };
    let Some(via) = between(draft, &machine, &from, &volume) else { return };
    let host = draft.estate().hosts.get(&via).cloned();
    let time = host.map(|h| from.time(&h, to));
    draft.found(placement::more(&volume, from.thick.max(from.bytes), "volume"));
    draft.found_all(from.said(&machine.name, time.flatten()));
    if from.running {
        let text = format!("{} runs on meanwhile; what the version holds is that of one moment, as after a power cut.", machine.name);
        draft.found(Finding::clear(Rule::Guest, &machine.name, text));
    }
    sealing(draft, &machine, ask);
    let version = Version {
        number,
        uuid: draw_uuid(draft.run().0, machine.id.0, draft.now.0.unsigned_abs()),
        volume: to,
        disks: from.disks_on(to, draft.run().0),
        takes: Bytes::ZERO,
        vcpus: machine.vcpus,
        memory: machine.memory.size,
        cards: machine.nics.iter().map(|n| n.network).collect(),
        sealed: Sealed::No,
        firmware: machine.firmware.clone(),
        first_boot: ask.first_boot,
        from: from.words.clone(),
        made: draft.now,
        note: (&ask.note).into(),
        ready: false,
    };
    let id = template.as_ref().map_or_else(|| TemplateId(draft.number()), |t| t.id);
    draft.intend(Event::Planned {
        template: Box::new(Template {
            id,
            name: name.clone(),
            note: String::new(),
            versions: vec![version],
            next: number + 1,
        }),
    });
    let step = Step::Make {
        template: id,
        version: number,
        machine: machine.id,
        snapshot: ask.snapshot,
        via,
        seal: ask.seal,
        time: time.flatten().unwrap_or(crate::moment::Span::mins(10)),
    };
    draft.step(step, format!("Copy {} to {name} {number}", machine.name), &[], Some("machines"));
}

/// The template that it becomes a version of; what is wrong with a new one's name is said.
fn named(draft: &mut Draft<'_>, ask: &Make) -> Option<Arc<Template>> {
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    if let Some(of) = ask.of {
        let found = draft.estate().templates.get(&of).cloned();
        if found.is_none() {
            draft.found(Finding::stop(Rule::Exists, "template", "The template is gone.").at("of"));
        }
        return found;
    }
    let name = ask.name.trim();
    let wrong = if name.is_empty() {
        Some("Give the template a name.".to_owned())
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        Some(words)
    } else {
        let there = draft.estate().template_named(name);
        there.map(|_| format!("There is a template {name} already; make the next version of it, or choose another name."))
    };
    draft.found_all(wrong.map(stop));
    None
}

/// A host that reaches both volumes: its own, where it is on.
fn between(draft: &mut Draft<'_>, machine: &Machine, from: &Original, to: &Volume) -> Option<HostId> {
    let via = draft.at_home(machine, "machines")?;
    let reaches = draft.estate().hosts.get(&via).is_some_and(|h| h.paths_up(to.id) > 0 && from.volume().is_some_and(|v| h.paths_up(v) > 0));
    if !reaches {
        let text = format!("{} can't be reached from where {} is.", to.name, machine.name);
        let stop = Finding::stop(Rule::Paths, &to.name, text).at("volume");
        draft.found(stop.remedy("Choose a volume of the same cluster."));
        return None;
    }
    Some(via)
}

fn sealing(draft: &mut Draft<'_>, machine: &Machine, ask: &Make) {
    let name = &machine.name;
    if ask.seal {
        let text = format!(
            "On the copy, host keys, machine id, leases, names and histories of {name} are removed; {name} itself is left alone. A guest that can't do that is said to be so."
        );
        return draft.found(Finding::clear(Rule::Content, name, text));
    }
    let text = format!("Every machine that is made from it has the keys, the machine id and the histories of {name}.");
    draft.found(Finding::mind(Rule::Content, name, text).at("seal"));
}
