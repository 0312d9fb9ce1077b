//! What happens to hosts.

use crate::{
    estate::{Condition, Estate, Host, Pen},
    ids::HostId,
    road::{Entry, Tale},
    runs::Object,
};

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name and address are held; the claim runs.
    Claiming(Box<Host>),
    Claimed(Box<Host>),
    Released {
        host: HostId,
    },
    Condition {
        host: HostId,
        condition: Condition,
    },
    Seen {
        host: HostId,
        boot: u64,
        seq: u64,
        software: String,
    },
    Left {
        host: HostId,
    },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Claiming(host) | Event::Claimed(host) => pen.add_host(host),
            Event::Released { host } => {
                leave(pen, *host);
                let left: Vec<_> = pen.estate().machines_on(*host).map(|m| m.id).collect();
                left.into_iter().for_each(|machine| pen.drop_machine(machine));
                pen.drop_host(*host);
            }
            Event::Condition { host, condition } => {
                pen.host(*host, |h| h.condition = condition.clone());
            }
            Event::Seen {
                host,
                boot,
                seq,
                software,
            } => pen.host(*host, |h| {
                h.seen = (*boot, *seq);
                h.software.clone_from(software);
                if !matches!(h.condition, Condition::Stranger { .. }) {
                    h.condition = Condition::Steady;
                }
            }),
            Event::Left { host } => {
                leave(pen, *host);
                pen.host(*host, |h| h.cluster = None);
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |id: &HostId, words: &str| {
            let name = Object::Host(*id).name(estate);
            Some(Entry::new("host", format!("{name} {words}"), vec![id.to_string()]))
        };
        match self {
            Event::Claimed(h) => {
                let text = format!("{} was claimed", h.name);
                Some(Entry::new("host", text, vec![h.id.to_string()]))
            }
            Event::Released { host } => line(host, "was handed back"),
            Event::Condition { host, condition } => match condition {
                Condition::Claiming => None,
                Condition::Steady => line(host, "answers"),
                Condition::Lost { why, .. } => line(host, &format!("does not answer: {why}")),
                Condition::Stranger { .. } => line(
                    host,
                    "shows another certificate than the pinned one; orders are held",
                ),
            },
            Event::Left { host } => line(host, "left its cluster"),
            Event::Claiming(_) | Event::Seen { .. } => None,
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

fn leave(pen: &mut Pen<'_>, host: HostId) {
    if let Some(cluster) = pen.estate().hosts.get(&host).and_then(|h| h.cluster) {
        pen.cluster(cluster, |c| {
            c.hosts.remove(&host);
        });
    }
}
