//! Drivers: how devices are spoken to. One folder for each protocol, with its wire types, its client and the
//! translation into core's words. Start at [`Drivers::perform`].
//!
//! Every call has a timeout, goes only to management networks that an admin listed, to a pinned certificate, and is
//! safe to repeat: it carries the step's key and fence.

pub mod agent;
mod album;
mod announce;
pub mod backup;
mod balancer;
pub mod check;
mod console;
mod dns;
mod exports;
mod fault;
mod guarding;
mod http;
mod keeping;
mod media;
mod networks;
mod perform;
mod probe;
mod redfish;
mod restconf;
mod rooms;
mod said;
mod scan;
mod screen;
mod swordfish;
mod time;
mod tls;

pub use album::{Album, Shot};
pub use announce::{Announcement, Announcements, Who};
pub use balancer::FrontSeen;
pub use console::Console;
pub use exports::Exports;
pub use guarding::GuardedStart;
pub use http::Watch;
pub use keeping::{Agreement, Parcel};
pub use media::{Media, Part, Served};
pub use networks::{Networks, NotAllowed};
pub use perform::{Installation, Outcome, Secrets, Turn};
pub use rooms::images::Fed;
pub use scan::{Range, RangeError, addresses, controllers};
pub use screen::{Filter, Screen, Unspeakable};

use std::sync::{Arc, PoisonError, RwLock};

/// Everything that can be spoken to, and the limits within which it is.
#[derive(Clone)]
pub struct Drivers {
    http: http::Http,
    ways: redfish::Ways,
    resets: redfish::Resets,
    networks: Arc<RwLock<Networks>>,
    secrets: Arc<dyn Secrets>,
    /// Archives that were looked through, by what their volumes call them.
    archives: Arc<
        std::sync::Mutex<std::collections::BTreeMap<uuid::Uuid, Arc<zastrugi_core::ovf::Package>>>,
    >,
    installation: Installation,
    media: Arc<Media>,
    exports: Arc<Exports>,
    movers: rooms::carrying::Movers,
    paces: rooms::carrying::Paces,
    /// None: no pictures are kept.
    album: Option<Arc<dyn Album>>,
}

impl Drivers {
    pub fn new(networks: Networks, secrets: Arc<dyn Secrets>, installation: Installation) -> Self {
        Drivers {
            http: http::Http::default(),
            ways: redfish::Ways::default(),
            resets: redfish::Resets::default(),
            networks: Arc::new(RwLock::new(networks)),
            secrets,
            archives: Default::default(),
            installation,
            media: Arc::default(),
            exports: Arc::default(),
            movers: Default::default(),
            paces: Default::default(),
            album: None,
        }
    }
    /// The same, with where pictures are kept.
    #[must_use]
    pub fn with_album(mut self, album: Arc<dyn Album>) -> Self {
        self.album = Some(album);
        self
    }
    pub(crate) fn album(&self) -> Option<&Arc<dyn Album>> {
        self.album.as_ref()
    }
    /// The same, with what hosts are installed from.
    #[must_use]
    pub fn with_media(mut self, media: Media) -> Self {
        self.media = Arc::new(media);
        self
    }
    /// The same, with where exports for backups are mounted.
    #[must_use]
    pub fn with_exports(mut self, exports: Exports) -> Self {
        self.exports = Arc::new(exports);
        self
    }
    /// Which addresses may be spoken to from now on.
    pub fn allow(&self, networks: Networks) {
        *self
            .networks
            .write()
            .unwrap_or_else(PoisonError::into_inner) = networks;
    }
    /// Who we are to hosts.
    pub fn installation(&self) -> &Installation {
        &self.installation
    }
    pub fn networks(&self) -> Networks {
        self.networks
            .read()
            .unwrap_or_else(PoisonError::into_inner)
            .clone()
    }
}
