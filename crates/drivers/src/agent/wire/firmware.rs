//! What a machine boots with, as agents tell of it and take it.

use super::limited;
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;
use zastrugi_core::estate::{Chip, Firmware, FirmwareKind};

/// A chip holds at most so many secrets, as far as we read.
const MOST: usize = 64;

#[derive(Debug, Deserialize)]
pub(crate) struct WireFirmware {
    /// `uefi` or `bios`; what is called otherwise is taken for UEFI.
    kind: String,
    #[serde(default)]
    secure_boot: bool,
    #[serde(default)]
    chip: Option<WireChip>,
}

#[derive(Debug, Deserialize)]
struct WireChip {
    id: Uuid,
    #[serde(default)]
    holds: Vec<String>,
}

impl WireFirmware {
    pub(super) fn read(self) -> Firmware {
        Firmware {
            kind: match (self.kind.as_str(), self.secure_boot) {
                ("bios", _) => FirmwareKind::Bios,
                (_, true) => FirmwareKind::Secure,
                (_, false) => FirmwareKind::Uefi,
            },
            chip: self.chip.map(|c| Chip {
                id: c.id,
                holds: c.holds.into_iter().take(MOST).map(limited).collect(),
            }),
        }
    }
}

/// As an agent takes it with a new machine.
pub(crate) fn firmware(firmware: &Firmware) -> Value {
    let kind = if firmware.kind.is_uefi() {
        "uefi"
    } else {
        "bios"
    };
    json!({"kind": kind, "secure_boot": firmware.kind == FirmwareKind::Secure, "chip": firmware.chip.is_some()})
}
