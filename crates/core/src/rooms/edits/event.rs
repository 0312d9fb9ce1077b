//! What was edited.

use super::{Set, Target};
use crate::{
    estate::{Estate, Pen},
    ids::MachineId,
    road::{Entry, Tale},
    runs::Object,
    units::Bytes,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    Edited {
        target: Target,
        sets: Vec<Set>,
    },
    /// Given to a machine while it runs.
    Grown {
        machine: MachineId,
        vcpus: Option<u32>,
        memory: Option<Bytes>,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        let (target, sets) = match self {
            Event::Edited { target, sets } => (target, sets),
            Event::Grown {
                machine,
                vcpus,
                memory,
            } => {
                return pen.machine(*machine, |m| {
                    let mut now = m.runs_with();
                    now.vcpus = vcpus.unwrap_or(now.vcpus);
                    now.memory.size = memory.unwrap_or(now.memory.size);
                    now.memory.kept = m.memory.kept.min(now.memory.size);
                    m.runs((!m.is_off()).then_some(now));
                });
            }
        };
        match target {
            Target::Machine(id) => pen.machine(*id, |m| sets.iter().for_each(|s| s.on_machine(m))),
            Target::Host(id) => pen.host(*id, |h| sets.iter().for_each(|s| s.on_host(h))),
            Target::Cluster(id) => pen.cluster(*id, |c| sets.iter().for_each(|s| s.on_cluster(c))),
            Target::Network(id) => pen.network(*id, |n| sets.iter().for_each(|s| s.on_network(n))),
            Target::Volume(id) => pen.volume(*id, |v| sets.iter().for_each(|s| s.on_volume(v))),
            Target::Image(id) => pen.image(*id, |i| sets.iter().for_each(|s| s.on_image(i))),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let (target, sets) = match self {
            Event::Edited { target, sets } => (target, sets),
            Event::Grown {
                machine,
                vcpus,
                memory,
            } => {
                let name = Object::Machine(*machine).name(estate);
                let vcpus = vcpus.map(|n| format!("{n} vCPUs"));
                let memory = memory.map(|b| format!("{b} of memory"));
                let what: Vec<String> = vcpus.into_iter().chain(memory).collect();
                let text = format!("{name} has {} now, given while it runs", what.join(" and "));
                return Some(Entry::new("machine", text, vec![machine.to_string()]));
            }
        };
        let what = sets.iter().map(Set::tell).collect::<Vec<_>>().join("; ");
        let text = format!("{}: {what}", target.name(estate));
        Some(Entry::new("edit", text, vec![target.to_string()]))
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
