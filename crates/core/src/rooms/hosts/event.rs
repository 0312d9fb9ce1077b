//! What happens to hosts.

use crate::{
    estate::{Condition, Estate, Fell, FencingTest, Host, Maintenance, Pen},
    ids::{HostId, Revision},
    moment::Moment,
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
    /// Proved off; what ran on it is off too.
    Off {
        host: HostId,
        at: Moment,
        proof: String,
    },
    /// Its arrays took away all that it reached; what ran on it writes nothing any more.
    ShutOut {
        host: HostId,
        at: Moment,
        proof: String,
    },
    /// Whether an armed watchdog resets it, as it reports.
    Watchdog {
        host: HostId,
        armed: bool,
    },
    /// Somebody tried whether its controller does what it is told.
    FencingTested {
        host: HostId,
        test: FencingTest,
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
    /// Out of service: nothing is put there from now on.
    Maintained {
        host: HostId,
        maintenance: Box<Maintenance>,
    },
    /// Nothing is on it any more.
    Emptied {
        host: HostId,
    },
    InService {
        host: HostId,
    },
    /// It stays with the manager that it should be taken from.
    NotTaken {
        host: HostId,
    },
    /// Taken from another manager: how many machines ran on, and the names of those that did not.
    RanOn {
        host: HostId,
        on: usize,
        not: Vec<String>,
    },
    /// It obeys a new history from now on, and no older one.
    Met {
        host: HostId,
        /// The number of the new history.
        history: u64,
        /// Up to where it had obeyed the one before.
        obeyed: Revision,
        /// Up to where that one is known here; none where it is not the past of the new one.
        known: Option<Revision>,
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
            Event::Off { host, at, proof } => {
                let (since, proof) = (*at, proof.clone());
                fenced(pen, *host, Condition::Off { since, proof });
            }
            Event::ShutOut { host, at, proof } => {
                let (since, proof) = (*at, proof.clone());
                fenced(pen, *host, Condition::ShutOut { since, proof });
            }
            Event::Watchdog { host, armed } => pen.host(*host, |h| h.watchdog = *armed),
            Event::FencingTested { host, test } => pen.host(*host, |h| h.fencing = Some(test.clone())),
            Event::Seen {
                host,
                boot,
                seq,
                software,
            } => pen.host(*host, |h| {
                // That it reports says nothing of whether it answers; after a restart it may.
                let hangs = matches!(h.condition, Condition::Hangs { .. }) && h.seen.0 == *boot;
                if !hangs && !matches!(h.condition, Condition::Stranger { .. }) {
                    h.condition = Condition::Steady;
                }
                h.seen = (*boot, *seq);
                h.software.clone_from(software);
            }),
            Event::Left { host } => {
                leave(pen, *host);
                pen.host(*host, |h| h.cluster = None);
            }
            Event::Maintained { host, maintenance } => {
                pen.host(*host, |h| h.maintenance = Some(maintenance.clone()));
            }
            Event::Emptied { host } => pen.host(*host, |h| {
                if let Some(maintenance) = &mut h.maintenance {
                    maintenance.empty = true;
                }
            }),
            Event::InService { host } => pen.host(*host, |h| h.maintenance = None),
            Event::NotTaken { host } => pen.drop_host(*host),
            Event::RanOn { .. } | Event::Met { .. } => {}
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
                Condition::Hangs { why, .. } => line(
                    host,
                    &format!("reports, and answers nothing that it is asked: {why}"),
                ),
                Condition::Lost { why, .. } => line(host, &format!("does not answer: {why}")),
                Condition::Stranger { .. } => line(
                    host,
                    "shows another certificate than the pinned one; orders are held",
                ),
                Condition::Off { proof, .. } => line(host, &format!("is off: {proof}")),
                Condition::ShutOut { proof, .. } => line(host, &format!("writes nothing any more: {proof}")),
            },
            Event::Off { host, proof, .. } => takes_down(estate, *host, &format!("is off: {proof}")),
            Event::ShutOut { host, proof, .. } => takes_down(estate, *host, &format!("writes nothing any more: {proof}")),
            Event::Watchdog { armed: true, .. } => None,
            Event::Watchdog { host, armed: false } => line(host, "no longer has an armed watchdog"),
            Event::FencingTested { host, test } => line(host, &format!("had its fencing tested: {}", test.said)),
            Event::Seen { host, boot, .. } => line(host, back(estate.hosts.get(host)?, *boot)?),
            Event::Left { host } => line(host, "left its cluster"),
            Event::Maintained { host, maintenance } => {
                let because = match maintenance.reason.as_str() {
                    "" => String::new(),
                    reason => format!(": {reason}"),
                };
                line(host, &format!("is in maintenance{because}"))
            }
            Event::Emptied { host } => line(host, "is empty"),
            Event::InService { host } => line(host, "is back in service"),
            Event::NotTaken { host } => line(host, "was not taken over"),
            Event::RanOn { host, on, not } if not.is_empty() => {
                let machines = if *on == 1 { "machine" } else { "machines" };
                line(host, &format!("was taken over without a pause: its {on} {machines} ran on"))
            }
            Event::RanOn { host, not, .. } => {
                line(host, &format!("was taken over; {} did not run on the whole time", not.join(", ")))
            }
            Event::Met { host, history, obeyed, known } => met(estate, *host, *history, *obeyed, *known),
            Event::Claiming(_) => None,
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}

/// What a host is said to have been told where it obeyed more than is known.
pub const NOT_KNOWN: &str = "things that are not known here";

/// A host that obeys a new history; where it was told more than is known here, that is said.
fn met(estate: &Estate, host: HostId, history: u64, obeyed: Revision, known: Option<Revision>) -> Option<Entry> {
    let name = Object::Host(host).name(estate);
    let more = match known {
        Some(known) if obeyed <= known => String::new(),
        Some(known) => format!(
            ". It was told {NOT_KNOWN}: it obeyed up to revision {obeyed}, and this history came to {known}"
        ),
        None => ". What it was told before is no past of this history".into(),
    };
    let text = format!("{name} obeys history {history} and no older one{more}");
    Some(Entry::new("history", text, vec![host.to_string()]))
}

/// What it means that a host is heard of, where that is news.
fn back(was: &Host, boot: u64) -> Option<&'static str> {
    match (&was.condition, boot != was.seen.0) {
        (Condition::Off { .. }, false) => Some("answers, and had not been off: what was proved was wrong"),
        (Condition::ShutOut { .. }, false) => Some("answers again, without the volumes that were taken away"),
        (Condition::Lost { .. } | Condition::Hangs { .. } | Condition::Off { .. } | Condition::ShutOut { .. }, true) => Some("answers again; it had gone down"),
        (Condition::Lost { .. }, false) => Some("answers again"),
        (Condition::Steady, true) => Some("went down and came back"),
        (Condition::Steady | Condition::Hangs { .. }, false) | (Condition::Claiming | Condition::Stranger { .. }, _) => None,
    }
}

