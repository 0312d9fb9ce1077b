//! FAT12, FAT16 and FAT32, with long names.

use super::{Files, Found, PIECE, Take, disk::Window};
use fatfs::{Dir, FileSystem, FsOptions};
use jiff::civil;
use std::io::Read;
use zastrugi_core::{
    estate::{Item, ItemKind, shown},
    moment::Moment,
    units::Bytes,
};

pub(super) struct Fat(FileSystem<Window>);

fn open(of: Window) -> std::io::Result<FileSystem<Window>> {
    FileSystem::new(of, FsOptions::new().update_accessed_date(false))
}

/// What its file system is called; nothing where it is not or can't be read.
pub(super) fn label(of: Window) -> String {
    let label = open(of).and_then(|fs| fs.read_volume_label_from_root_dir());
    let label = label.ok().flatten().unwrap_or_default();
    label.trim().to_owned()
}

/// It keeps no zone; taken as UTC. None where it is no time.
fn instant(of: fatfs::DateTime) -> Option<Moment> {
    let small = |n: u16| i8::try_from(n).ok();
    let date = civil::Date::new(
        i16::try_from(of.date.year).ok()?,
        small(of.date.month)?,
        small(of.date.day)?,
    );
    let time = civil::Time::new(
        small(of.time.hour)?,
        small(of.time.min)?,
        small(of.time.sec)?,
        0,
    );
    let at = civil::DateTime::from_parts(date.ok()?, time.ok()?);
    let stamp = jiff::tz::TimeZone::UTC.to_timestamp(at).ok()?;
    Some(Moment(stamp.as_millisecond()))
}

impl Fat {
    pub(super) fn open(of: Window) -> Result<Fat, String> {
        open(of).map(Fat).map_err(|e| e.to_string())
    }

    fn dir(&self, path: &str) -> Result<Dir<'_, Window>, String> {
        let root = self.0.root_dir();
        match path.trim_matches('/') {
            "" => Ok(root),
            path => root.open_dir(path).map_err(|e| e.to_string()),
        }
    }
}

impl Files for Fat {
    fn folder(&self, path: &str) -> Result<Found, String> {
        let mut found = Found::default();
        for entry in self.dir(path)?.iter() {
            let entry = entry.map_err(|e| e.to_string())?;
            let name = entry.file_name();
            if name == "." || name == ".." {
                continue;
            }
            found.add(Item {
                shown: shown(&name),
                name: Some(name),
                kind: if entry.is_dir() {
                    ItemKind::Folder
                } else {
                    ItemKind::File
                },
                size: Bytes(if entry.is_dir() { 0 } else { entry.len() }),
                changed: instant(entry.modified()),
            });
        }
        Ok(found)
    }

    fn file(&self, path: &str, take: &mut dyn Take) -> Result<(), String> {
        let path = path.trim_matches('/');
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let mut all = self.dir(folder)?.iter();
        let missing = || format!("there is no file {}", shown(path));
        let entry = all.find_map(|e| match e {
            Ok(e) if e.is_file() && e.file_name() == name => Some(Ok(e)),
            Ok(_) => None,
            Err(e) => Some(Err(e.to_string())),
        });
        let entry = entry.ok_or_else(missing)??;
        take.length(entry.len())?;
        let mut file = entry.to_file();
        let mut piece = vec![0; PIECE];
        loop {
            let n = file.read(&mut piece).map_err(|e| e.to_string())?;
            if n == 0 {
                return Ok(());
            }
            take.piece(&piece[..n])?;
        }
    }
}
