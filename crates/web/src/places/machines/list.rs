//! The list: filtered and sorted in memory, shown a window at a time.

use crate::frame::{AtDesk, Page, Query, Signed, Window, Word, machine_state, page as whole, part};
use askama::Template;
use rocket::get;
use std::{cmp::Reverse, sync::Arc};
use zastrugi_core::{
    estate::{Estate, Machine, MachineState},
    ids::{ClusterId, HostId},
    moment::{Moment, Span},
    permits::Act,
    view::View,
};

struct MachineRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    host: Option<(u64, String)>,
    cluster: String,
    vcpus: u32,
    memory: String,
    cpu: String,
    labels: Vec<String>,
    protected: bool,
}

#[derive(Template)]
#[template(path = "places/machines/list.html")]
struct List {
    rows: Vec<MachineRow>,
    sentence: String,
    query: String,
    q: String,
    state: String,
    states: Vec<(&'static str, &'static str)>,
    label: String,
    cluster: u64,
    clusters: Vec<(u64, String)>,
    host: u64,
    hosts: Vec<(u64, String)>,
    columns: Vec<Column>,
    window: Window,
    filtered: bool,
    may_machines: bool,
    may_purge: bool,
}

struct Column {
    title: &'static str,
    link: String,
    sorted: &'static str,
    numeric: bool,
}

const STATES: [(&str, &str); 11] = [
    ("", "any state"),
    ("on", "on"),
    ("off", "off"),
    ("busy", "changing"),
    ("mind", "agent silent or paused"),
    ("fell", "off, should be on"),
    ("unknown", "unknown"),
    ("waits", "waits for a restart"),
    ("snapshots", "has snapshots"),
    ("stale", "has snapshots of a month ago"),
    ("deleted", "deleted"),
];

/// Who has a snapshot that is so old is looked at.
const STALE: Span = Span::days(30);

fn in_state(estate: &Estate, machine: &Machine, state: &str, now: Moment) -> bool {
    let live = machine.deleted.is_none();
    let unknown = || live && estate.unknown(machine).is_some();
    match state {
        "unknown" => unknown(),
        // What was last seen of it says nothing about now.
        "on" | "busy" | "mind" if unknown() => false,
        "fell" => live && machine.fell.is_some(),
        "on" => {
            live && matches!(
                machine.state,
                MachineState::Running { .. } | MachineState::Starting(_)
            )
        }
        "off" => live && machine.state == MachineState::Off,
        "busy" => matches!(
            machine.state,
            MachineState::Starting(_) | MachineState::Stopping | MachineState::Planned
        ),
        "mind" => matches!(
            machine.state,
            MachineState::Running { guest: false } | MachineState::Paused(_)
        ),
        "waits" => live && machine.now.is_some(),
        "snapshots" => live && !machine.snapshots.is_empty(),
        "stale" => {
            let mut all = machine.snapshots.all.iter();
            live && all.any(|s| now.since(s.taken) > STALE)
        }
        "deleted" => !live,
        _ => live,
    }
}

/// Everything that the filters leave, by name.
fn filtered(view: &View, signed: &Signed, query: &Query, now: Moment) -> Vec<Arc<Machine>> {
    let estate = &view.estate;
    let fields = &query.0;
    let (q, label, state) = (
        fields.get("q").to_lowercase(),
        fields.get("label"),
        fields.get("state"),
    );
    let cluster = fields.get("cluster").parse().ok().map(ClusterId);
    let host = fields.get("host").parse().ok().map(HostId);
    let at_site = |m: &Machine| {
        let of = || estate.site_of(m).map(|s| s.0);
        signed.site.is_none_or(|wanted| of() == Some(wanted))
    };
    let fits = |m: &&Arc<Machine>| {
        in_state(estate, m, state, now)
            && cluster.is_none_or(|c| m.cluster == Some(c))
            && host.is_none_or(|h| m.host == Some(h))
            && (q.is_empty() || m.name.contains(&q) || m.nics.iter().any(|n| n.mac.contains(&q)))
            && at_site(m)
    };
    if label.is_empty() {
        return estate.machines_by_name().filter(fits).cloned().collect();
    }
    let mut all: Vec<_> = estate
        .machines_labelled(label)
        .filter(fits)
        .cloned()
        .collect();
    all.sort_by(|a, b| a.name.cmp(&b.name));
    all
}

