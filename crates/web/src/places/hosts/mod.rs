//! Hosts: the list, looking for new ones, one host's page, and the sheets that change them.

mod beneath;
pub(crate) mod change;
pub(crate) mod claim;
pub(crate) mod domains;
mod fencing;
mod leave;
mod look;
mod maintenance;
mod page;
mod power;

pub(crate) use look::grouped;

use crate::frame::sheet::Sheet;
use crate::frame::{AtDesk, Page, Query, Signed, Window, host_state, page as whole, part};
use askama::Template;
use rocket::{Route, get, routes};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Condition, Host},
    permits::Act,
    placement::Ledger,
    view::View,
};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("claim", Act::Hosts, "hosts", claim::fill)
        .prepared(claim::prepare)
        .checked(claim::check),
    Sheet::new("hand-back", Act::Hosts, "hosts", change::hand_back),
    Sheet::new("host-power", Act::Hosts, "hosts", power::fill).prepared(power::prepare),
    Sheet::new("test-fencing", Act::Hosts, "hosts", fencing::fill).prepared(fencing::prepare),
    Sheet::new("maintenance", Act::Hosts, "hosts", maintenance::empty)
        .prepared(maintenance::prepare),
    Sheet::new("leave-cluster", Act::Hosts, "hosts", leave::fill),
    Sheet::new("host-back", Act::Hosts, "hosts", maintenance::serve),
    Sheet::new("edit-host", Act::Hosts, "hosts", change::edit).merging(),
    Sheet::new("fault-domains", Act::Hosts, "hosts", domains::fill).merging(),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list,
        list_part,
        look::show,
        look::scan,
        look::look_part,
        look::greet,
        page::show,
        page::page_part
    ]
}

struct HostRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    site: String,
    cluster: Option<(u64, String)>,
    machines: usize,
    memory: String,
    memory_width: u64,
    cpu: String,
    cpu_width: u64,
    software: String,
    address: String,
}

#[derive(Template)]
#[template(path = "places/hosts/list.html")]
struct List {
    rows: Vec<HostRow>,
    sentence: String,
    query: String,
    q: String,
    may_hosts: bool,
    may_clusters: bool,
    loose: usize,
    waiting: usize,
    window: Window,
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let q = query.0.get("q").to_lowercase();
    let mut hosts: Vec<_> = estate
        .hosts
        .values()
        .filter(|h| signed.site.is_none_or(|s| h.site.0 == s))
        .filter(|h| q.is_empty() || h.name.contains(&q) || h.access.address.contains(&q))
        .collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let total = hosts.len();
    let cared = hosts.iter().filter(|h| h.maintenance.is_some()).count();
    let steady = hosts.iter().filter(|h| estate.is_steady(h)).count();
    let coming = |h: &&Arc<Host>| h.condition == Condition::Claiming && h.maintenance.is_none();
    let coming = hosts.iter().filter(|h| coming(h)).count();
    let down = total - steady - cared - coming;
    let (window, shown) = Window::of("/hosts", query, total);
    let rows: Vec<HostRow> = hosts[shown].iter().map(|h| row(&view, h)).collect();
    let loose = estate
        .hosts
        .values()
        .filter(|h| h.cluster.is_none() && h.accepts_work())
        .count();
    let mut sentence = format!(
        "{steady} {} steady",
        if steady == 1 { "host" } else { "hosts" }
    );
    if cared > 0 {
        sentence.push_str(&format!(", {cared} in maintenance"));
    }
    if coming > 0 {
        sentence.push_str(&format!(", {coming} being taken over"));
    }
    if down > 0 {
        sentence.push_str(&format!(", {down} not"));
    }
    let waiting = desk.announced().len() + desk.announced_controllers().len() + desk.found().len();
    sentence.push_str(match waiting {
        0 => ".",
        _ => ". Others are powered on and not claimed.",
    });
    List {
        rows,
        sentence,
        query: query.0.with("", ""),
        q,
        may_hosts: signed.may(Act::Hosts),
        may_clusters: signed.may(Act::Clusters),
        loose,
        waiting,
        window,
    }
}

#[get("/hosts")]
fn list(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    whole(
        &signed,
        desk,
        "hosts",
        "Hosts",
        &build(&signed, desk, &query),
    )
}
#[get("/hosts/part")]
fn list_part(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(&signed, desk, &query))
}

fn row(view: &View, h: &Arc<Host>) -> HostRow {
    let estate = &view.estate;
    let ledger = Ledger::of(view, [h.clone()], &Default::default());
    let taken = ledger
        .row(h.id)
        .map(zastrugi_core::placement::Account::taken)
        .unwrap_or_default();
    let cpu = view
        .host_uses(h)
        .map(|l| l.cpu.share_of(h.hardware.cpu_capacity()));
    let (glyph, word) = host_state(&view.estate, h);
    let share = taken.share_of(h.hardware.memory);
    HostRow {
        id: h.id.0,
        name: h.name.clone(),
        glyph,
        word,
        site: estate
            .sites
            .get(&h.site)
            .map_or_else(String::new, |s| s.name.clone()),
        cluster: h
            .cluster
            .and_then(|c| estate.clusters.get(&c))
            .map(|c| (c.id.0, c.name.clone())),
        machines: estate.machines_on(h.id).count(),
        memory: format!(
            "{:.0} / {:.0} GiB",
            taken.in_gib(),
            h.hardware.memory.in_gib()
        ),
        memory_width: zastrugi_core::units::round(share * 100.0).min(100),
        cpu: cpu.map_or_else(String::new, |c| format!("{:.0} %", c * 100.0)),
        cpu_width: zastrugi_core::units::round(cpu.unwrap_or(0.0) * 100.0).min(100),
        software: h.software.clone(),
        address: h.access.address.clone(),
    }
}
