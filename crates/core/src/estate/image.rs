//! Images that machines boot from, and what a machine boots from first.

use super::Estate;
use crate::{
    ids::{ImageId, VolumeId},
    moment::Moment,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr, sync::Arc};

/// What a file on a volume is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Holds {
    /// ISO 9660: machines boot from it.
    #[default]
    Installer,
    /// The bytes of one disk.
    Disk,
    /// The same, compressed (RFC 1952).
    GzipDisk,
    /// A machine in an archive (DSP0243).
    Package,
}

impl Holds {
    pub fn word(self) -> &'static str {
        match self {
            Holds::Installer => "boots machines",
            Holds::Disk => "bytes of a disk",
            Holds::GzipDisk => "bytes of a disk, gzip",
            Holds::Package => "a machine in an archive",
        }
    }
    pub fn is_installer(&self) -> bool {
        *self == Holds::Installer
    }
    pub fn is_disk(self) -> bool {
        matches!(self, Holds::Disk | Holds::GzipDisk)
    }
}

/// A file on a volume: what machines boot from, or what they are made from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Image {
    pub id: ImageId,
    /// What the volume calls it; a path is never made from a name.
    pub uuid: uuid::Uuid,
    pub name: String,
    pub volume: VolumeId,
    pub size: Bytes,
    /// SHA-256 over the file's first and last MiB and its size, made by the browser: only the same file goes on.
    #[serde(default)]
    pub mark: String,
    /// What its publisher says that its SHA-256 is.
    #[serde(default)]
    pub expected: Option<String>,
    /// SHA-256 of what lies on the volume; none while it isn't whole.
    pub sha256: Option<String>,
    /// The volume identifier that its own descriptor has (ECMA-119, section 8.4.7).
    pub label: String,
    pub ready: bool,
    #[serde(default, skip_serializing_if = "Holds::is_installer")]
    pub holds: Holds,
    /// Somebody said that it carries the agent and the drivers of guests.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub carries_agent: bool,
    pub added: Moment,
}

impl Image {
    /// It was packed of disks that are here; nobody sent it.
    pub fn is_packed_here(&self) -> bool {
        !self.holds.is_installer() && self.mark.is_empty()
    }
}

/// An image in a machine's drive.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attached {
    pub image: ImageId,
    pub volume: VolumeId,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum BootFrom {
    Disk,
    Image,
    Network,
}

impl BootFrom {
    pub const ALL: [BootFrom; 3] = [BootFrom::Disk, BootFrom::Image, BootFrom::Network];

    /// What a machine lacks that can't boot from it.
    pub fn lack(self) -> &'static str {
        match self {
            BootFrom::Disk => "it has no disk",
            BootFrom::Image => "no image is in its drive",
            BootFrom::Network => "none of its cards is on a network",
        }
    }

    pub fn word(self) -> &'static str {
        match self {
            BootFrom::Disk => "disk",
            BootFrom::Image => "image",
            BootFrom::Network => "network",
        }
    }
}

impl fmt::Display for BootFrom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.word())
    }
}

impl FromStr for BootFrom {
    type Err = String;
    fn from_str(text: &str) -> Result<Self, String> {
        let text = text.trim();
        let found = BootFrom::ALL.into_iter().find(|b| b.word() == text);
        found.ok_or_else(|| format!("“{text}” is not disk, image or network."))
    }
}

/// What a machine boots from, beginning with its next power-on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Boot {
    pub attached: Option<Attached>,
    /// The first of these that is there.
    pub order: Vec<BootFrom>,
    /// Before all others, at the next power-on only.
    pub once: Option<BootFrom>,
}

impl Default for Boot {
    fn default() -> Self {
        Boot {
            attached: None,
            order: BootFrom::ALL.to_vec(),
            once: None,
        }
    }
}

impl Boot {
    pub fn order_words(&self) -> String {
        let words: Vec<_> = self.order.iter().map(|b| b.word()).collect();
        words.join(", ")
    }
    /// Reads `disk, image, network` in any order; each at most once.
    ///
    /// # Errors
    /// Words for the person who typed it.
    pub fn read_order(text: &str) -> Result<Vec<BootFrom>, String> {
        let order = text
            .split(',')
            .map(str::parse)
            .collect::<Result<Vec<BootFrom>, _>>()?;
        for (i, from) in order.iter().enumerate() {
            if order[..i].contains(from) {
                return Err(format!("“{from}” stands there twice."));
            }
        }
        Ok(order)
    }
}

impl Estate {
    /// The images on a volume, by name.
    pub fn images_on(&self, volume: VolumeId) -> Vec<&Arc<Image>> {
        let mut all: Vec<_> = self
            .images
            .values()
            .filter(|i| i.volume == volume)
            .collect();
        all.sort_by(|a, b| a.name.cmp(&b.name));
        all
    }
    pub fn image_with_uuid(&self, uuid: &uuid::Uuid) -> Option<&Arc<Image>> {
        self.images.values().find(|i| i.uuid == *uuid)
    }
    pub fn image_named(&self, name: &str) -> Option<&Arc<Image>> {
        self.images
            .values()
            .find(|i| i.name.eq_ignore_ascii_case(name))
    }
    /// The machines that have it in their drive, by name.
    pub fn machines_with(&self, image: ImageId) -> Vec<&Arc<super::Machine>> {
        self.machines_by_name()
            .filter(|m| m.boot.attached.is_some_and(|a| a.image == image))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_order_is_read_as_typed_and_what_stands_twice_is_named() {
        assert_eq!(
            Boot::read_order(" network,disk"),
            Ok(vec![BootFrom::Network, BootFrom::Disk])
        );
        assert_eq!(
            Boot::read_order("disk, image, disk"),
            Err("“disk” stands there twice.".into())
        );
        assert!(Boot::read_order("floppy").unwrap_err().contains("“floppy”"));
        assert_eq!(Boot::default().order_words(), "disk, image, network");
    }
}
