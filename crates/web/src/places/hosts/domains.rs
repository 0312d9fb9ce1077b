//! The sheet for fault domains: a line of CSV for each host says its rack, chassis and power feed.

use super::change::relabel;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::rooms::edits;
use zastrugi_core::{estate::Host, ids::HostId, rooms::Proposal, rooms::edits::Set, view::View};

#[derive(Template)]
#[template(path = "places/hosts/domains_domain_fields.html")]
struct DomainFields {
    rows: String,
}

/// What is recorded, as lines of CSV.
fn recorded(view: &View) -> String {
    let mut hosts: Vec<_> = view.estate.hosts.values().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let cell = |h: &Host, kind: &str| h.labels.get(kind).cloned().unwrap_or_default();
    let line = |h: &&std::sync::Arc<Host>| {
        let [rack, chassis, feed] = Host::DOMAINS.map(|kind| cell(h, kind));
        [h.name.clone(), rack, chassis, feed]
    };
    let text =
        zastrugi_formats::csv::write(["host", "rack", "chassis", "feed"], hosts.iter().map(line));
    text.replace("\r\n", "\n")
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let rows = fields.or("rows", &recorded(view));
    let mut wrong = Vec::new();
    let mut edits = Vec::new();
    match zastrugi_formats::csv::read::<4>(&rows) {
        Err(words) => wrong.push(("rows".into(), words)),
        Ok(lines) => {
            let mut seen: BTreeMap<String, u64> = BTreeMap::new();
            for (n, cells) in lines {
                let name = cells[0].trim().to_owned();
                if let Some(before) = seen.insert(name.clone(), n).filter(|_| !name.is_empty()) {
                    let words = format!(
                        "Lines {before} and {n} are both about {name}; one of them is one too many."
                    );
                    wrong.push(("rows".into(), words));
                }
                match edit(view, &cells) {
                    Ok(Some(found)) => edits.push(found),
                    Ok(None) => {}
                    Err(words) => wrong.push(("rows".into(), format!("Line {n}: {words}"))),
                }
            }
        }
    }
    wrong.truncate(1);
    Filled {
        title: "Fault domains".into(),
        lead: "What fails together: racks, chassis and power feeds.".into(),
        run: "Run: record it".into(),
        danger: false,
        back: "/hosts".into(),
        fields: render(&DomainFields { rows }),
        ask: Proposal::Edits(edits::Ask::Hosts(edits)),
        wrong,
    }
}

/// What a line changes; none if nothing.
fn edit(view: &View, cells: &[String; 4]) -> Result<Option<(HostId, Vec<Set>)>, String> {
    let name = cells[0].trim();
    if name.is_empty() || name == "host" {
        return Ok(None);
    }
    let host = view
        .estate
        .host_named(name)
        .ok_or_else(|| format!("there is no host {name}."))?;
    let mut then = host.labels.clone();
    for (kind, cell) in Host::DOMAINS.iter().zip(&cells[1..]) {
        match cell.trim() {
            "" => drop(then.remove(*kind)),
            value if value.contains(char::is_whitespace) => {
                return Err(format!("“{value}” has a space in it."));
            }
            value => drop(then.insert((*kind).to_owned(), value.to_owned())),
        }
    }
    let sets = relabel(&host.labels, &then);
    Ok((!sets.is_empty()).then_some((host.id, sets)))
}
