//! The checks before somebody's answer is taken.

use super::{Draft, Event};
use crate::{
    finding::{Finding, Rule},
    ids::PassageId,
    text::Line,
};

pub(super) fn answer(draft: &mut Draft<'_>, id: PassageId, mark: u64, (good, note): (bool, &Line)) {
    "Answer what a plan waits for".clone_into(&mut draft.title);
    let stop = |text: &str| Finding::stop(Rule::State, "answer", text).at("answer");
    let Some(passage) = draft.estate().passages.get(&id).cloned() else {
        return draft.found(stop("Nothing is known of it any more."));
    };
    let name = &passage.name;
    let all = passage.stages.iter().flat_map(|s| s.then.iter().map(move |b| (s, b)));
    let Some((stage, between)) = { all }.find(|(_, b)| b.mark == mark && b.asks) else {
        return draft.found(stop("Nobody asks that."));
    };
    draft.title = match good {
        true => format!("Confirm for {name}: {}", between.words),
        false => format!("Deny for {name}: {}", between.words),
    };
    if !passage.is_open() {
        return draft.found(stop("It is over; nobody waits for an answer any more."));
    }
    if let Some(said) = between.good {
        let said = if said { "It was confirmed already." } else { "It was denied already." };
        return draft.found(stop(said));
    }
    if between.holds && !good {
        let text = "It waits until they are well, or until somebody says that it may go on as it is.";
        return draft.found(stop(text).remedy("To end all of it, stop its run."));
    }
    if !between.waits() {
        return draft.found(stop(&format!("Stage {} has not come that far.", stage.name)));
    }
    draft.found(match good {
        true => Finding::clear(Rule::State, name, "It goes on as soon as this is said."),
        false => Finding::mind(Rule::State, name, "It goes on all the same, and its report says that this was not so.").at("answer"),
    });
    draft.intend(Event::Answered {
        passage: id,
        mark,
        good,
        note: note.trim().to_owned(),
        by: draft.run(),
    });
}
