//! The sheet for claiming found hosts.

use super::look::grouped;
use crate::frame::AtDesk;
use crate::frame::consequences::Wrong;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::rooms::{hosts, joining};
use zastrugi_core::runs::FaultKind;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::{Answer, Probe},
    ids::ClusterId,
    rooms::Proposal,
    rooms::hosts::ClaimHosts,
    view::View,
};

/// A host that answered, with the fingerprint that the person was shown.
pub(crate) struct TargetRow {
    pub(crate) address: String,
    pub(crate) pin: String,
    pub(crate) shown_pin: String,
    pub(crate) name: String,
    pub(crate) chosen: bool,
}

/// Those that are chosen.
pub(crate) fn endpoints(targets: &[TargetRow]) -> Vec<Endpoint> {
    let chosen = targets.iter().filter(|t| t.chosen);
    chosen
        .map(|t| Endpoint {
            address: (&t.address).into(),
            pin: (&t.pin).into(),
        })
        .collect()
}

#[derive(Template)]
#[template(path = "places/hosts/claim.html")]
struct ClaimFields {
    targets: Vec<TargetRow>,
    site: String,
    sites: Vec<String>,
    /// The cluster that they join at once; 0: none.
    cluster: u64,
    clusters: Vec<(u64, String)>,
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
pub(crate) fn targets(view: &View, fields: &Fields) -> Vec<TargetRow> {
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
    let claim = ClaimHosts {
        targets: endpoints(&targets),
        site: (&site).into(),
        password: if fields.secret("password").is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
    };
    let mut clusters: Vec<_> = view.estate.clusters.values().filter(|c| c.ready).collect();
    clusters.sort_by(|a, b| a.name.cmp(&b.name));
    let into = fields.get("cluster").parse().ok().map(ClusterId);
    let into = clusters.iter().find(|c| Some(c.id) == into);
    let joins = into.map_or_else(String::new, |c| format!(", join {}", c.name));
    let ask = match into {
        None => Proposal::Hosts(hosts::Ask::Claim(claim)),
        Some(cluster) => Proposal::Joining(joining::Ask::Welcome {
            claim,
            cluster: cluster.id,
        }),
    };
    let count = targets.iter().filter(|t| t.chosen).count();
    Filled {
        title: "Claim hosts".into(),
        lead: "Compare the fingerprints with the hosts' own screens before you type the password."
            .into(),
        run: format!(
            "Run: claim {count} {}{joins}",
            if count == 1 { "host" } else { "hosts" }
        ),
        danger: false,
        back: "/hosts/look".into(),
        fields: render(&ClaimFields {
            targets,
            site,
            sites,
            cluster: into.map_or(0, |c| c.id.0),
            clusters: clusters.iter().map(|c| (c.id.0, c.name.clone())).collect(),
        }),
        ask,
        wrong: vec![],
    }
}

/// Who answers at the addresses that were chosen.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        if !fields.has("sent") {
            desk.greet(&addresses(fields)).await;
        }
    })
}

/// The password is tried on each host, once, before it is kept.
pub(crate) fn check<'a>(
    desk: &'a AtDesk,
    ask: &'a Proposal,
    fields: &'a Fields,
) -> BoxFuture<'a, Result<(), Wrong>> {
    Box::pin(async move {
        let claim = match ask {
            Proposal::Hosts(hosts::Ask::Claim(claim))
            | Proposal::Joining(joining::Ask::Welcome { claim, .. }) => claim,
            _ => return Ok(()),
        };
        let targets = claim.targets.iter();
        let targets: Vec<_> = targets
            .map(|t| (t.address.to_string(), t.pin.to_string()))
            .collect();
        let checked = desk
            .check_password(&targets, fields.secret("password"))
            .await;
        checked.map_err(|(address, fault)| {
            let field = if fault.kind == FaultKind::Password {
                "password"
            } else {
                "hosts"
            };
            let words = format!("{address}: {} {}", fault.said, fault.remedy);
            (field.to_owned(), words)
        })
    })
}
