//! What happens to names.

use crate::{
    estate::{Dns, Entered, Estate, Pen},
    ids::{ClusterId, HostId, MachineId},
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
    HostEntered {
        host: HostId,
        entered: Entered,
    },
    HostWithdrawn {
        host: HostId,
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
            Event::HostEntered { host, entered } => pen.host(*host, |h| h.entered = Some(Box::new(entered.clone()))),
            Event::HostWithdrawn { host, .. } => pen.host(*host, |h| h.entered = None),
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
            Event::Entered { machine, entered } => Some(entered_words(Object::Machine(*machine), estate, entered)),
            Event::HostEntered { host, entered } => Some(entered_words(Object::Host(*host), estate, entered)),
            Event::Withdrawn { machine, name } => {
                let text = format!("The name {name} was taken out of DNS");
                Some(Entry::new("network", text, vec![machine.to_string()]))
            }
            Event::HostWithdrawn { host, name } => {
                let text = format!("The name {name} was taken out of DNS");
                Some(Entry::new("network", text, vec![host.to_string()]))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn entered_words(of: Object, estate: &Estate, entered: &Entered) -> Entry {
    let at: Vec<String> = entered.addresses.iter().map(ToString::to_string).collect();
    let back = if entered.back { "" } else { ", which does not lead back" };
    let text = format!("{} has the name {} for {}{back}", of.name(estate), entered.name, at.join(", "));
    Entry::new("network", text, vec![of.to_string()])
}

fn forget(pen: &mut Pen<'_>, cluster: ClusterId) {
    let all = pen.estate().machines_in(cluster).filter(|m| m.entered.is_some());
    let named: Vec<MachineId> = all.map(|m| m.id).collect();
    for machine in named {
        pen.machine(machine, |m| m.entered = None);
    }
    let hosts: Vec<HostId> = pen.estate().hosts_in(cluster).map(|h| h.id).collect();
    for host in hosts {
        pen.host(host, |h| h.entered = None);
    }
}
