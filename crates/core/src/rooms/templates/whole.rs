//! The checks before machines whose disks lie on a version get disks of their own.

use super::{Draft, Step};
use crate::{
    copying::{Source, rate},
    finding::{Finding, Rule},
    ids::MachineId,
    moment::Span,
    placement,
    units::{Bytes, round},
};

pub(super) fn whole(draft: &mut Draft<'_>, machines: &[MachineId]) {
    "Make machines whole".clone_into(&mut draft.title);
    let all = draft.machines(machines);
    let depend: Vec<_> = all.iter().filter_map(|m| Some((m.clone(), m.parent?))).collect();
    draft.title = match depend.as_slice() {
        [] => {
            let text = "None of them depends on a template.";
            return draft.found(Finding::stop(Rule::Nothing, "machines", text).at("machines"));
        }
        [(one, _)] => format!("Make {} whole", one.name),
        many => format!("Make {} machines whole", many.len()),
    };
    let mut needs = Bytes::ZERO;
    let mut volume = None;
    for (machine, parent) in depend {
        let name = &machine.name;
        if !draft.knows(&machine) {
            continue;
        }
        if machine.arriving.is_some() || machine.deleted.is_some() {
            let text = format!("{name} is being moved, or was deleted.");
            draft.found(Finding::stop(Rule::State, name, text).at("machines"));
            continue;
        }
        let source = Source::Template {
            template: parent.template,
            version: parent.version,
        };
        let from = match source.resolve(draft.view, draft.now) {
            Ok(from) => from,
            Err(found) => {
                draft.found(found.at("machines"));
                continue;
            }
        };
        let Some(lies) = from.volume() else { continue };
        let Some(via) = draft.at_home(&machine, "machines") else { continue };
        let copy = draft.estate().hosts.get(&via).map(|h| rate(h, lies, lies));
        let time = copy.filter(|r| r.0 > 0).map(|r| Span::millis(round(from.bytes.as_f64() / (r.0 as f64) * 1000.0)));
        needs += from.bytes;
        volume = draft.estate().volumes.get(&lies).cloned();
        let about = time.map_or_else(|| "a time that is not known".to_owned(), |t| format!("about {t}"));
        let text = format!("{name} gets up to {} of its own in {about}, and runs on meanwhile; afterwards it needs {} no more.", from.bytes, from.words);
        draft.found(Finding::clear(Rule::Disk, name, text));
        let step = Step::Whole {
            machine: machine.id,
            via,
            time: time.unwrap_or(Span::mins(10)),
        };
        draft.step(step, format!("Copy what {name} has of {} into its own disks", from.words), &[], Some("machines"));
    }
    if let Some(volume) = volume {
        draft.found(placement::more(&volume, needs, "machines"));
    }
}
