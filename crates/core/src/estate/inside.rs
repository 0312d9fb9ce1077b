//! What lies on the disks of a recovery point, as the file systems on them tell it.

use super::PointAt;
use crate::{moment::Moment, units::Bytes};
use serde::{Deserialize, Serialize};
use std::fmt;

/// Files of one folder that are listed; of more, how many are left out is said.
pub const LISTED: usize = 10_000;

/// What a part of a disk is formatted as.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum System {
    /// ext2, ext3 or ext4.
    Ext,
    /// FAT12, FAT16 or FAT32.
    Fat,
    /// It is known what it is, and it is not read here.
    Unread(&'static str),
    Unknown,
}

impl System {
    pub fn word(&self) -> &'static str {
        match self {
            System::Ext => "ext",
            System::Fat => "FAT",
            System::Unread(what) => what,
            System::Unknown => "nothing that is known here",
        }
    }

    pub fn is_read(&self) -> bool {
        matches!(self, System::Ext | System::Fat)
    }
}

/// A partition of a disk: an entry of its partition table, or all of it where there is no such table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Partition {
    /// As the table counts; 0: the whole disk.
    pub number: u32,
    /// What the table or the file system calls it.
    pub label: String,
    pub system: System,
    pub begins: Bytes,
    pub size: Bytes,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ItemKind {
    Folder,
    File,
    /// With where it leads.
    Link(String),
    /// Neither: a device, a pipe, a socket.
    Other,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// None: its name is no text, and it can't be asked for.
    pub name: Option<String>,
    /// The name as it is shown.
    pub shown: String,
    pub kind: ItemKind,
    pub size: Bytes,
    pub changed: Option<Moment>,
}

/// Folders first, then by name.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Folder {
    pub items: Vec<Item>,
    /// More than can be listed.
    pub left_out: usize,
}

/// What somebody sees who looks into a point: its disks, the partitions of one of them, and one folder.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Within {
    pub disks: Vec<Bytes>,
    pub partitions: Vec<Partition>,
    pub folder: Option<Folder>,
}

/// Which folder or file of a recovery point.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Inside {
    pub point: PointAt,
    /// From 1 on.
    pub disk: usize,
    pub partition: u32,
    /// With / between names; empty: the outermost folder.
    pub path: String,
}

/// More of a name is not shown.
const SHOWN: usize = 255;

/// What a guest wrote, as it is shown: what moves the cursor or the direction of writing is not.
pub fn shown(name: &str) -> String {
    let plain = |c: char| match c {
        c if c.is_control() => '\u{b7}',
        '\u{200e}' | '\u{200f}' | '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}' => '\u{b7}',
        c => c,
    };
    let mut text: String = name.chars().take(SHOWN).map(plain).collect();
    if name.chars().nth(SHOWN).is_some() {
        text.push('\u{2026}');
    }
    text
}

impl Inside {
    /// As it stands in an address: `1/2/srv/orders`.
    pub fn place(&self) -> String {
        format!("{}/{}/{}", self.disk, self.partition, self.path)
    }

    /// What stands in an address; none: it is no place.
    pub fn read(point: PointAt, text: &str) -> Option<Inside> {
        let mut parts = text.splitn(3, '/');
        Some(Inside {
            point,
            disk: parts.next()?.parse().ok()?,
            partition: parts.next()?.parse().ok()?,
            path: parts.next()?.trim_matches('/').to_owned(),
        })
    }

    /// Something in this folder.
    #[must_use]
    pub fn under(&self, name: &str) -> Inside {
        let path = match self.path.as_str() {
            "" => name.to_owned(),
            path => format!("{path}/{name}"),
        };
        Inside {
            path,
            ..self.clone()
        }
    }

    /// The folders on the way to it, the outermost first, each with its name; the outermost has none.
    pub fn way(&self) -> Vec<(String, Inside)> {
        let mut at = Inside {
            path: String::new(),
            ..self.clone()
        };
        let mut all = vec![(String::new(), at.clone())];
        for name in self.path.split('/').filter(|n| !n.is_empty()) {
            at = at.under(name);
            all.push((name.to_owned(), at.clone()));
        }
        all
    }
}

impl fmt::Display for Inside {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} on disk {}", shown(&self.path), self.disk)?;
        match self.partition {
            0 => Ok(()),
            part => write!(f, ", partition {part}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a guest writes into the Logbook what nobody did, by the name of a file.
    #[test]
    fn what_a_guest_named_can_not_move_the_cursor() {
        let at = Inside::read(
            PointAt {
                store: crate::ids::StoreId(1),
                machine: uuid::Uuid::nil(),
                session: uuid::Uuid::nil(),
            },
            "1/2/srv/a\nadmin signed in\u{202e}\u{0}",
        );
        let said = at.unwrap().to_string();
        assert_eq!(said, "srv/a·admin signed in·· on disk 1, partition 2");
        assert_eq!(shown(&"x".repeat(10_000)).chars().count(), SHOWN + 1);
        assert_eq!(shown("Übergabe.txt"), "Übergabe.txt");
    }
}
