//! What a machine in an archive is (DSP0243, OVF 1.x and 2.x): as its descriptor says, whoever wrote it. Reading and
//! writing the text is done elsewhere.

use crate::units::Bytes;
use serde::{Deserialize, Serialize};

/// The disk format of our own archives: the bytes of the disk as they are, from first to last. A tag URI (RFC 4151).
pub const RAW: &str = "tag:zastrugi.example,2026:disk/raw";

/// A file of the archive that the descriptor refers to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct File {
    pub id: String,
    /// Its name in the archive.
    pub href: String,
    /// Compressed with gzip (RFC 1952).
    pub gzip: bool,
}

/// A disk as the descriptor lists it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Disk {
    pub id: String,
    /// None: it is empty.
    pub file: Option<String>,
    pub capacity: Bytes,
    /// The URI of its format.
    pub format: String,
}

/// A set of sizes that the author offers.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Configuration {
    pub id: String,
    pub label: String,
    pub description: String,
    pub default: bool,
}

/// A value that the guest is told, which may be asked for.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Property {
    pub key: String,
    pub label: String,
    pub value: String,
    /// Whoever takes it in may choose it.
    pub asked: bool,
    pub password: bool,
}

/// A piece of virtual hardware.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum Hardware {
    Vcpus(u32),
    Memory {
        size: Bytes,
        kept: Option<Bytes>,
    },
    /// By the id of the disk.
    Disk(String),
    Card {
        network: String,
        mac: Option<String>,
    },
    /// What we have no need of, in the author's words.
    Else(String),
}

/// Hardware, in all configurations or in some.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Item {
    pub configurations: Vec<String>,
    pub hardware: Hardware,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Descriptor {
    pub name: String,
    pub note: String,
    pub files: Vec<File>,
    pub disks: Vec<Disk>,
    /// Names, with the author's words.
    pub networks: Vec<(String, String)>,
    pub configurations: Vec<Configuration>,
    /// Texts that must be accepted.
    pub licences: Vec<String>,
    pub properties: Vec<Property>,
    pub items: Vec<Item>,
    /// Sections that we don't know and that may be left out.
    pub left_out: Vec<String>,
}

/// The hardware of one configuration.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct System {
    pub vcpus: u32,
    pub memory: Bytes,
    pub kept: Option<Bytes>,
    pub disks: Vec<Disk>,
    /// Name of its network and address of each card.
    pub cards: Vec<(String, Option<String>)>,
    pub left_out: Vec<String>,
}

impl Descriptor {
    /// The configuration that its author takes where nobody chooses.
    pub fn usual(&self) -> Option<&Configuration> {
        let marked = self.configurations.iter().find(|c| c.default);
        marked.or_else(|| self.configurations.first())
    }

    /// The hardware in a configuration; none: in the usual one.
    pub fn system(&self, configuration: Option<&str>) -> System {
        let chosen = configuration.or_else(|| self.usual().map(|c| c.id.as_str()));
        let mut system = System::default();
        let fits = |i: &&Item| {
            i.configurations.is_empty()
                || i.configurations.iter().any(|c| Some(c.as_str()) == chosen)
        };
        for item in self.items.iter().filter(fits) {
            match &item.hardware {
                Hardware::Vcpus(n) => system.vcpus = *n,
                Hardware::Memory { size, kept } => {
                    system.memory = *size;
                    system.kept = *kept;
                }
                Hardware::Disk(id) => system
                    .disks
                    .extend(self.disks.iter().find(|d| d.id == *id).cloned()),
                Hardware::Card { network, mac } => {
                    system.cards.push((network.clone(), mac.clone()))
                }
                Hardware::Else(words) => system.left_out.push(words.clone()),
            }
        }
        system
    }

    pub fn file(&self, id: &str) -> Option<&File> {
        self.files.iter().find(|f| f.id == id)
    }
}

/// A member of an archive: where its bytes lie.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    pub name: String,
    /// Bytes before it in the archive.
    pub at: u64,
    pub size: u64,
}

/// An archive that was looked through: what it describes, and where everything lies.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Package {
    pub descriptor: Descriptor,
    pub members: Vec<Member>,
    /// SHA-256 by the manifest, lower-case hex, with the member's name.
    pub sums: Vec<(String, String)>,
    /// It has a manifest whose digests we can compute.
    pub manifest: bool,
}

impl Package {
    pub fn member(&self, name: &str) -> Option<&Member> {
        self.members.iter().find(|m| m.name == name)
    }
    pub fn sum(&self, name: &str) -> Option<&str> {
        self.sums
            .iter()
            .find(|(n, _)| n == name)
            .map(|(_, sum)| sum.as_str())
    }
}
