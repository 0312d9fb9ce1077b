//! What lies in a bucket that keeps versions: a folder for each key, and in it a file for each version.

use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::atomic::{AtomicU64, Ordering},
};

/// The newest number that was given.
static LAST: AtomicU64 = AtomicU64::new(0);

pub(super) struct Shelf {
    dir: PathBuf,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Version {
    /// Later ones are larger.
    pub(super) id: String,
    /// It only hides what is beneath.
    pub(super) marker: bool,
    pub(super) size: u64,
    path: PathBuf,
}

impl Version {
    /// Milliseconds since 1970.
    pub(super) fn made(&self) -> u64 {
        self.id.parse::<u64>().unwrap_or_default() / 1_000
    }

    pub(super) fn read(&self) -> io::Result<Vec<u8>> {
        fs::read(&self.path)
    }

    fn beside(&self) -> PathBuf {
        self.path.with_extension("until")
    }

    /// Until when it stays, in milliseconds since 1970.
    pub(super) fn until(&self) -> Option<u64> {
        fs::read_to_string(self.beside()).ok()?.parse().ok()
    }

    pub(super) fn retain(&self, until: u64) -> io::Result<()> {
        fs::write(self.beside(), until.to_string())
    }

    pub(super) fn remove(&self) -> io::Result<()> {
        if self.until().is_some() {
            fs::remove_file(self.beside())?;
        }
        fs::remove_file(&self.path)
    }
}

/// Microseconds since 1970, or one more than the last.
fn number(now: u64) -> u64 {
    let now = now * 1_000;
    let last = LAST.fetch_update(Ordering::SeqCst, Ordering::SeqCst, |last| {
        Some(now.max(last + 1))
    });
    last.map_or(now, |last| now.max(last + 1))
}

impl Shelf {
    /// # Errors
    /// When its folder can't be made.
    pub(super) fn at(dir: PathBuf) -> io::Result<Shelf> {
        fs::create_dir_all(&dir)?;
        Ok(Shelf { dir })
    }

    fn folder(&self, key: &str) -> Option<PathBuf> {
        let odd =
            |part: &str| part.is_empty() || part == "." || part == ".." || part.contains('\0');
        (!key.split('/').any(odd)).then(|| self.dir.join(key))
    }

    /// # Errors
    /// When it can't be written, or a folder can't be called so.
    pub(super) fn put(&self, key: &str, body: Option<&[u8]>, now: u64) -> io::Result<Version> {
        let folder = self.folder(key).ok_or(io::ErrorKind::InvalidInput)?;
        fs::create_dir_all(&folder)?;
        let id = format!("{:020}", number(now));
        let marker = body.is_none();
        let kind = if marker { "gone" } else { "version" };
        let path = folder.join(&id).with_extension(kind);
        let coming = path.with_extension("coming");
        fs::write(&coming, body.unwrap_or_default())?;
        fs::rename(&coming, &path)?;
        Ok(Version {
            id,
            marker,
            size: body.map_or(0, |b| b.len() as u64),
            path,
        })
    }

    /// Of a key, newest first.
    pub(super) fn versions(&self, key: &str) -> Vec<Version> {
        self.folder(key).map_or_else(Vec::new, |f| versions(&f))
    }

    pub(super) fn version(&self, key: &str, id: Option<&str>) -> Option<Version> {
        let mut all = self.versions(key).into_iter();
        match id {
            Some(id) => all.find(|v| v.id == id),
            None => all.next(),
        }
    }

    /// Keys that begin so, ascending.
    pub(super) fn keys(&self, start: &str) -> Vec<String> {
        let from = match start.rsplit_once('/') {
            Some((folder, _)) => self.folder(folder),
            None => Some(self.dir.clone()),
        };
        let mut all = Vec::new();
        if let Some(from) = from {
            walk(&self.dir, &from, &mut all);
        }
        all.retain(|key| key.starts_with(start));
        all.sort();
        all
    }
}

fn versions(folder: &Path) -> Vec<Version> {
    let entries = fs::read_dir(folder).into_iter().flatten().flatten();
    let version = |path: PathBuf| {
        let marker = match path.extension()?.to_str()? {
            "version" => false,
            "gone" => true,
            _ => return None,
        };
        Some(Version {
            id: path.file_stem()?.to_str()?.to_owned(),
            marker,
            size: fs::metadata(&path).ok()?.len(),
            path,
        })
    };
    let mut all: Vec<Version> = entries.filter_map(|e| version(e.path())).collect();
    all.sort_by(|a, b| b.id.cmp(&a.id));
    all
}

fn walk(root: &Path, at: &Path, all: &mut Vec<String>) {
    if !versions(at).is_empty() {
        let key = at.strip_prefix(root).ok();
        all.extend(key.map(|k| k.to_string_lossy().into_owned()));
    }
    for entry in fs::read_dir(at).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            walk(root, &path, all);
        }
    }
}
