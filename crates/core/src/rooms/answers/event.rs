//! What was said that guests must answer, and what they answered.

use crate::{
    estate::{AnyPoint, Estate, Pen, Proof, Question, StoredPoint},
    ids::MachineId,
    road::{Entry, Tale},
    runs::Object,
};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Must {
        machines: Vec<MachineId>,
        must: Vec<Question>,
    },
    /// A guest was asked; `point`: it is a copy of that one.
    Tried {
        machine: MachineId,
        point: Option<AnyPoint>,
        proof: Box<Proof>,
    },
}

/// With the point, wherever that lies.
fn keep(pen: &mut Pen<'_>, at: AnyPoint, proof: &Proof) {
    let set = |points: &mut [StoredPoint], session: Uuid| {
        if let Some(point) = points.iter_mut().find(|p| p.session == session) {
            point.proof = Some(Box::new(proof.clone()));
        }
    };
    match at {
        AnyPoint::Stored(at) => {
            let series = pen.estate().backups_with(at.machine).find(|s| s.store == at.store).map(|s| s.id);
            if let Some(id) = series {
                pen.series(id, |s| set(&mut s.points, at.session));
            }
        }
        AnyPoint::Replicated { replica, session } => pen.machine(replica, |m| {
            if let Some(of) = m.replica.as_mut() {
                set(&mut of.points, session);
            }
            set(&mut m.points, session);
        }),
    }
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Must { machines, must } => machines.iter().for_each(|id| pen.machine(*id, |m| m.must.clone_from(must))),
            Event::Tried { point: Some(at), proof, .. } => {
                keep(pen, *at, proof);
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
                        let original = at.original(estate).map(|m| m.id.to_string());
                        (text, original.into_iter().chain([super::holds(*at).to_string()]).collect())
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
