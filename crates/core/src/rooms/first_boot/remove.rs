//! The checks before a document goes, with all its versions.

use super::{Draft, Event};
use crate::{
    estate::MachineState,
    finding::{Finding, Rule},
    ids::FirstBootId,
};

pub(super) fn remove(draft: &mut Draft<'_>, id: FirstBootId) {
    "Remove a first-boot document".clone_into(&mut draft.title);
    let Some(document) = draft.estate().first_boots.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "document", "The document is gone.").at("document"));
    };
    let name = &document.name;
    draft.title = format!("Remove {name}");
    let told = draft.estate().machines.values().filter(|m| m.first_boot.as_ref().is_some_and(|b| b.document == id));
    let (planned, told): (Vec<_>, Vec<_>) = told.partition(|m| m.state == MachineState::Planned);
    let told = told.len();
    if let Some(first) = planned.first() {
        let text = format!("{} is just being made with it.", first.name);
        return draft.found(Finding::stop(Rule::Held, name, text).at("document"));
    }
    let templates = draft.estate().templates.values();
    let named: Vec<String> = templates
        .flat_map(|t| t.versions.iter().filter(|v| v.first_boot == Some(id)).map(|v| format!("{} {}", t.name, v.number)))
        .collect();
    if !named.is_empty() {
        let text = format!("Machines made from {} will be told their name and addresses only, unless another document is chosen.", named.join(", "));
        draft.found(Finding::mind(Rule::Content, name, text));
    }
    let versions = document.versions.len();
    let versions = if versions == 1 { "Its version is".to_owned() } else { format!("Its {versions} versions are") };
    let text = format!("{versions} gone, and there is no way back. {told} machines were told what it says; they keep it.");
    draft.found(Finding::mind(Rule::Deleted, name, text));
    draft.intend(Event::Removed {
        document: id,
        name: name.clone(),
    });
}
