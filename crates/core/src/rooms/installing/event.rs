//! What happens to hosts that are being installed.

use super::{AGENT, correct};
use crate::{
    estate::{Estate, Hardware, Host, Installing, Pen},
    ids::{HostId, NetworkId, SecretRef},
    road::{Entry, Tale},
    runs::Object,
};
use std::net::SocketAddr;

#[derive(Debug, Clone, PartialEq)]
pub enum Event {
    /// Its name and addresses are held; its installation runs.
    Planned(Box<Host>),
    /// Its controller mounted for it what it is installed from.
    Inserted {
        host: HostId,
        /// SHA-256 of the word under which it is fetched, lower-case hex.
        word: String,
        given: SecretRef,
    },
    /// It shall become something else than what its sheet said; `network` is that of its own address.
    Corrected {
        host: HostId,
        name: String,
        installing: Box<Installing>,
        network: Option<NetworkId>,
        /// What was changed, in words.
        said: String,
    },
    /// Its agent answers, and proved that it came from what it was given.
    Installed {
        host: HostId,
        pin: String,
        hardware: Box<Hardware>,
        software: String,
        /// Starts beyond the expected ones.
        more: u32,
    },
    /// Nobody wants it any more, and it never became ours. What was mounted for it is still to be taken out.
    GivenUp { host: HostId },
    /// It is as it was before, as far as that is known.
    Withdrawn { host: HostId, clean: bool },
}

impl Tale for Event {
    fn absorb(&self, pen: &mut Pen<'_>) {
        match self {
            Event::Planned(host) => pen.add_host(host),
            Event::Inserted { host, word, given } => pen.host(*host, |h| {
                if let Some(installing) = &mut h.installing {
                    installing.word.clone_from(word);
                    installing.given = Some(*given);
                }
            }),
            Event::Corrected { host, name, installing, network, .. } => {
                pen.host(*host, |h| {
                    h.name.clone_from(name);
                    let ip = installing.net.addr();
                    h.access.address = SocketAddr::new(ip, AGENT).to_string();
                    h.installing = Some(installing.clone());
                });
                if let Some(network) = network {
                    correct::follow(pen, *network, installing);
                }
            }
            Event::Installed { host, pin, hardware, software, .. } => pen.host(*host, |h| {
                h.access.pin.clone_from(pin);
                h.hardware = (**hardware).clone();
                h.software.clone_from(software);
                // Nobody fetches anything for it any more.
                if let Some(installing) = &mut h.installing {
                    installing.word.clear();
                }
            }),
            Event::GivenUp { host } => {
                let found = pen.estate().hosts.get(host).and_then(|h| h.installing.as_ref());
                match found.map(|i| i.given.is_some()) {
                    None => {}
                    Some(false) => pen.drop_host(*host),
                    Some(true) => pen.host(*host, |h| {
                        if let Some(installing) = &mut h.installing {
                            installing.word.clear();
                            installing.given_up = true;
                        }
                    }),
                }
            }
            Event::Withdrawn { host, .. } => {
                let ours = pen.estate().hosts.get(host);
                if ours.is_some_and(|h| h.installing.is_some()) {
                    pen.drop_host(*host);
                }
            }
        }
    }

    fn tell(&self, estate: &Estate) -> Option<Entry> {
        let line = |id: &HostId, words: String| {
            let name = Object::Host(*id).name(estate);
            Some(Entry::new("host", format!("{name} {words}"), vec![id.to_string()]))
        };
        match self {
            Event::Planned(_) | Event::Inserted { .. } | Event::GivenUp { .. } => None,
            Event::Withdrawn { host, clean: true } => line(host, "was given up: nothing is mounted for it any more".into()),
            Event::Withdrawn { host, clean: false } => {
                let held = estate.hosts.get(host)?;
                let at = held.bmc.as_ref().map_or("", |b| b.address.as_str());
                line(host, format!("was given up; what was mounted for it may still be: look at its controller at {at}"))
            }
            Event::Corrected { host, said, .. } => line(host, format!("was corrected: {said}")),
            Event::Installed { host, software, more, .. } => {
                let more = match more {
                    0 => String::new(),
                    1 => ", and restarted once more than it should".into(),
                    n => format!(", and restarted {n} times more than it should"),
                };
                line(host, format!("was installed with {software}{more}"))
            }
        }
    }

    fn is_sighting(&self) -> bool {
        false
    }
}
