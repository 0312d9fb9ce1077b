//! House rules that no other tool checks: the arrows between crates, file sizes, what ARCHITECTURE.md names.

use crate::shell::{Failed, ask, root};
use std::{
    fs,
    path::{Path, PathBuf},
};

/// A line of a template longer than this is several.
const WIDEST: usize = 120;

/// A file longer than this (tests apart) is two files.
const LONGEST: usize = 700;

pub(crate) fn run() -> Result<(), Failed> {
    let mut wrong = Vec::new();
    arrows(&mut wrong);
    sizes(&mut wrong)?;
    folders(&mut wrong)?;
    floors(&mut wrong)?;
    if wrong.is_empty() {
        return Ok(());
    }
    Err(Failed::Words(format!(
        "House rules:\n  {}",
        wrong.join("\n  ")
    )))
}

/// (crate, what must not be below it)
const FORBIDDEN: [(&str, &[&str]); 5] = [
    (
        "zastrugi-keeper",
        &["sqlx", "rocket", "zastrugi-store", "zastrugi-engine"],
    ),
    (
        "zastrugi-core",
        &["tokio", "sqlx", "rocket", "reqwest", "zastrugi-"],
    ),
    ("zastrugi-standins", &["zastrugi-core", "sqlx", "rocket"]),
    ("zastrugi-drivers", &["sqlx", "rocket"]),
    ("zastrugi-formats", &["tokio", "sqlx", "rocket"]),
];

fn arrows(wrong: &mut Vec<String>) {
    for (name, banned) in FORBIDDEN {
        let Some(tree) = ask(
            "cargo",
            &[
                "tree",
                "--quiet",
                "--package",
                name,
                "--edges",
                "normal",
                "--prefix",
                "none",
                "--offline",
            ],
        ) else {
            continue;
        };
        for line in tree.lines().skip(1) {
            let dependency = line.split(' ').next().unwrap_or_default();
            if banned
                .iter()
                .any(|b| dependency == *b || (b.ends_with('-') && dependency.starts_with(b)))
            {
                wrong.push(format!("{name} must not depend on {dependency}"));
            }
        }
    }
}

fn sources(dir: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(dir).into_iter().flatten().flatten() {
        let path = entry.path();
        if path.is_dir() {
            if !["target", "node_modules", "dist"]
                .iter()
                .any(|skip| path.ends_with(skip))
            {
                sources(&path, found);
            }
        } else if path
            .extension()
            .is_some_and(|e| e == "rs" || e == "html" || e == "sql")
        {
            found.push(path);
        }
    }
}

fn sizes(wrong: &mut Vec<String>) -> Result<(), Failed> {
    let mut files = Vec::new();
    sources(&root().join("crates"), &mut files);
    for file in files {
        let text = fs::read_to_string(&file)?;
        let code = text
            .split("#[cfg(test)]\nmod tests")
            .next()
            .unwrap_or_default()
            .lines()
            .count();
        if code > LONGEST && !file.components().any(|c| c.as_os_str() == "tests") {
            wrong.push(format!(
                "{} has {code} lines; at most {LONGEST}",
                file.display()
            ));
        }
        if file.extension().is_some_and(|e| e == "html") {
            let wide = |(_, line): &(usize, &str)| line.chars().count() > WIDEST;
            if let Some((n, _)) = text.lines().enumerate().find(wide) {
                let (file, n) = (file.display(), n + 1);
                wrong.push(format!("{file}:{n} is wider than {WIDEST} columns"));
            }
        }
        let sql = file.extension().is_some_and(|e| e == "rs")
            && (text.contains("sqlx::query(") || text.contains("sqlx::query_scalar("));
        let may = file.components().any(|c| {
            ["store", "tests", "benches"]
                .iter()
                .any(|d| c.as_os_str() == *d)
        });
        if sql && !may {
            wrong.push(format!("{} has SQL; only the store may", file.display()));
        }
    }
    Ok(())
}

