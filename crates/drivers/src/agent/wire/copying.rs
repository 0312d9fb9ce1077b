//! How far a copy of disks is, and what was removed from it.

use super::{figure, limited};
use serde::Deserialize;
use zastrugi_core::{
    estate::Sealed,
    limits,
    moment::Span,
    units::{Bytes, Rate},
};

/// As many removed things are told, as far as we read.
const MOST: usize = 32;

#[derive(Debug, Deserialize)]
pub(crate) struct WireCopying {
    /// `running`, `done` or `failed`.
    pub(crate) stage: String,
    #[serde(default)]
    pub(crate) why: String,
    #[serde(default)]
    copied: u64,
    #[serde(default)]
    left: u64,
    #[serde(default)]
    rate: u64,
    #[serde(default)]
    took_ms: u64,
    /// Of a version, once it is whole.
    #[serde(default)]
    takes: u64,
    #[serde(default)]
    removed: Option<Vec<String>>,
    #[serde(default)]
    unsealed: Option<String>,
    #[serde(default)]
    pub(crate) guest_key: String,
    /// Of a file, lower-case hex.
    #[serde(default)]
    sha256: String,
}

impl WireCopying {
    pub(crate) fn said(&self) -> String {
        let (copied, left, rate) = (Bytes(self.copied), Bytes(self.left), Rate(self.rate));
        format!("{copied} copied at {rate}, {left} to go")
    }
    pub(crate) fn copied(&self) -> Bytes {
        Bytes(figure(self.copied, &limits::FIGURE_DISK))
    }
    pub(crate) fn sum(&self) -> String {
        limited(self.sha256.clone()).to_lowercase()
    }
    pub(crate) fn takes(&self) -> Bytes {
        Bytes(figure(self.takes, &limits::FIGURE_DISK))
    }
    pub(crate) fn took(&self) -> Span {
        Span(self.took_ms)
    }
    pub(crate) fn sealed(&self) -> Sealed {
        match (&self.removed, &self.unsealed) {
            (Some(all), _) => Sealed::Yes(all.iter().take(MOST).cloned().map(limited).collect()),
            (None, Some(why)) => Sealed::Unable(limited(why.clone())),
            (None, None) => Sealed::No,
        }
    }
}
