//! House rules that no other tool checks: the arrows between crates, file sizes, what ARCHITECTURE.md names.

use crate::shell::{Failed, ask, root};
use std::{
    fs,
    path::{Path, PathBuf},
};

/// A file longer than this (tests apart) is two files.
const LONGEST: usize = 700;

pub(crate) fn run() -> Result<(), Failed> {
    let mut wrong = Vec::new();
    arrows(&mut wrong);
    sizes(&mut wrong)?;
    folders(&mut wrong)?;
    if wrong.is_empty() {
        return Ok(());
    }
    Err(Failed::Words(format!(
        "House rules:\n  {}",
        wrong.join("\n  ")
    )))
}

/// (crate, what must not be below it)
const FORBIDDEN: [(&str, &[&str]); 4] = [
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