fn sort(view: &View, machines: &mut [Arc<Machine>], by: &str) {
    let cpu = |m: &Machine| view.uses(m).map_or(0, |l| l.cpu.0);
    match by {
        "memory" => machines.sort_by_key(|m| Reverse(m.memory.size)),
        "vcpus" => machines.sort_by_key(|m| Reverse(m.vcpus)),
        "cpu" => machines.sort_by_key(|m| Reverse(cpu(m))),
        "host" => machines.sort_by_key(|m| {
            m.host
                .and_then(|h| view.estate.hosts.get(&h))
                .map(|h| h.name.clone())
        }),
        "state" => machines.sort_by_key(|m| {
            let host = m.host.and_then(|h| view.estate.hosts.get(&h));
            machine_state(m, host.map(|h| &**h))
        }),
        _ => {}
    }
}

fn columns(query: &Query) -> Vec<Column> {
    let now = query.0.or("sort", "name");
    let reversed = query.0.get("order") == "reverse";
    [
        ("name", "Machine", false),
        ("state", "State", false),
        ("host", "Host", false),
        ("vcpus", "vCPUs", true),
        ("memory", "Memory", true),
        ("cpu", "CPU now", true),
    ]
    .into_iter()
    .map(|(key, title, numeric)| Column {
        title,
        // The column that it is sorted by turns round.
        link: {
            let order = if now == key && !reversed {
                "reverse"
            } else {
                ""
            };
            let by = crate::frame::Fields::parse(&query.0.with("sort", key)).with("order", order);
            format!(
                "/machines?{}",
                crate::frame::Fields::parse(&by).with("from", "")
            )
        },
        sorted: match (now == key, numeric != reversed) {
            (false, _) => "",
            (true, false) => "ascending",
            (true, true) => "descending",
        },
        numeric,
    })
    .collect()
}

fn row(view: &View, m: &Machine) -> MachineRow {
    let host = m.host.and_then(|h| view.estate.hosts.get(&h));
    let (glyph, word) = machine_state(m, host.map(|h| &**h));
    let cpu = view.uses(m).zip(host).map(|(load, h)| {
        let capacity = h.hardware.cpu.base.0 * u64::from(m.vcpus);
        format!(
            "{} %",
            (load.cpu.0 * 100).checked_div(capacity).unwrap_or(0)
        )
    });
    MachineRow {
        id: m.id.0,
        name: m.name.clone(),
        glyph,
        word,
        host: host.map(|h| (h.id.0, h.name.clone())),
        cluster: m
            .cluster
            .and_then(|c| view.estate.clusters.get(&c))
            .map_or_else(String::new, |c| c.name.clone()),
        vcpus: m.vcpus,
        memory: m.memory.size.to_string(),
        cpu: cpu.unwrap_or_default(),
        labels: m.label_words().take(4).collect(),
        protected: m.protected,
    }
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let mut machines = filtered(&view, signed, query, desk.now());
    sort(&view, &mut machines, query.0.get("sort"));
    if query.0.get("order") == "reverse" {
        machines.reverse();
    }
    let total = machines.len();
    let (window, shown) = Window::of("/machines", query, total);
    let rows: Vec<_> = machines[shown].iter().map(|m| row(&view, m)).collect();
    let unknown = machines
        .iter()
        .filter(|m| estate.unknown(m).is_some())
        .count();
    let on = machines.iter().filter(|m| !m.is_off()).count() - unknown;
    let named = ["q", "state", "label", "cluster", "host"];
    List {
        sentence: format!(
            "{total} {}, {on} of them on{}.",
            if total == 1 { "machine" } else { "machines" },
            match unknown {
                0 => String::new(),
                n => format!("; of {n} nobody knows, because their hosts are silent"),
            }
        ),
        query: query.0.with("", ""),
        q: query.0.get("q").into(),
        state: query.0.get("state").into(),
        states: STATES.to_vec(),
        label: query.0.get("label").into(),
        cluster: query.0.get("cluster").parse().unwrap_or(0),
        clusters: estate
            .clusters
            .values()
            .map(|c| (c.id.0, c.name.clone()))
            .collect(),
        host: query.0.get("host").parse().unwrap_or(0),
        hosts: estate
            .hosts
            .values()
            .take(200)
            .map(|h| (h.id.0, h.name.clone()))
            .collect(),
        columns: columns(query),
        window,
        filtered: named.iter().any(|n| !query.0.get(n).is_empty()),
        may_machines: signed.may(Act::Machines),
        may_purge: signed.may(Act::Purge),
        rows,
    }
}

#[get("/machines")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    whole(
        &signed,
        desk,
        "machines",
        "Machines",
        &build(&signed, desk, &query),
    )
}
#[get("/machines/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(&signed, desk, &query))
}
