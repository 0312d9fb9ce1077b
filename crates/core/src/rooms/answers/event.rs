//! What was said that guests must answer, and what they answered.

use crate::{
    estate::{Estate, Pen, PointAt, Proof, Question},
    ids::MachineId,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Must {
        machines: Vec<MachineId>,
        must: Vec<Question>,
    },
    /// A guest was asked; `point`: it is a copy of that one.
    Tried {
        machine: MachineId,
        point: Option<PointAt>,
        proof: Box<Proof>,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Must { machines, must } => machines.iter().for_each(|id| pen.machine(*id, |m| m.must.clone_from(must))),
            Event::Tried { point: Some(at), proof, .. } => {
                let series = pen.estate().backups_with(at.machine).find(|s| s.store == at.store).map(|s| s.id);
                let Some(id) = series else { return };
                pen.series(id, |s| {
                    if let Some(point) = s.points.iter_mut().find(|p| p.session == at.session) {
                        point.proof = Some(proof.clone());
                    }
                });
            }
            Event::Tried { point: None, .. } => {}
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        match self {
            Event::Must { machines, must } => {
                let who = match machines.as_slice() {
                    [one] => Object::Machine(*one).name(estate),
                    many => format!("{} machines", many.len()),
                };
                let text = match must.len() {
                    0 => format!("Nothing is asked of {who} any more"),
                    1 => format!("{who} must answer: {}", must[0]),
                    n => format!("{who} must answer {n} questions"),
                };
                Some(Entry::new("machine", text, machines.iter().map(ToString::to_string).collect()))
            }
            Event::Tried { machine, point, proof } => {
                let (text, about) = match point {
                    Some(at) => {
                        let what = at.words(estate);
                        let text = match proof.is_good() {
                            true => format!("{what} is proven: {}", proof.words()),
                            false => format!("{what} is not proven: {}", proof.words()),
                        };
                        let original = estate.machine_with_uuid(&at.machine).map(|m| m.id.to_string());
                        (text, original.into_iter().chain([at.store.to_string()]).collect())
                    }
                    None => {
                        let fine = proof.replies.iter().filter(|r| r.fine).count();
                        let text = format!(
                            "{} was asked: {fine} of {} answers are good",
                            Object::Machine(*machine).name(estate),
                            proof.replies.len()
                        );
                        (text, vec![machine.to_string()])
                    }
                };
                Some(Entry::new("machine", text, about))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
