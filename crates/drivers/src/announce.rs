//! Announcements that hosts send by themselves (DNS-SD, RFC 6763). They are hints by anybody: capped, and nothing is
//! fetched before a person asks.

use mdns_sd::{IfKind, ServiceDaemon, ServiceEvent};
use std::{
    collections::BTreeMap,
    net::SocketAddr,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::{limits, text};

/// Who says that it is there.
const SERVICES: [(&str, Who); 2] = [
    ("_zastrugi-agent._tcp.local.", Who::Agent),
    ("_redfish._tcp.local.", Who::Controller),
];
const MOST: usize = limits::ANNOUNCEMENTS.most;

/// Takes one in, if there is room: anybody in the network can announce anything.
fn note(book: &mut BTreeMap<String, Announcement>, who: Who, full: &str, address: String) {
    if book.len() < MOST || book.contains_key(full) {
        let name = full.split('.').next().unwrap_or_default();
        let name = text::cleaned(name, &limits::NAME, false);
        let key = full.chars().take(limits::LINE.most).collect();
        book.insert(key, Announcement { who, name, address });
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Who {
    Agent,
    /// Of a host of which nobody knows what is installed there.
    Controller,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Announcement {
    pub who: Who,
    pub name: String,
    /// `ip:port`
    pub address: String,
}

fn hear(book: &mut BTreeMap<String, Announcement>, who: Who, event: ServiceEvent) {
    match event {
        ServiceEvent::ServiceResolved(info) => {
            if let Some(ip) = info.addresses.iter().next().map(|a| a.to_ip_addr()) {
                let address = SocketAddr::new(ip, info.port).to_string();
                note(book, who, &info.fullname, address);
            }
        }
        ServiceEvent::ServiceRemoved(_, full) => drop(book.remove(&full)),
        _ => {}
    }
}

/// Listens for announcements until it is dropped.
#[derive(Clone)]
pub struct Announcements {
    heard: Arc<Mutex<BTreeMap<String, Announcement>>>,
    daemon: Option<ServiceDaemon>,
}

impl Announcements {
    /// Listens on `port` of the loopback interface, or of every other one if `everywhere`.
    ///
    /// # Errors
    /// When the port can't be listened on.
    pub fn listen(port: u16, everywhere: bool) -> Result<Announcements, String> {
        let heard = Arc::new(Mutex::new(BTreeMap::new()));
        let start = || {
            let daemon = ServiceDaemon::new_with_port(port)?;
            if !everywhere {
                daemon.disable_interface(IfKind::All)?;
                daemon.enable_interface(IfKind::LoopbackV4)?;
            }
            let mut all = Vec::new();
            for (service, who) in SERVICES {
                all.push((who, daemon.browse(service)?));
            }
            Ok::<_, mdns_sd::Error>((daemon, all))
        };
        let (daemon, all) = start().map_err(|e| e.to_string())?;
        for (who, events) in all {
            let book = heard.clone();
            tokio::spawn(async move {
                while let Ok(event) = events.recv_async().await {
                    hear(
                        &mut book.lock().unwrap_or_else(PoisonError::into_inner),
                        who,
                        event,
                    );
                }
            });
        }
        Ok(Announcements {
            heard,
            daemon: Some(daemon),
        })
    }

    /// Nobody listens; for processes that don't want to.
    pub fn none() -> Announcements {
        Announcements {
            heard: Arc::default(),
            daemon: None,
        }
    }

    pub fn heard(&self) -> Vec<Announcement> {
        self.heard
            .lock()
            .unwrap_or_else(PoisonError::into_inner)
            .values()
            .cloned()
            .collect()
    }
    pub fn is_listening(&self) -> bool {
        self.daemon.is_some()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn whoever_announces_without_end_is_passed_over_and_no_name_harms() {
        let mut book = BTreeMap::new();
        for n in 0..10_000 {
            note(
                &mut book,
                Who::Agent,
                &format!("h{n}\0\u{202e}x.local"),
                "192.0.2.1:7443".into(),
            );
        }
        assert_eq!(book.len(), MOST);
        assert!(book.values().all(|a| !a.name.contains(['\0', '\u{202e}'])));
        note(
            &mut book,
            Who::Agent,
            "h1\0\u{202e}x.local",
            "192.0.2.9:7443".into(),
        );
        let moved = book.values().filter(|a| a.address.starts_with("192.0.2.9"));
        assert_eq!(moved.count(), 1, "who is known may say where they are now");
        let mut one = BTreeMap::new();
        note(
            &mut one,
            Who::Controller,
            &"x".repeat(100_000),
            "192.0.2.1:7443".into(),
        );
        let (key, said) = one.first_key_value().unwrap();
        assert!(key.len() <= 200 && said.name.len() <= 63);
    }
}
