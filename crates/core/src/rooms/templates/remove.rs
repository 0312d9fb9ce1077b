//! The checks before versions are removed: nothing may lie on them.

use super::{Draft, Remove, Step};
use crate::{
    estate::Parent,
    finding::{Finding, Rule},
    units::Bytes,
};

/// More are counted.
const SHOWN: usize = 8;

pub(super) fn remove(draft: &mut Draft<'_>, ask: &Remove) {
    "Remove versions of a template".clone_into(&mut draft.title);
    let Some(template) = draft.estate().templates.get(&ask.template).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "template", "The template is gone.").at("versions"));
    };
    let name = &template.name;
    let chosen: Vec<_> = template.versions.iter().filter(|v| ask.versions.contains(&v.number)).collect();
    let words = |n: usize| if n == 1 { "a version".to_owned() } else { format!("{n} versions") };
    draft.title = format!("Remove {} of {name}", words(chosen.len()));
    if chosen.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, name, "No version is chosen.").at("versions"));
    }
    let mut goes = Vec::new();
    for version in &chosen {
        let parent = Parent {
            template: template.id,
            version: version.number,
        };
        let lie: Vec<String> = draft.estate().dependents(parent).map(|m| m.name.clone()).collect();
        if let Some(first) = lie.first() {
            let shown = lie.iter().take(SHOWN).cloned().collect::<Vec<_>>().join(", ");
            let text = match lie.len() {
                1 => format!("The disks of {first} lie on {name} {}.", version.number),
                n => format!("The disks of {n} machines lie on {name} {}.", version.number),
            };
            let stop = Finding::stop(Rule::Held, name, text).because(shown).at("versions");
            draft.found(stop.remedy("Make them whole first, or remove them for good; deleted ones count too."));
            continue;
        }
        let Some(via) = draft.estate().reach(version.volume).map(|h| h.id) else {
            let text = format!("No host that mounts the volume of {name} {} answers.", version.number);
            draft.found(Finding::stop(Rule::HostOpen, name, text).at("versions"));
            continue;
        };
        let step = Step::Remove {
            template: template.id,
            version: version.number,
            via,
        };
        draft.step(step, format!("Remove {name} {}", version.number), &[], Some("versions"));
        goes.push(version.takes);
    }
    if ask.typed.trim() != *name {
        let text = format!("Type the template's name to confirm: {name}.");
        draft.found(Finding::stop(Rule::Name, "confirmation", text).at("typed"));
    }
    if goes.is_empty() {
        return;
    }
    let room: Bytes = goes.iter().copied().sum();
    let last = if goes.len() == template.versions.len() { format!(" {name} has no version left and is gone too.") } else { String::new() };
    let text = format!("{room} are free again. There is no way back.{last}");
    draft.found(Finding::mind(Rule::Deleted, name, text));
    let pools = draft.estate().spare_pools.values().filter(|p| p.template == template.id);
    let pools: Vec<&str> = pools.map(|p| p.name.as_str()).collect();
    if !pools.is_empty() {
        let text = format!("Pools are made from {name}: {}. From what is left of it they make their spares, and none where nothing is.", pools.join(", "));
        draft.found(Finding::mind(Rule::Held, name, text).at("versions"));
    }
}
