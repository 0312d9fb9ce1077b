//! Exports for backups: file systems that are mounted beneath one directory, by their names there. Nothing else of this machine is ever
//! a place for a store.

use std::{
    os::unix::fs::MetadataExt,
    path::{Path, PathBuf},
};
use zastrugi_core::{
    evidence::{Answer, SeenExport},
    units::Bytes,
};

/// More of one directory are not looked at.
const MOST: usize = 200;

/// A directory in which exports are mounted; none: there are none.
#[derive(Debug, Clone, Default)]
pub struct Exports(pub Option<PathBuf>);

impl Exports {
    /// What there is, by name.
    pub(crate) fn list(&self) -> Answer {
        let silent = |why: String| Answer::Silent { why };
        let Some(dir) = &self.0 else {
            return silent(
                "this manager was started without a directory of exports (--exports)".into(),
            );
        };
        let names = std::fs::read_dir(dir).map(|all| {
            let names = all
                .flatten()
                .filter_map(|e| e.file_name().into_string().ok());
            let mut names: Vec<String> = names.filter(|n| is_name(n)).take(MOST).collect();
            names.sort();
            names
        });
        match names {
            Err(error) => silent(format!("its directory of exports can't be read: {error}")),
            Ok(names) => Answer::Exports {
                all: names.into_iter().filter_map(|n| seen(dir, n)).collect(),
            },
        }
    }

    /// Where one is, with a folder in it.
    pub(crate) fn path(&self, export: &str, folder: &str) -> Option<PathBuf> {
        let mut path = self.0.clone()?.join(Some(export).filter(|e| is_name(e))?);
        for part in folder.split('/').filter(|p| !p.is_empty()) {
            path.push(Some(part).filter(|p| is_name(p))?);
        }
        Some(path)
    }
}

/// Nothing by which one gets out of the directory.
fn is_name(name: &str) -> bool {
    let odd = |c: char| c == '/' || c == '\\' || c.is_control();
    !name.is_empty() && !name.starts_with('.') && !name.contains(odd)
}

/// None: it is no directory.
fn seen(dir: &Path, name: String) -> Option<SeenExport> {
    let path = dir.join(&name);
    let (own, around) = (path.metadata().ok()?, dir.metadata().ok()?);
    let room = rustix::fs::statvfs(&path).ok().filter(|_| own.is_dir())?;
    let bytes = |blocks: u64| Bytes(blocks.saturating_mul(room.f_frsize));
    Some(SeenExport {
        mounted: own.dev() != around.dev(),
        size: bytes(room.f_blocks),
        free: bytes(room.f_bavail),
        name,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, whoever makes a store writes anywhere on the manager's machine.
    #[test]
    fn nobody_gets_out_of_the_directory() {
        let dir = tempfile::tempdir().unwrap();
        std::fs::create_dir(dir.path().join("nfs-a")).unwrap();
        std::fs::write(dir.path().join("a-file"), "x").unwrap();
        let exports = Exports(Some(dir.path().to_owned()));
        let Answer::Exports { all } = exports.list() else {
            panic!("none");
        };
        assert_eq!(
            all.iter().map(|e| e.name.as_str()).collect::<Vec<_>>(),
            ["nfs-a"]
        );
        assert!(!all[0].mounted && all[0].size >= all[0].free && all[0].size.0 > 0);
        assert_eq!(
            exports.path("nfs-a", "/x/y/"),
            Some(dir.path().join("nfs-a/x/y"))
        );
        for (export, folder) in [
            ("..", ""),
            ("a/b", ""),
            ("", ""),
            ("nfs-a", "../.."),
            ("nfs-a", "x/../y"),
            (".x", ""),
        ] {
            assert_eq!(exports.path(export, folder), None, "{export} {folder}");
        }
        assert!(matches!(Exports(None).list(), Answer::Silent { .. }));
    }
}
