//! What happens to pledges.

use crate::{
    estate::{Estate, Pen, Pledge},
    ids::{MachineId, PledgeId},
    road::{Entry, Tale},
    runs::Object,
};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Made(Box<Pledge>),
    Kept(Box<Pledge>),
    Given { pledge: PledgeId, machines: Vec<MachineId>, given: bool },
    Excepted { machine: MachineId, disks: BTreeSet<Uuid> },
    Removed { pledge: PledgeId, name: String },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Made(pledge) => pen.add_pledge(pledge),
            Event::Kept(pledge) => pen.pledge(pledge.id, |p| p.clone_from(pledge)),
            Event::Given { pledge, machines, given } => {
                for id in machines {
                    pen.machine(*id, |m| {
                        m.pledge(|p| match given {
                            true => _ = p.by_hand.insert(*pledge),
                            false => _ = p.by_hand.remove(pledge),
                        });
                    });
                }
            }
            Event::Excepted { machine, disks } => {
                pen.machine(*machine, |m| m.pledge(|p| p.except.clone_from(disks)));
            }
            Event::Removed { pledge, .. } => {
                let by_hand: Vec<MachineId> = pen.estate().given_by_hand(*pledge).map(|m| m.id).collect();
                for id in by_hand {
                    pen.machine(id, |m| m.pledge(|p| _ = p.by_hand.remove(pledge)));
                }
                pen.drop_pledge(*pledge);
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let called = |id: PledgeId| Object::Pledge(id).name(estate);
        let (text, about) = match self {
            Event::Kept(p) => (format!("Pledge {} is changed", p.name), vec![p.id.to_string()]),
            Event::Made(p) => {
                let text = match &p.to {
                    Some(to) => format!("Pledge {} is given to machines with {to}", p.name),
                    None => format!("There is a pledge {}, given by hand", p.name),
                };
                (text, vec![p.id.to_string()])
            }
            Event::Given { pledge, machines, given } => {
                let names: Vec<String> = machines.iter().take(4).map(|m| Object::Machine(*m).name(estate)).collect();
                let more = machines.len().saturating_sub(names.len());
                let more = if more > 0 { format!(" and {more} more") } else { String::new() };
                let verb = if *given { "given to" } else { "taken from" };
                let text = format!("Pledge {} is {verb} {}{more}", called(*pledge), names.join(", "));
                let about = machines.iter().map(ToString::to_string).chain([pledge.to_string()]);
                (text, about.collect())
            }
            Event::Excepted { machine, disks } => {
                let name = Object::Machine(*machine).name(estate);
                let text = match disks.len() {
                    0 => format!("What {name} is promised is about all of its disks"),
                    1 => format!("What {name} is promised is not about one of its disks"),
                    n => format!("What {name} is promised is not about {n} of its disks"),
                };
                (text, vec![machine.to_string()])
            }
            Event::Removed { pledge, name } => (format!("Pledge {name} is withdrawn"), vec![pledge.to_string()]),
        };
        Some(Entry::new("pledge", text, about))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
