//! The sheet for claiming found hosts.

use super::look::grouped;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    evidence::{Answer, Probe},
    proposal::{ClaimHosts, ClaimTarget, Password, Proposal},
    view::View,
};

struct TargetRow {
    address: String,
    pin: String,
    shown_pin: String,
    name: String,
    chosen: bool,
}

#[derive(Template)]
#[template(path = "places/hosts/claim.html")]
struct ClaimFields {
    targets: Vec<TargetRow>,
    site: String,
    sites: Vec<String>,
}

/// The addresses that the sheet is about.
pub(crate) fn addresses(fields: &Fields) -> Vec<String> {
    fields
        .all("at")
        .flat_map(|v| v.split(','))
        .filter(|a| !a.is_empty())
        .map(str::to_owned)
        .collect()
}

/// The fingerprint that the person was shown: from the form once it was shown, else what the host says now.
fn targets(view: &View, fields: &Fields) -> Vec<TargetRow> {
    let chosen: Vec<&str> = fields.all("host").collect();
    addresses(fields)
        .into_iter()
        .map(|address| {
            let answer = view
                .evidence
                .answers
                .get(&Probe::Greeting(address.clone()))
                .map(|e| &e.answer);
            let (name, now) = match answer {
                Some(Answer::Greeting(g)) => (g.name.clone(), g.pin.clone()),
                _ => (String::new(), String::new()),
            };
            let pin = fields.or(&format!("pin:{address}"), &now);
            TargetRow {
                shown_pin: grouped(&pin),
                chosen: !fields.has("sent") || chosen.contains(&address.as_str()),
                pin,
                name,
                address,
            }
        })
        .collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let targets = targets(view, fields);
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or("site", sites.first().map_or("", String::as_str));
    let ask = Proposal::ClaimHosts(ClaimHosts {
        targets: targets
            .iter()
            .filter(|t| t.chosen)
            .map(|t| ClaimTarget {
                address: t.address.clone(),
                pin: t.pin.clone(),
            })
            .collect(),
        site: site.clone(),
        password: if fields.get("password").is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
    });
    let count = targets.iter().filter(|t| t.chosen).count();
    Filled {
        title: "Claim hosts".into(),
        lead: "Compare the fingerprints with the hosts' own screens before you type the password."
            .into(),
        run: format!(
            "Run: claim {count} {}",
            if count == 1 { "host" } else { "hosts" }
        ),
        danger: false,
        back: "/hosts/look".into(),
        fields: render(&ClaimFields {
            targets,
            site,
            sites,
        }),
        ask,
        wrong: vec![],
    }
}
