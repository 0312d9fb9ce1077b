//! What happens to names.

use crate::{
    estate::{Dns, Entered, Estate, Pen},
    ids::{ClusterId, MachineId},
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// From now on its machines have their names there; `left`: what stood elsewhere was left there.
    Kept {
        cluster: ClusterId,
        dns: Option<Dns>,
        left: bool,
    },
    Entered {
        machine: MachineId,
        entered: Entered,
    },
    Withdrawn {
        machine: MachineId,
        /// What stood there.
        name: String,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Kept { cluster, dns, left } => {
                pen.cluster(*cluster, |c| c.dns = dns.clone().map(Box::new));
                if *left {
                    forget(pen, *cluster);
                }
            }
            Event::Entered { machine, entered } => {
                pen.machine(*machine, |m| m.entered = Some(Box::new(entered.clone())));
            }
            Event::Withdrawn { machine, .. } => pen.machine(*machine, |m| m.entered = None),
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        match self {
            Event::Kept { cluster, dns, .. } => {
                let name = Object::Cluster(*cluster).name(estate);
                let text = match dns {
                    Some(dns) => format!("Machines of {name} have their names in {} at {}", dns.zone, dns.servers.join(", ")),
                    None => format!("Machines of {name} have no names in DNS any more"),
                };
                Some(Entry::new("cluster", text, vec![cluster.to_string()]))
            }
            Event::Entered { machine, entered } => {
                let name = Object::Machine(*machine).name(estate);
                let at: Vec<String> = entered.addresses.iter().map(ToString::to_string).collect();
                let back = if entered.back { "" } else { ", which does not lead back" };
                let text = format!("{name} has the name {} for {}{back}", entered.name, at.join(", "));
                Some(Entry::new("network", text, vec![machine.to_string()]))
            }
            Event::Withdrawn { machine, name } => {
                let text = format!("The name {name} was taken out of DNS");
                Some(Entry::new("network", text, vec![machine.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn forget(pen: &mut Pen<'_>, cluster: ClusterId) {
    let all = pen.estate().machines_in(cluster).filter(|m| m.entered.is_some());
    let named: Vec<MachineId> = all.map(|m| m.id).collect();
    for machine in named {
        pen.machine(machine, |m| m.entered = None);
    }
}
