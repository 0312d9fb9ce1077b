//! How a device that is to be connected is reached, and the first password of it.

use crate::{ids::SecretRef, text::Line};
use serde::{Deserialize, Serialize};

/// A host to claim, with the certificate that the person was shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Endpoint {
    pub address: Line,
    pub pin: Line,
}

/// Whether the first password was given, and where it is kept.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Password {
    #[default]
    Missing,
    /// Typed in the sheet, not kept yet.
    Typed,
    Kept(SecretRef),
}

/// The first 16 characters of a fingerprint, in fours.
pub fn short(pin: &str) -> String {
    let head: Vec<char> = pin.chars().take(16).collect();
    head.chunks(4)
        .map(|c| c.iter().collect::<String>())
        .collect::<Vec<_>>()
        .join(" ")
}