/// The floors inside core, lowest first: a file uses only those beneath its own, and a room no other room.
const FLOORS: [&[&str]; 7] = [
    &[
        "ids",
        "macs",
        "units",
        "moment",
        "finding",
        "permits",
        "epoch",
        "endpoint",
        "names",
        "layers",
        "expression",
        "ovf",
    ],
    &["estate", "addressing", "migration"],
    &["runs", "evidence", "inventory", "loads", "view"],
    &[
        "availability",
        "balance",
        "booting",
        "copying",
        "crossing",
        "first_boot",
        "flows",
        "forecast",
        "migration",
        "fronts",
        "packing",
        "pairing",
        "placement",
        "pledges",
        "pooled",
        "shared",
        "spares",
    ],
    &["guard"],
    &["road"],
    &["rooms", "observe", "recounting", "testkit", "papers"],
];

/// Rooms whose steps are steps of other rooms, in one run; all others know of themselves alone.
const COMPOSED: [&str; 15] = [
    "backups",
    "building",
    "drilling",
    "growing",
    "handover",
    "joining",
    "leaving",
    "maintenance",
    "providing",
    "proving",
    "replicating",
    "restocking",
    "restoring",
    "scheduled",
    "taking",
];

fn floors(wrong: &mut Vec<String>) -> Result<(), Failed> {
    let floor = |module: &str| FLOORS.iter().position(|f| f.contains(&module));
    let src = root().join("crates/core/src");
    let mut files = Vec::new();
    sources(&src, &mut files);
    for file in files {
        let inside = file.strip_prefix(&src).unwrap_or(&file);
        let mut parts = inside
            .components()
            .map(|c| c.as_os_str().to_string_lossy().into_owned());
        let own = parts.next().unwrap_or_default();
        let (own, room) = (
            own.trim_end_matches(".rs").to_owned(),
            parts.next().unwrap_or_default(),
        );
        let Some(mine) = floor(&own) else { continue };
        let text = fs::read_to_string(&file)?;
        for used in used_modules(&text) {
            let (module, rest) = used.split_once("::").unwrap_or((&used, ""));
            let other_room =
                own == "rooms" && module == "rooms" && !room.ends_with(".rs") && !room.is_empty();
            if floor(module).is_some_and(|theirs| theirs > mine) {
                wrong.push(format!(
                    "{} uses {module}, which is a floor above",
                    file.display()
                ));
            }
            if other_room && !COMPOSED.contains(&room.as_str()) {
                wrong.push(format!("{} uses another room: {rest}", file.display()));
            }
        }
    }
    Ok(())
}

/// What stands behind `crate::` in a file, tests apart.
fn used_modules(text: &str) -> Vec<String> {
    let code = text
        .split("#[cfg(test)]\nmod tests")
        .next()
        .unwrap_or_default();
    let mut used = Vec::new();
    for (at, _) in code.match_indices("crate::") {
        let rest = &code[at + "crate::".len()..];
        if let Some(list) = rest.strip_prefix('{') {
            let mut depth = 0;
            let mut word = String::new();
            for c in list.chars() {
                match c {
                    '{' => depth += 1,
                    '}' if depth == 0 => break,
                    '}' => depth -= 1,
                    ',' if depth == 0 => used.push(std::mem::take(&mut word)),
                    c if depth == 0 && !c.is_whitespace() => word.push(c),
                    _ => {}
                }
            }
            used.push(word);
        } else {
            used.push(
                rest.chars()
                    .take_while(|c| c.is_alphanumeric() || "_:".contains(*c))
                    .collect(),
            );
        }
    }
    used
}

/// Every folder that ARCHITECTURE.md names is there.
fn folders(wrong: &mut Vec<String>) -> Result<(), Failed> {
    let text = fs::read_to_string(root().join("ARCHITECTURE.md"))?;
    for word in text
        .split('`')
        .skip(1)
        .step_by(2)
        .filter(|w| w.starts_with("crates/") || w.starts_with("docs/"))
    {
        if !root().join(word).exists() {
            wrong.push(format!("ARCHITECTURE.md names {word}, which is not there"));
        }
    }
    Ok(())
}
