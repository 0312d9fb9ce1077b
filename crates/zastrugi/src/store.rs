//! A backup store, with nothing but its place and its key: what is in it, whether it is whole, and machines out of it.

use crate::args::{At, Store as Args, StoreWhat};
use jiff::Timestamp;
use std::path::Path;
use zastrugi_core::units::Bytes;
use zastrugi_drivers::backup::{Bucket, Checked, Deep, Entry, Place, Store};
use zastrugi_formats::backup::{Consistency, Key, Manifest};

/// More are not told one by one.
const TOLD: usize = 50;

/// # Errors
/// What is wrong, in words; also where a store that was checked is not whole.
pub(crate) async fn store(args: &Args) -> Result<String, String> {
    match &args.what {
        StoreWhat::List { at, machine } => list(&open(at).await?, machine.as_deref()).await,
        StoreWhat::Check { at, read } => {
            let deep = if *read { Deep::Bytes } else { Deep::Names };
            let store = open(at).await?;
            let checked = store.check(deep).await.map_err(|e| e.to_string())?;
            let text = found(&checked, *read, store.lock().is_some());
            match checked.problems.is_empty() {
                true => Ok(text),
                false => Err(text),
            }
        }
        StoreWhat::Restore {
            at,
            machine,
            point,
            out,
        } => restore(&open(at).await?, machine, point.as_deref(), out).await,
    }
}

fn read(path: &Path) -> Result<String, String> {
    let text = std::fs::read_to_string(path).map_err(|e| format!("{}: {e}", path.display()))?;
    Ok(text.trim().to_owned())
}

async fn open(at: &At) -> Result<Store, String> {
    let key =
        Key::read(&read(&at.key_file)?).map_err(|e| format!("{}: {e}", at.key_file.display()))?;
    let place = match at.place.split_once("://") {
        None => Place::Folder(at.place.as_str().into()),
        Some((scheme, rest)) => {
            let mut parts = rest.splitn(3, '/');
            let (host, name) = (
                parts.next().unwrap_or_default(),
                parts.next().unwrap_or_default(),
            );
            if name.is_empty() {
                return Err(format!(
                    "“{}” names no bucket; it is an address such as https://10.20.0.9:9443/bucket/folder",
                    at.place
                ));
            }
            let missing = |what: &str| format!("a bucket needs --{what}");
            Place::Bucket(Bucket {
                endpoint: format!("{scheme}://{host}"),
                region: at.region.clone(),
                name: name.to_owned(),
                prefix: parts
                    .next()
                    .unwrap_or_default()
                    .trim_matches('/')
                    .to_owned(),
                access: at.access.clone().ok_or_else(|| missing("access"))?,
                secret: read(
                    at.secret_file
                        .as_ref()
                        .ok_or_else(|| missing("secret-file"))?,
                )?,
                pin: at.pin.clone().ok_or_else(|| missing("pin"))?,
            })
        }
    };
    Store::open(&place, &key)
        .await
        .map_err(|e| format!("{}: {e}", at.place))
}

fn when(instant: u64) -> String {
    let at = i64::try_from(instant)
        .ok()
        .and_then(|ms| Timestamp::from_millisecond(ms).ok());
    at.map_or_else(|| instant.to_string(), |at| at.to_string())
}

fn consistent(how: Consistency) -> &'static str {
    match how {
        Consistency::Off => "taken while it was off",
        Consistency::Quiet => "its file systems stood still",
        Consistency::Crash => "as after a power cut",
    }
}

fn is_of(manifest: &Manifest, machine: &str) -> bool {
    manifest.machine.name == machine || manifest.machine.uuid.to_string() == machine
}

async fn list(store: &Store, machine: Option<&str>) -> Result<String, String> {
    let mut lines = vec![];
    for entry in store.points(None).await.map_err(|e| e.to_string())? {
        match store.manifest(&entry.named).await {
            Ok(m) if machine.is_some_and(|wanted| !is_of(&m, wanted)) => {}
            Ok(m) => lines.push(format!(
                "{}  {}  {}  {}, {} new, {}{}",
                when(m.instant),
                m.machine.name,
                m.session,
                Bytes(m.size()),
                Bytes(m.measured.stored),
                consistent(m.consistency),
                m.locked
                    .map_or_else(String::new, |l| format!(", locked until {}", when(l.until)))
            )),
            Err(why) => lines.push(format!(
                "{}  {}  {}",
                when(entry.named.instant),
                entry.named.machine,
                why
            )),
        }
    }
    if lines.is_empty() {
        lines.push("There is no such recovery point.".to_owned());
    }
    Ok(lines.join("\n"))
}

fn found(checked: &Checked, read: bool, locks: bool) -> String {
    let how = if read { "read" } else { "there" };
    let mut lines = vec![format!(
        "{} recovery points, {} chunks of {} in all: every one looked for, {} {how}",
        checked.points,
        checked.chunks,
        Bytes(checked.stored),
        checked.chunks.saturating_sub(checked.problems.len()),
    )];
    if checked.loose > 0 {
        let when = match locks {
            true => " once they are not locked",
            false => "",
        };
        lines.push(format!(
            "{} chunks are of no recovery point; a sweep takes them away{when}",
            checked.loose
        ));
    }
    lines.extend(checked.problems.iter().take(TOLD).map(|p| {
        let at =
            p.at.map_or_else(String::new, |(n, at)| format!(", disk {n} from byte {at}"));
        format!("{} of {}{at}: {}", when(p.instant), p.machine, p.why)
    }));
    if checked.problems.len() > TOLD {
        lines.push(format!("and {} more", checked.problems.len() - TOLD));
    }
    lines.join("\n")
}

async fn restore(
    store: &Store,
    machine: &str,
    point: Option<&str>,
    out: &Path,
) -> Result<String, String> {
    let all = store.points(None).await.map_err(|e| e.to_string())?;
    // The newest first.
    let mut all: Vec<Entry> = all;
    all.sort_by_key(|e| std::cmp::Reverse(e.named.instant));
    for entry in all {
        if point.is_some_and(|p| entry.named.session.to_string() != p) {
            continue;
        }
        let manifest = store
            .manifest(&entry.named)
            .await
            .map_err(|e| e.to_string())?;
        if !is_of(&manifest, machine) {
            continue;
        }
        let made = store
            .restore(&manifest, out)
            .await
            .map_err(|e| e.to_string())?;
        let mut lines = vec![format!(
            "{} as of {}, {}:",
            manifest.machine.name,
            when(manifest.instant),
            consistent(manifest.consistency)
        )];
        lines.extend(made.iter().map(|p| p.display().to_string()));
        return Ok(lines.join("\n"));
    }
    Err(format!(
        "{machine} has no such recovery point here; `list` tells of those there are"
    ))
}
