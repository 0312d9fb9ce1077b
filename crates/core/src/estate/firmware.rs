//! What a machine boots with before its guest: firmware, and a security chip that keeps its guest's secrets.

use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FirmwareKind {
    #[default]
    Uefi,
    /// UEFI that boots only what is signed.
    Secure,
    Bios,
}

impl FirmwareKind {
    pub const ALL: [FirmwareKind; 3] =
        [FirmwareKind::Uefi, FirmwareKind::Secure, FirmwareKind::Bios];

    pub fn words(self) -> &'static str {
        match self {
            FirmwareKind::Uefi => "UEFI",
            FirmwareKind::Secure => "UEFI with secure boot",
            FirmwareKind::Bios => "BIOS",
        }
    }
    pub fn is_uefi(self) -> bool {
        match self {
            FirmwareKind::Uefi | FirmwareKind::Secure => true,
            FirmwareKind::Bios => false,
        }
    }
}

/// Set when a machine is made, and never changed: what is on its disks boots with nothing else.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Firmware {
    pub kind: FirmwareKind,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chip: Option<Chip>,
}

/// A virtual TPM (TPM 2.0, Trusted Computing Group). It goes wherever its machine goes; a copy has another one.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chip {
    /// Nil until its host has told.
    #[serde(default, skip_serializing_if = "Uuid::is_nil")]
    pub id: Uuid,
    /// The secrets that its guest keeps in it, by name.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub holds: Vec<String>,
}

/// What somebody asks for; nothing said is as what it is a copy of, else UEFI without a chip.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct FirmwareWish {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<FirmwareKind>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub chip: Option<bool>,
}

impl FirmwareWish {
    pub fn is_none(&self) -> bool {
        *self == FirmwareWish::default()
    }
}
