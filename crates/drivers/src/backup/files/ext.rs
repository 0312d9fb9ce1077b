//! ext2, ext3 and ext4.

use super::{Files, Found, PIECE, Take, disk::Window};
use ext4_view::{Ext4, Ext4Read, FileType};
use zastrugi_core::{
    estate::{Item, ItemKind, shown},
    moment::Moment,
    units::Bytes,
};

impl Ext4Read for Window {
    fn read(
        &mut self,
        at: u64,
        into: &mut [u8],
    ) -> Result<(), Box<dyn std::error::Error + Send + Sync>> {
        Ok(self.exact(at, into)?)
    }
}

pub(super) struct Ext(Ext4);

fn absolute(path: &str) -> String {
    format!("/{}", path.trim_matches('/'))
}

/// What its file system is called; nothing where it is not or can't be read.
pub(super) fn label(of: Window) -> String {
    let opened = Ext4::load(Box::new(of));
    let label = opened
        .ok()
        .and_then(|fs| fs.label().to_str().ok().map(str::to_owned));
    label.unwrap_or_default()
}

fn kind(of: FileType) -> ItemKind {
    match of {
        FileType::Directory => ItemKind::Folder,
        FileType::Regular => ItemKind::File,
        FileType::Symlink => ItemKind::Link(String::new()),
        FileType::BlockDevice | FileType::CharacterDevice | FileType::Fifo | FileType::Socket => {
            ItemKind::Other
        }
    }
}

impl Ext {
    pub(super) fn open(of: Window) -> Result<Ext, String> {
        let opened = Ext4::load(Box::new(of));
        opened.map(Ext).map_err(|e| e.to_string())
    }

    fn item(&self, entry: &ext4_view::DirEntry) -> Result<Item, String> {
        let about = entry.metadata().map_err(|e| e.to_string())?;
        let name = entry.file_name();
        let kind = match kind(about.file_type()) {
            ItemKind::Link(_) => {
                let to = self.0.read_link(&entry.path());
                ItemKind::Link(
                    to.map_or_else(|_| String::new(), |to| shown(&to.display().to_string())),
                )
            }
            kind => kind,
        };
        let changed = about.modified();
        Ok(Item {
            name: name.as_str().ok().map(str::to_owned),
            shown: shown(&name.display().to_string()),
            size: Bytes(if kind == ItemKind::File {
                about.len()
            } else {
                0
            }),
            kind,
            changed: Some(Moment(changed.seconds().saturating_mul(1000))),
        })
    }
}

impl Files for Ext {
    fn folder(&self, path: &str) -> Result<Found, String> {
        let mut found = Found::default();
        let all = self.0.read_dir(absolute(path).as_str());
        for entry in all.map_err(|e| e.to_string())? {
            let entry = entry.map_err(|e| e.to_string())?;
            if matches!(entry.file_name().as_str(), Ok("." | "..")) {
                continue;
            }
            found.add(self.item(&entry)?);
        }
        Ok(found)
    }

    fn file(&self, path: &str, take: &mut dyn Take) -> Result<(), String> {
        let mut file = self
            .0
            .open(absolute(path).as_str())
            .map_err(|e| e.to_string())?;
        take.length(file.metadata().len())?;
        let mut piece = vec![0; PIECE];
        loop {
            let mut filled = 0;
            // It gives a block at a time.
            while filled < PIECE {
                match file
                    .read_bytes(&mut piece[filled..])
                    .map_err(|e| e.to_string())?
                {
                    0 => break,
                    n => filled += n,
                }
            }
            if filled == 0 {
                return Ok(());
            }
            take.piece(&piece[..filled])?;
        }
    }
}
