//! What happens to pools and to those of their machines that people have.

use crate::{
    estate::{Estate, Held, Pen, SparePool},
    ids::{MachineId, SparePoolId},
    moment::Moment,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Kept(Box<SparePool>),
    HandedOut {
        pool: SparePoolId,
        machine: MachineId,
        to: String,
        at: Moment,
    },
    GivenBack {
        pool: SparePoolId,
        machine: MachineId,
    },
    /// What was due began by itself.
    Followed {
        pool: SparePoolId,
        make: u32,
        away: usize,
    },
    Ended {
        pool: SparePoolId,
        name: String,
        /// Those that go on as any other machine.
        held: Vec<MachineId>,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept(pool) => match pen.estate().spare_pools.contains_key(&pool.id) {
                true => pen.spare_pool(pool.id, |p| p.clone_from(pool)),
                false => pen.add_spare_pool(pool),
            },
            Event::HandedOut { machine, to, at, .. } => pen.machine(*machine, |m| {
                if let Some(of) = &mut m.of_pool {
                    of.held = Some(Held { by: to.clone(), since: *at });
                }
            }),
            Event::GivenBack { machine, .. } => pen.machine(*machine, |m| {
                if let Some(of) = &mut m.of_pool {
                    of.back = true;
                }
            }),
            Event::Followed { .. } => {}
            Event::Ended { pool, held, .. } => {
                for machine in held {
                    pen.machine(*machine, |m| m.of_pool = None);
                }
                pen.drop_spare_pool(*pool);
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let name = |machine: &MachineId| Object::Machine(*machine).name(estate);
        let (text, about) = match self {
            Event::Kept(pool) => (
                format!("Pool {}: {} spares at least, {} machines at most", pool.name, pool.spare, pool.most),
                vec![pool.id.to_string()],
            ),
            Event::HandedOut { pool, machine, to, .. } => (
                format!("{} was handed out to {to}", name(machine)),
                vec![pool.to_string(), machine.to_string()],
            ),
            Event::GivenBack { pool, machine } => (
                format!("{} was given back, and is thrown away", name(machine)),
                vec![pool.to_string(), machine.to_string()],
            ),
            Event::Followed { pool, make, away } => {
                let name = Object::SparePool(*pool).name(estate);
                let what = match (make, away) {
                    (0, away) => format!("throws {away} away"),
                    (make, 0) => format!("makes {make} spares"),
                    (make, away) => format!("makes {make} spares and throws {away} away"),
                };
                (format!("Pool {name} {what}"), vec![pool.to_string()])
            }
            Event::Ended { pool, name, .. } => (format!("Pool {name} is kept no more"), vec![pool.to_string()]),
        };
        Some(Entry::new("machine", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
