//! What happens on the way from a missed heartbeat to the last machine that is back.

use crate::{
    estate::{Act, Estate, Failure, FailureStage, Lack, Pen, Sort},
    guard::Note,
    ids::{FailureId, HostId, MachineId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

const UNSURE: &str = "waits: all was dark, and another site may have taken it over; nobody said yet that it did not";
/// Failures that are over and kept.
const KEPT: usize = 200;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Began(Box<Failure>),
    /// What the guard noted.
    Noted {
        failure: FailureId,
        at: Moment,
        note: Note,
    },
    /// Of a guest that hangs; no host failed.
    Guest(Note),
    /// Its controller is about to be told to switch it off.
    Switching { failure: FailureId, at: Moment },
    /// Nothing is left to do.
    Over {
        failure: FailureId,
        at: Moment,
        why: String,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Began(failure) => {
                forget_old(pen);
                pen.add_failure(failure);
            }
            Event::Noted { failure, at, note } => {
                let text = words(pen.estate(), note);
                pen.failure(*failure, |f| noted(f, *at, note, text));
            }
            Event::Guest(_) => {}
            Event::Switching { failure, at } => pen.failure(*failure, |f| {
                f.switched = Some(*at);
                f.line(*at, Sort::Fencing, "its controller is told to switch it off".into());
            }),
            Event::Over { failure, at, why } => pen.failure(*failure, |f| {
                if !why.is_empty() {
                    f.line(*at, Sort::Restart, why.clone());
                }
                f.ended = Some(*at);
                f.stage = FailureStage::Over;
            }),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        if let Event::Guest(note) = self {
            let about = note.machine().map(|m| m.to_string());
            return Some(Entry::new("failure", words(estate, note), about.into_iter().collect()));
        }
        let (failure, text) = match self {
            Event::Began(_) | Event::Guest(_) => return None,
            Event::Noted { failure, note, .. } => (failure, words(estate, note)),
            Event::Switching { failure, .. } => (failure, "its controller is told to switch it off".into()),
            Event::Over { failure, why, .. } => (failure, why.clone()),
        };
        let found = estate.failures.get(failure)?;
        let machine = match self {
            Event::Noted { note, .. } => note.machine().map(|m| m.to_string()),
            Event::Began(_) | Event::Guest(_) | Event::Switching { .. } | Event::Over { .. } => None,
        };
        let about = [Some(found.host.to_string()), machine, Some(failure.to_string())];
        Some(Entry::new("failure", format!("{}: {text}", found.name), about.into_iter().flatten().collect()))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn forget_old(pen: &mut Pen<'_>) {
    let over = pen.estate().failures.values().filter(|f| !f.is_open());
    let over: Vec<FailureId> = over.map(|f| f.id).collect();
    let old = over.len().saturating_sub(KEPT - 1);
    over.into_iter().take(old).for_each(|id| pen.drop_failure(id));
}

/// A note as people read it, behind the name of the host that failed.
fn words(estate: &Estate, note: &Note) -> String {
    let host = |id: &HostId| Object::Host(*id).name(estate);
    let machine = |id: &MachineId| Object::Machine(*id).name(estate);
    match note {
        Note::CutOff { .. } => "is not heard, and its lease is renewed: it is cut off, and its machines go on".into(),
        Note::Lacks { lack: lack @ Lack::Volume { volume, .. }, evidence, .. } => {
            format!("{}: {evidence}. {}", Object::Volume(*volume).name(estate), then(*lack))
        }
        Note::Lacks { lack: lack @ Lack::Networks, evidence, .. } => format!("{evidence}. {}", then(*lack)),
        Note::Ended { machine: m, refused: None, .. } => format!("{} was ended there, to start elsewhere", machine(m)),
        Note::Ended { machine: m, refused: Some(why), .. } => {
            let why = why.trim_end_matches('.');
            format!("{} was not ended there, and starts nowhere else: {why}. Move the others away and switch the host off", machine(m))
        }
        Note::Judged { evidence, act, .. } => format!("{evidence}. {}", will(*act)),
        Note::Fenced { proof, .. } => format!("runs nothing any more: {}", proof.words()),
        Note::Said { words, .. } => words.clone(),
        Note::Waits { why, .. } => format!("waits for a person: {why}"),
        Note::Doubted { why, .. } => format!("nothing more is started of what ran on it: {why}"),
        Note::Back { .. } => "is heard again".into(),
        Note::Starts { machine: m, to, .. } => format!("{} starts on {}", machine(m), host(to)),
        Note::Up { machine: m, on, took, .. } => format!("{} is up on {}, {took} after its start", machine(m), host(on)),
        Note::NotStarted { machine: m, on, why, last, .. } => {
            let then = if *last { "; five hosts were tried" } else { "" };
            format!("{} does not start on {}: {}{then}", machine(m), host(on), why.trim_end_matches('.'))
        }
        Note::Hangs { machine: m, evidence, .. } => {
            format!("{} hangs: {evidence}. It is restarted, and its last picture kept", machine(m))
        }
        Note::Revived { machine: m, host: on, refused: None } => format!("{} was restarted on {}", machine(m), host(on)),
        Note::Revived { machine: m, refused: Some(why), .. } => {
            format!("{} hangs and was not restarted: {}", machine(m), why.trim_end_matches('.'))
        }
        Note::Unsure { machine: m, .. } => format!("{} {UNSURE}", machine(m)),
        Note::Left { machine: m, why, .. } => format!("{} stays off: {why}", machine(m)),
    }
}

fn will(act: Act) -> &'static str {
    match act {
        Act::Prove => "It is off; its machines start elsewhere",
        Act::SwitchOff => "It is switched off by its controller, and proved off, before anything starts",
        Act::Withdraw => "Its arrays take away all that it reaches, and say so, before anything starts",
        Act::Tell => "It is told through its lease to end what it runs, and says so there, before anything starts",
        Act::AwaitWatchdog => "Its watchdog resets it when its lease has run out; that is awaited",
        Act::AskPerson => "Nothing proves that it is off",
    }
}

fn then(lack: Lack) -> &'static str {
    match lack {
        Lack::Volume { .. } => "Those that another host can take are ended there and start elsewhere; the others wait",
        Lack::Networks => "They are moved away while they run",
    }
}

fn noted(failure: &mut Failure, at: Moment, note: &Note, text: String) {
    let sort = match note {
        Note::CutOff { .. } => {
            failure.stage = FailureStage::CutOff;
            Sort::Signal
        }
        Note::Lacks { .. } => {
            if failure.stage == FailureStage::CutOff {
                failure.stage = FailureStage::Ails;
            }
            Sort::Verdict
        }
        Note::Ended { machine, refused, .. } => {
            of(failure, *machine, |m| m.why = refused.clone().unwrap_or_default());
            Sort::Restart
        }
        Note::Judged { act, .. } => {
            failure.stage = FailureStage::Judged(*act);
            failure.ailed = false;
            Sort::Verdict
        }
        Note::Fenced { proof, .. } => {
            failure.stage = FailureStage::Fenced;
            failure.fenced = Some(at);
            failure.on_word = *proof == crate::guard::Proof::Controller;
            Sort::Fencing
        }
        // They belong to no failure of a host.
        Note::Hangs { .. } | Note::Revived { .. } => return,
        Note::Said { .. } => Sort::Fencing,
        Note::Waits { why, .. } | Note::Doubted { why, .. } => {
            failure.stage = FailureStage::Waits(why.clone());
            Sort::Fencing
        }
        Note::Back { .. } => {
            failure.stage = FailureStage::Over;
            failure.ended = Some(at);
            Sort::Signal
        }
        Note::Starts { machine, to, .. } => {
            of(failure, *machine, |m| {
                m.to = Some(*to);
                m.started.get_or_insert(at);
                m.why.clear();
            });
            Sort::Restart
        }
        Note::Up { machine, on, took, .. } => {
            of(failure, *machine, |m| {
                m.to = Some(*on);
                m.started.get_or_insert(at.before(*took));
                m.up = Some(at);
                m.why.clear();
            });
            Sort::Restart
        }
        Note::Unsure { machine, .. } => {
            of(failure, *machine, |m| m.why = UNSURE.into());
            Sort::Restart
        }
        Note::NotStarted { machine, why, .. } | Note::Left { machine, why, .. } => {
            of(failure, *machine, |m| m.why.clone_from(why));
            Sort::Restart
        }
    };
    // Each machine's own row says when it starts and is up.
    if !matches!(note, Note::Starts { .. } | Note::Up { .. }) {
        failure.line(at, sort, text);
    }
}

fn of(failure: &mut Failure, machine: MachineId, change: impl FnOnce(&mut crate::estate::Restarted)) {
    if let Some(found) = failure.machines.iter_mut().find(|m| m.machine == machine) {
        change(found);
    }
}
