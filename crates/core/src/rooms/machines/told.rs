//! What the guests of new machines are told at their first boot.

use super::{CreateMachines, Draft};
use crate::{
    estate::{Booted, Machine},
    finding::{Finding, Rule},
    first_boot::told,
};
use std::collections::BTreeSet;

/// Notes the document's newest version at each machine; what one of them can't be told is said.
pub(super) fn document(draft: &mut Draft<'_>, ask: &CreateMachines, machines: &mut [Machine]) {
    let Some(id) = ask.document else { return };
    let stop = |rule, text: String| Finding::stop(rule, "first boot", text).at("document");
    let Some(document) = draft.estate().first_boots.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "The first-boot document is gone.".into()));
    };
    let Some(edition) = document.newest() else { return };
    let all: Vec<_> = machines.iter().map(|m| told(edition, m, draft.estate())).collect();
    let wrong: BTreeSet<_> = all.iter().filter_map(|t| t.as_ref().err()).collect();
    if let Some(first) = wrong.first() {
        let more = if wrong.len() > 1 { format!(" So it is with {} more.", wrong.len() - 1) } else { String::new() };
        draft.found(stop(Rule::Content, format!("{first}{more}")).because(format!("{} {}", document.name, edition.number)));
        return;
    }
    if let Some(Ok(first)) = all.first() {
        let words = first.words();
        let also = if words.is_empty() { String::new() } else { format!(": {}", words.join("; ")) };
        let text = format!("Each guest is told {} {}{also}. It says what came of it when it is up.", document.name, edition.number);
        draft.found(Finding::clear(Rule::Content, &document.name, text));
    }
    for machine in machines {
        machine.first_boot = Some(Box::new(Booted {
            document: id,
            name: document.name.clone(),
            version: edition.number,
            applied: None,
        }));
    }
}
