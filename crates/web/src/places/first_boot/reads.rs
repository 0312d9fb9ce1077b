//! What the guest of one machine reads, to the letter; but for the password, of which there is only a hash.

use super::outcome;
use crate::frame::{AtDesk, Page, Problem, Signed, page as whole};
use askama::Template;
use rocket::get;
use zastrugi_core::{first_boot::told, ids::FirstBootId};
use zastrugi_formats::seed::{cards, files};

#[derive(Template)]
#[template(path = "places/first_boot/reads.html")]
struct Reads {
    id: u64,
    name: String,
    version: u32,
    machine: String,
    /// The machine, where there is one of this name.
    machine_id: Option<u64>,
    /// Why it can't be told.
    wrong: String,
    /// File name with its text.
    files: Vec<(&'static str, String)>,
    /// Where it was told just this: glyph, words, and what its guest says line by line.
    outcome: Option<(&'static str, String)>,
    done: Vec<String>,
}

/// What stands for the hash.
const HASH: &str = "(the hash that is kept)";

#[get("/first-boot/<id>/reads?<machine>&<version>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, machine: &str, version: u32) -> Page {
    let view = desk.look();
    let document = view.estate.first_boots.get(&FirstBootId(id));
    let document = document.ok_or_else(|| Problem::not_found("This document"))?;
    let edition = document
        .version(version)
        .ok_or_else(|| Problem::not_found("This version"))?;
    let found = view.estate.machine_named(machine.trim());
    let told = match &found {
        None => Err(format!("There is no machine {}.", machine.trim())),
        Some(m) => told(edition, m, &view.estate),
    };
    let mut body = Reads {
        id,
        name: document.name.clone(),
        version,
        machine: machine.trim().chars().take(80).collect(),
        machine_id: found.as_ref().map(|m| m.id.0),
        wrong: String::new(),
        files: vec![],
        outcome: None,
        done: vec![],
    };
    match (told, &found) {
        (Ok(told), Some(m)) => {
            let hash = told.user.as_ref().and_then(|u| u.password).map(|_| HASH);
            let all = files(&m.uuid.to_string(), &cards(&view.estate, m), &told, hash);
            let all = all.with(&m.name, &m.properties);
            body.files = vec![
                ("meta-data", pretty(&all.meta_data)),
                ("user-data", pretty(&all.user_data)),
                ("network-config", pretty(&all.network_config)),
            ];
            body.files
                .extend(all.environment.map(|text| ("ovf-env.xml", text)));
            let told = m
                .first_boot
                .as_ref()
                .filter(|b| b.document.0 == id && b.version == version);
            body.outcome = told.map(|_| outcome(m));
            body.done = told
                .and_then(|b| b.applied.as_ref())
                .map(|a| a.done.clone())
                .unwrap_or_default();
        }
        (Err(words), _) => body.wrong = words,
        (Ok(_), None) => {}
    }
    let title = format!("{} {version} for {}", body.name, body.machine);
    whole(&signed, desk, "machines", &title, &body)
}

/// The same value, with a line for each thing.
fn pretty(text: &str) -> String {
    let (head, json) = match text.split_once('\n') {
        Some((head, rest)) if head.starts_with('#') => (format!("{head}\n"), rest),
        _ => (String::new(), text),
    };
    let value: Option<serde_json::Value> = serde_json::from_str(json).ok();
    let lines = value.and_then(|v| serde_json::to_string_pretty(&v).ok());
    format!("{head}{}", lines.unwrap_or_else(|| json.to_owned()))
}
