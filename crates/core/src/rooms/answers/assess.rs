//! The checks before it is said what guests must answer, and before they are asked (rules, section 18).

use super::{Draft, Event, Step};
use crate::{
    estate::{MachineState, Question},
    finding::{Finding, Rule},
    ids::MachineId,
    limits,
    moment::Span,
};

/// A guest that is up may take so long until it has a good answer.
const PATIENCE: Span = Span::secs(30);

pub(super) fn must(draft: &mut Draft<'_>, named: &[MachineId], text: &str) {
    "Say what machines must answer".clone_into(&mut draft.title);
    let machines = draft.machines(named);
    if machines.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    draft.title = match machines.as_slice() {
        [one] => format!("Say what {} must answer", one.name),
        many => format!("Say what {} machines must answer", many.len()),
    };
    let Some(questions) = read(draft, text) else { return };
    for gone in machines.iter().filter(|m| m.deleted.is_some()) {
        let text = format!("{} was deleted; bring it back first.", gone.name);
        draft.found(Finding::stop(Rule::Deleted, &gone.name, text).at("machines"));
    }
    let changed: Vec<MachineId> = machines.iter().filter(|m| m.must != questions).map(|m| m.id).collect();
    if changed.is_empty() {
        let text = "Nothing is changed: that is what they must answer already.";
        return draft.found(Finding::stop(Rule::Nothing, "questions", text).at("questions"));
    }
    let runs = questions.iter().any(|q| matches!(q, Question::Run { .. }));
    draft.found(match questions.len() {
        0 => Finding::mind(Rule::Guest, "questions", "Nothing is asked any more: whoever's agent answers counts as well."),
        n => {
            let text = format!("{n} questions, asked inside the guest by its agent: it needs no network for them.");
            Finding::clear(Rule::Guest, "questions", text)
        }
    });
    if runs {
        let text = "Commands run in the guest with the rights of its agent, every time that it is asked.";
        draft.found(Finding::mind(Rule::Guest, "questions", text).at("questions"));
    }
    let proven = machines.iter().filter(|m| draft.estate().backups_of(m).any(|s| s.proven().is_some())).count();
    if proven > 0 {
        let text = "Points that are proven stay so: they answered what was asked then.";
        draft.found(Finding::clear(Rule::Content, "proofs", text));
    }
    draft.intend(Event::Must { machines: changed, must: questions });
}

/// One question on each line, each once.
fn read(draft: &mut Draft<'_>, text: &str) -> Option<Vec<Question>> {
    let mut all: Vec<Question> = Vec::new();
    let lines = text.lines().map(str::trim).zip(1..).filter(|(line, _)| !line.is_empty());
    for (line, n) in lines {
        match line.parse::<Question>() {
            Ok(question) if all.contains(&question) => {}
            Ok(question) => all.push(question),
            Err(words) => {
                draft.found(Finding::stop(Rule::State, "questions", format!("Line {n}: {words}")).at("questions"));
                return None;
            }
        }
    }
    if let Err(words) = limits::QUESTIONS.check(all.len()) {
        draft.found(Finding::stop(Rule::Count, "questions", words).at("questions"));
        return None;
    }
    Some(all)
}

pub(super) fn now(draft: &mut Draft<'_>, named: &[MachineId]) {
    "Ask machines whether they are well".clone_into(&mut draft.title);
    let machines = draft.machines(named);
    if machines.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "machines", "No machine is selected.").at("machines"));
    }
    draft.title = match machines.as_slice() {
        [one] => format!("Ask {} whether it is well", one.name),
        many => format!("Ask {} machines whether they are well", many.len()),
    };
    for m in machines {
        let name = &m.name;
        let stop = |text: String| Finding::stop(Rule::State, name, text).at("machines");
        let host = m.host.filter(|_| !m.is_off() && m.deleted.is_none());
        let (None, Some(host)) = (wrong(&m.state), host) else {
            let text = wrong(&m.state).unwrap_or("is not on");
            draft.found(stop(format!("{name} {text}.")));
            continue;
        };
        if m.must.is_empty() {
            draft.found(stop(format!("Nobody said what {name} must answer.")).remedy("Say it first."));
            continue;
        }
        let step = Step::Try {
            machine: m.id,
            host,
            point: None,
            limit: PATIENCE,
            must: m.must.clone(),
            with: vec![],
        };
        draft.step(step, format!("Ask {name}"), &[], Some("machines"));
    }
    let text = "They are asked inside, by their agents; nothing is changed.";
    draft.found(Finding::clear(Rule::Guest, "machines", text));
}

fn wrong(state: &MachineState) -> Option<&'static str> {
    match state {
        MachineState::Running { guest: true } => None,
        MachineState::Running { guest: false } => Some("is on, but its agent is silent"),
        MachineState::Starting(_) => Some("is still starting"),
        MachineState::Stopping => Some("is stopping"),
        MachineState::Paused(_) => Some("is halted by its host"),
        MachineState::Planned | MachineState::Off => Some("is not on"),
    }
}
