//! Styles, scripts and fonts for the browser.

use crate::{
    install,
    shell::{Failed, root, run},
};
use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    time::SystemTime,
};

/// Builds them if a source is newer than the last build, or if told to.
pub(crate) fn build(always: bool) -> Result<(), Failed> {
    let dir = root().join("crates/web/assets");
    let made = fs::metadata(dir.join("dist/manifest.json"))
        .and_then(|m| m.modified())
        .ok();
    if !always
        && made.is_some_and(|made| {
            newest(&dir) < made && newest(&root().join("crates/web/src")) < made
        })
    {
        return Ok(());
    }
    install::node()?;
    if outdated(&dir) {
        // Not `npm ci`: a lock file without addresses leaves out other platforms' optional packages, which it then misses.
        run(Command::new("npm")
            .args([
                "install",
                "--no-save",
                "--no-audit",
                "--no-fund",
                "--silent",
            ])
            .current_dir(&dir))?;
        // It is not written when nothing was missing.
        let mark = fs::File::options()
            .append(true)
            .open(dir.join("node_modules/.package-lock.json"))?;
        mark.set_modified(SystemTime::now())?;
    }
    run(Command::new("node").arg("build.mjs").current_dir(&dir))
}

/// Whether packages are missing: never installed, or another list since.
fn outdated(dir: &Path) -> bool {
    let changed = |name: &str| fs::metadata(dir.join(name)).and_then(|m| m.modified()).ok();
    let had = changed("node_modules/.package-lock.json");
    had.is_none() || had < changed("package.json")
}

/// When the newest source was changed.
fn newest(dir: &Path) -> SystemTime {
    let mut newest = SystemTime::UNIX_EPOCH;
    let mut open: Vec<PathBuf> = vec![dir.to_owned()];
    while let Some(dir) = open.pop() {
        for entry in fs::read_dir(&dir).into_iter().flatten().flatten() {
            let path = entry.path();
            let name = entry.file_name();
            if path.is_dir() {
                if name != "node_modules" && name != "dist" {
                    open.push(path);
                }
            } else if path.extension().is_some_and(|e| {
                ["html", "css", "js", "mjs", "svg", "json"]
                    .iter()
                    .any(|x| e == *x)
            }) {
                newest = newest.max(
                    entry
                        .metadata()
                        .and_then(|m| m.modified())
                        .unwrap_or(newest),
                );
            }
        }
    }
    newest
}
