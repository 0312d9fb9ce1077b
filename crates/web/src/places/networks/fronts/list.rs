//! All fronts and load balancers of a site.

use super::state;
use askama::Template;
use std::net::SocketAddr;
use zastrugi_core::{estate::Balancer, view::View};

struct FrontRow {
    id: u64,
    name: String,
    glyph: &'static str,
    words: String,
    at: String,
    protocol: &'static str,
    label: String,
    balancer: String,
}

struct BalancerRow {
    id: u64,
    name: String,
    glyph: &'static str,
    words: String,
    site: String,
    address: String,
    software: String,
    fronts: usize,
}

#[derive(Template)]
#[template(path = "places/networks/fronts/list.html")]
pub(crate) struct Fronts {
    fronts: Vec<FrontRow>,
    balancers: Vec<BalancerRow>,
    may: bool,
}

/// `at`: whether a site is looked at.
pub(crate) fn of(view: &View, at: &dyn Fn(u64) -> bool, may: bool) -> Fronts {
    let estate = &view.estate;
    let here = |b: &Balancer| at(b.site.0);
    let balancers = estate.balancers.values().filter(|b| here(b)).map(|b| {
        let (glyph, words) = match (b.known, &b.access.silent) {
            (false, _) => ("busy", "being connected".to_owned()),
            (true, None) => ("steady", "steady".to_owned()),
            (true, Some(why)) => ("unknown", format!("silent: {why}")),
        };
        BalancerRow {
            id: b.id.0,
            name: b.name.clone(),
            glyph,
            words,
            site: estate
                .sites
                .get(&b.site)
                .map_or_else(String::new, |s| s.name.clone()),
            address: b.access.address.clone(),
            software: b.software.clone(),
            fronts: estate
                .fronts
                .values()
                .filter(|f| f.balancer == b.id)
                .count(),
        }
    });
    let on = |id| estate.balancers.get(&id);
    let fronts = estate
        .fronts
        .values()
        .filter(|f| on(f.balancer).is_none_or(|b| here(b)))
        .map(|f| {
            let (glyph, words) = state(estate, f);
            FrontRow {
                id: f.id.0,
                name: f.name.clone(),
                glyph,
                words,
                at: SocketAddr::new(f.address, f.port).to_string(),
                protocol: f.manner.protocol.word(),
                label: f.label.to_string(),
                balancer: on(f.balancer).map_or_else(String::new, |b| b.name.clone()),
            }
        });
    let mut all = Fronts {
        fronts: fronts.collect(),
        balancers: balancers.collect(),
        may,
    };
    all.fronts.sort_by(|a, b| a.name.cmp(&b.name));
    all.balancers.sort_by(|a, b| a.name.cmp(&b.name));
    all
}
