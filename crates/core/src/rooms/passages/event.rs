//! What happens while a plan is carried out.

use crate::{
    estate::{Between, Equal, Estate, Passage, Passed, Pen},
    ids::{MachineId, PassageId, RunId},
    moment::{Moment, Span},
    road::{Entry, Tale},
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Began(Box<Passage>),
    Opened { passage: PassageId, stage: usize, at: Moment },
    /// Somebody is waited for.
    Asked { passage: PassageId, mark: u64, at: Moment },
    Answered { passage: PassageId, mark: u64, good: bool, note: String, by: RunId },
    /// What lay between two stages came to an end.
    Went { passage: PassageId, mark: u64, at: Moment, good: bool, said: String },
    Closed { passage: PassageId, stage: usize, at: Moment, reached: Vec<Reached> },
    Ended { passage: PassageId, at: Moment },
    /// Its run was given up.
    Left { passage: PassageId },
}

/// How far a machine came.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Reached {
    pub machine: MachineId,
    pub host: String,
    pub booted: Option<Span>,
    pub good: bool,
    pub said: String,
    /// The instant that it goes on from, and whether both sides held the same; none: as it was foretold.
    pub from: Option<(Moment, Option<Equal>)>,
}

impl Event {
    fn passage(&self) -> PassageId {
        match self {
            Event::Began(p) => p.id,
            Event::Opened { passage, .. }
            | Event::Asked { passage, .. }
            | Event::Answered { passage, .. }
            | Event::Went { passage, .. }
            | Event::Closed { passage, .. }
            | Event::Ended { passage, .. }
            | Event::Left { passage } => *passage,
        }
    }
}

fn stage(pen: &mut Pen<'_>, id: PassageId, stage: usize, edit: impl FnOnce(&mut Passed)) {
    pen.passage(id, |p| {
        if let Some(stage) = p.stages.get_mut(stage) {
            edit(stage);
        }
    });
}

fn between(pen: &mut Pen<'_>, id: PassageId, mark: u64, edit: impl FnOnce(&mut Between)) {
    pen.passage(id, |p| {
        let mut all = p.stages.iter_mut().flat_map(|s| &mut s.then);
        if let Some(between) = all.find(|b| b.mark == mark) {
            edit(between);
        }
    });
}

fn closed(passed: &mut Passed, at: Moment, reached: &[Reached]) {
    passed.ended = Some(at);
    for r in reached {
        if let Some(m) = passed.machines.iter_mut().find(|m| m.machine == r.machine) {
            m.host.clone_from(&r.host);
            m.booted = r.booted;
            m.good = Some(r.good);
            m.said.clone_from(&r.said);
            if let Some((taken, equal)) = r.from {
                m.taken = taken;
                m.equal = equal;
            }
        }
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Began(passage) => pen.add_passage(passage),
            Event::Opened { passage, stage: n, at } => stage(pen, *passage, *n, |s| s.began = Some(*at)),
            Event::Asked { passage, mark, at } => between(pen, *passage, *mark, |b| b.began = Some(*at)),
            Event::Answered { passage, mark, good, note, by } => between(pen, *passage, *mark, |b| {
                b.good = Some(*good);
                b.said.clone_from(note);
                b.answer = Some(*by);
            }),
            Event::Went { passage, mark, at, good, said } => between(pen, *passage, *mark, |b| {
                b.ended = Some(*at);
                b.good = Some(*good);
                if !said.is_empty() {
                    b.said.clone_from(said);
                }
            }),
            Event::Closed { passage, stage: n, at, reached } => stage(pen, *passage, *n, |s| closed(s, *at, reached)),
            Event::Ended { passage, at } => pen.passage(*passage, |p| p.ended = Some(*at)),
            Event::Left { passage } => pen.passage(*passage, |p| p.left = true),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let passage = estate.passages.get(&self.passage());
        let (what, plan) = match (self, passage) {
            (Event::Began(p), _) => (format!("the {} of {}", p.kind.word(), p.name), p.plan),
            (_, Some(p)) => (format!("the {} of {}", p.kind.word(), p.name), p.plan),
            (_, None) => return None,
        };
        let named = |n: usize| passage.and_then(|p| p.stages.get(n)).map_or("", |s| s.name.as_str());
        let words = |mark: u64| {
            let mut all = passage.into_iter().flat_map(|p| &p.stages).flat_map(|s| &s.then);
            all.find(|b| b.mark == mark).map_or("", |b| b.words.as_str())
        };
        let text = match self {
            Event::Began(_) => format!("Began: {what}"),
            Event::Opened { .. } => return None,
            Event::Asked { mark, .. } => format!("Somebody is asked in {what}: {}", words(*mark)),
            Event::Answered { mark, good, note, .. } => {
                let said = if *good { "Confirmed" } else { "Denied" };
                let note = if note.is_empty() { String::new() } else { format!(" ({note})") };
                format!("{said} in {what}: {}{note}", words(*mark))
            }
            Event::Went { mark, good: false, said, .. } => format!("Not well in {what}: {}: {said}", words(*mark)),
            Event::Went { .. } => return None,
            Event::Closed { stage, reached, .. } if reached.is_empty() => format!("Stage {} of {what} is over", named(*stage)),
            Event::Closed { stage, reached, .. } => {
                let good = reached.iter().filter(|r| r.good).count();
                format!("Stage {} of {what} is over: {good} of {} machines came up well", named(*stage), reached.len())
            }
            Event::Ended { .. } => format!("Over: {what}"),
            Event::Left { .. } => format!("Given up: {what}"),
        };
        Some(Entry::new("machine", text, vec![plan.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
