//! Announcements that hosts send by themselves (DNS-SD, RFC 6763). They are hints by anybody: capped, and nothing is
//! fetched before a person asks.

use mdns_sd::{IfKind, ServiceDaemon, ServiceEvent};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::{limits, text};

const SERVICE: &str = "_zastrugi-agent._tcp.local.";
const MOST: usize = limits::ANNOUNCEMENTS.most;

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Announcement {
    pub name: String,
    /// `ip:port`
    pub address: String,
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
            let events = daemon.browse(SERVICE)?;
            Ok::<_, mdns_sd::Error>((daemon, events))
        };
        let (daemon, events) = start().map_err(|e| e.to_string())?;
        let book = heard.clone();
        tokio::spawn(async move {
            while let Ok(event) = events.recv_async().await {
                let mut book = book.lock().unwrap_or_else(PoisonError::into_inner);
                match event {
                    ServiceEvent::ServiceResolved(info) => {
                        let Some(ip) = info.addresses.iter().next().map(|a| a.to_ip_addr()) else {
                            continue;
                        };
                        let full = info.fullname.clone();
                        if book.len() < MOST || book.contains_key(&full) {
                            let name = full.split('.').next().unwrap_or_default();
                            let name = text::cleaned(name, &limits::NAME, false);
                            let address = std::net::SocketAddr::new(ip, info.port).to_string();
                            book.insert(full, Announcement { name, address });
                        }
                    }
                    ServiceEvent::ServiceRemoved(_, full) => drop(book.remove(&full)),
                    _ => {}
                }
            }
        });
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