/// A host that takes down what is on it, in words.
fn takes_down(estate: &Estate, host: HostId, words: &str) -> Option<Entry> {
    let on: Vec<_> = estate.machines_on(host).filter(|m| !m.is_off()).collect();
    let machines = if on.len() == 1 { "machine" } else { "machines" };
    let also = match on.len() {
        0 => String::new(),
        n => format!(", and with it the {n} {machines} on it"),
    };
    let name = Object::Host(host).name(estate);
    let about = on.iter().map(|m| m.id.to_string());
    let about = std::iter::once(host.to_string()).chain(about).collect();
    Some(Entry::new("host", format!("{name} {words}{also}"), about))
}

/// Proved to write nothing any more; what was on it is known to be off.
fn fenced(pen: &mut Pen<'_>, host: HostId, condition: Condition) {
    let Some(serial) = pen.estate().hosts.get(&host).map(|h| h.hardware.serial.clone()) else {
        return;
    };
    if let Condition::Off { since, proof } | Condition::ShutOut { since, proof } = &condition {
        let (at, proof) = (*since, proof.clone());
        if let Some(open) = pen.estate().failure_of(host).map(|f| f.id) {
            pen.failure(open, |f| f.is_fenced(at, &proof));
        }
        let on: Vec<_> = pen.estate().machines_on(host).map(|m| m.id).collect();
        for machine in on {
            pen.machine(machine, |m| {
                m.falls(Fell {
                    host,
                    at,
                    proved: Some(serial.clone()),
                    unsure: false,
                });
            });
        }
    }
    pen.host(host, |h| h.condition = condition);
}

fn leave(pen: &mut Pen<'_>, host: HostId) {
    if let Some(cluster) = pen.estate().hosts.get(&host).and_then(|h| h.cluster) {
        pen.cluster(cluster, |c| {
            c.hosts.remove(&host);
        });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, whoever takes over hears that all is known where a host was told more, or is frightened for nothing.
    #[test]
    fn a_host_that_was_told_more_than_is_known_says_so() {
        let told = |obeyed, known: Option<u64>| {
            let event = Event::Met {
                host: HostId(1),
                history: 2,
                obeyed: Revision(obeyed),
                known: known.map(Revision),
            };
            event.tell(&Estate::default()).unwrap().text
        };
        assert!(told(80, Some(80)).ends_with("obeys history 2 and no older one"));
        assert!(told(81, Some(80)).contains("obeyed up to revision 81, and this history came to 80"));
        assert!(told(3, None).contains("no past of this history"));
    }
}
