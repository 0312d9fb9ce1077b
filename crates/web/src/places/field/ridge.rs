//! One cluster's ridgeline, drawn as SVG: heights are always-kept memory of what is installed.

use crate::frame::{glyph, host_state};
use std::{cmp::Reverse, fmt::Write, sync::Arc};
use zastrugi_core::{
    estate::{Cluster, Host, Machine},
    loads::Loads,
    placement::{Ledger, Row},
    units::Bytes,
    view::View,
};
use zastrugi_engine::{Headroom, Headrooms};

#[derive(Clone, Copy)]
pub(super) enum Colour {
    Tier,
    Load,
}

pub(super) struct Ridge {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) caption: String,
    /// Of twelve columns of the page.
    pub(super) span: usize,
    pub(super) svg: String,
}

/// Pixels of one of the page's twelve columns, of the space between them, and of a column's height.
const COLUMN: f64 = 45.0;
const GUTTER: f64 = 26.0;
const TALL: f64 = 262.0;
const LOW: f64 = 180.0;

/// Ridgelines of one page; those in need come first.
const MOST: usize = 8;

pub(super) struct Ridges {
    pub(super) ridges: Vec<Ridge>,
    pub(super) rest: Vec<(u64, String)>,
    /// Clusters without room for the failures that they must survive, shown or not.
    pub(super) weak: Vec<String>,
}

/// `only` limits them to a site, or to one cluster.
pub(super) fn ridges(
    view: &View,
    headrooms: &Headrooms,
    only: (Option<u64>, Option<u64>),
    colour: Colour,
) -> Ridges {
    let survives = |c: &Cluster| headrooms.get(&c.id).is_some_and(|h| h.meets);
    let (site, cluster) = only;
    let wanted = |c: &&Arc<Cluster>| {
        !c.hosts.is_empty()
            && site.is_none_or(|s| c.site.0 == s)
            && cluster.is_none_or(|id| c.id.0 == id)
    };
    let mut clusters: Vec<_> = view.estate.clusters.values().filter(wanted).collect();
    let weak = clusters
        .iter()
        .filter(|c| !survives(c))
        .map(|c| c.name.clone())
        .collect();
    if clusters.len() > MOST {
        clusters.sort_by_key(|c| (survives(c), Reverse(c.hosts.len()), c.name.clone()));
    }
    let rest = clusters
        .iter()
        .skip(MOST)
        .map(|c| (c.id.0, c.name.clone()))
        .collect();
    clusters.truncate(MOST);
    clusters.sort_by_key(|c| (Reverse(c.hosts.len()), c.name.clone()));
    let spans = spans(&clusters.iter().map(|c| c.hosts.len()).collect::<Vec<_>>());
    let ridges = clusters
        .into_iter()
        .zip(spans)
        .map(|(c, span)| ridge(view, (c, headrooms.get(&c.id)), span, colour))
        .collect();
    Ridges { ridges, rest, weak }
}

/// Wide clusters get a row; smaller ones share one.
fn spans(sizes: &[usize]) -> Vec<usize> {
    let mut spans = Vec::with_capacity(sizes.len());
    let mut i = 0;
    while i < sizes.len() {
        let pair = (sizes[i] <= 5).then(|| sizes.get(i + 1)).flatten();
        match pair {
            Some(next) => {
                let first = if sizes[i] > *next { 7 } else { 6 };
                spans.extend([first, 12 - first]);
                i += 2;
            }
            None => {
                spans.push(12);
                i += 1;
            }
        }
    }
    spans
}

fn ridge(
    view: &View,
    (cluster, headroom): (&Cluster, Option<&Arc<Headroom>>),
    span: usize,
    colour: Colour,
) -> Ridge {
    let estate = &view.estate;
    let mut hosts: Vec<_> = estate.hosts_in(cluster.id).cloned().collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    let ledger = Ledger::of(view, hosts.clone(), &Default::default());
    let site = estate
        .sites
        .get(&cluster.site)
        .map_or("", |s| s.name.as_str());
    let words = headroom.map_or("", |h| h.sentence.as_str());
    let line = headroom.and_then(|h| h.line());
    let count = estate.count_in(cluster.id);
    let caption = format!("{site} · {words} · {} hosts, {count} machines", hosts.len());
    let svg = Drawing::new(view, &ledger, span, hosts.len(), colour).draw(&hosts, line);
    Ridge {
        id: cluster.id.0,
        name: cluster.name.clone(),
        caption,
        span,
        svg,
    }
}

struct Drawing<'a> {
    view: &'a View,
    ledger: &'a Ledger,
    colour: Colour,
    width: f64,
    column: f64,
    step: f64,
    height: f64,
    out: String,
}

impl<'a> Drawing<'a> {
    fn new(view: &'a View, ledger: &'a Ledger, span: usize, hosts: usize, colour: Colour) -> Self {
        let n = span as f64;
        let width = n * COLUMN + (n - 1.0) * GUTTER;
        let gap = if hosts > 20 { 3.0 } else { 9.0 };
        let step = (width - 6.0 + gap) / hosts.max(1) as f64;
        let height = if span == 12 { TALL } else { LOW };
        Drawing {
            view,
            ledger,
            colour,
            width,
            column: step - gap,
            step,
            height,
            out: String::new(),
        }
    }

    fn draw(mut self, hosts: &[std::sync::Arc<Host>], line: Option<f64>) -> String {
        let total = self.height + 40.0;
        let width = self.width;
        self.put(format_args!(r#"<svg viewBox="0 0 {width:.0} {total:.0}" role="group" aria-label="hosts and machines">"#));
        for (i, host) in hosts.iter().enumerate() {
            let x = 6.0 + self.step * i as f64;
            if let Some(row) = self.ledger.row(host.id).cloned() {
                self.host(x, host, &row);
            }
        }
        if let Some(line) = line {
            let y = self.height * (1.0 - line.min(1.0));
            self.put(format_args!(
                r#"<path class="reserve" d="M0 {y:.1} H{width:.0}"/><text class="halo" x="{width:.0}" y="{:.1}">any one may fail while all are filled up to here</text>"#,
                y - 4.0
            ));
        }
        self.out.push_str("</svg>");
        self.out
    }

    fn put(&mut self, what: std::fmt::Arguments<'_>) {
        // Writing to a string does not fail.
        let _ = self.out.write_fmt(what);
    }

    fn host(&mut self, x: f64, host: &Host, row: &Row) {
        let (w, h) = (self.column, self.height);
        let top = h * (1.0 - row.taken().share_of(host.hardware.memory)).clamp(0.0, 1.0);
        self.put(format_args!(
            r#"<g data-host="{}" data-x="{x:.1}" data-w="{w:.1}" data-top="{top:.1}" data-tall="{h:.0}">"#,
            host.id.0
        ));
        self.put(format_args!(
            r#"<rect class="well" x="{x:.1}" y="0" width="{w:.1}" height="{h:.0}"/>"#
        ));
        self.machines(x, host);
        self.put(format_args!(
            r#"<path class="base" d="M{x:.1} {h:.0} h{w:.1}"/>"#
        ));
        let used = self
            .view
            .loads
            .hosts
            .get(&host.id)
            .map_or(0.0, |l| l.cpu.share_of(host.hardware.cpu_capacity()));
        let class = if used > 0.8 { "cpu2" } else { "cpu1" };
        self.put(format_args!(
            r#"<rect class="cpu0" x="{x:.1}" y="{:.1}" width="{w:.1}" height="3"/><rect class="{class}" x="{x:.1}" y="{:.1}" width="{:.1}" height="3"/>"#,
            h + 3.0,
            h + 3.0,
            w * used.min(1.0)
        ));
        if w > 60.0 {
            self.name(x, host, row);
        }
        self.put(format_args!("</g>"));
    }

    fn name(&mut self, x: f64, host: &Host, row: &Row) {
        let (state, word) = host_state(host);
        let mark = glyph(state).replace(
            "<svg ",
            &format!(
                r#"<svg x="{x:.1}" y="{:.1}" width="14" height="14" "#,
                self.height + 9.0
            ),
        );
        let (id, name) = (host.id.0, html(&host.name));
        let taken = row.taken().in_gib();
        let installed = host.hardware.memory.in_gib();
        let y = self.height;
        self.put(format_args!(
            r#"<a href="/hosts/{id}" aria-label="{name}, {word}">{mark}<text class="h" x="{:.1}" y="{:.1}">{name}</text></a><text class="m" x="{x:.1}" y="{:.1}">{taken:.0} / {installed:.0} GiB</text>"#,
            x + 18.0,
            y + 21.0,
            y + 36.0
        ));
    }

    fn machines(&mut self, x: f64, host: &Host) {
        let mut machines: Vec<_> = self.view.estate.machines_on(host.id).cloned().collect();
        machines.sort_by(|a, b| {
            b.held()
                .cmp(&a.held())
                .then(a.tier.cmp(&b.tier))
                .then_with(|| a.name.cmp(&b.name))
        });
        let height = self.height;
        let scale = |b: Bytes| b.share_of(host.hardware.memory) * height;
        let mut bottom = self.height - scale(host.reserve());
        let (w, reserve_top) = (self.column, bottom);
        let ground = self.height;
        self.put(format_args!(
            r#"<rect class="cpu0" x="{x:.1}" y="{reserve_top:.1}" width="{w:.1}" height="{:.1}"/>"#,
            ground - reserve_top
        ));
        let last = machines.len().saturating_sub(1);
        for (i, machine) in machines.iter().enumerate() {
            let tall = scale(machine.held()).max(1.0);
            let top = bottom - tall;
            self.machine(x, top, bottom, machine, i == last, host);
            bottom = top;
        }
    }

    fn machine(
        &mut self,
        x: f64,
        top: f64,
        bottom: f64,
        machine: &Machine,
        is_top: bool,
        host: &Host,
    ) {
        let w = self.column;
        let tone = self.tone(machine, host);
        let dark = if tone == "t1" { " d" } else { "" };
        // The topmost machine carries the ridge: gentle on the windward side, steep on the lee.
        let ridge = if is_top { (bottom - top).min(5.0) } else { 0.0 };
        let (peak, right) = (x + w * 0.75, x + w);
        let left_y = top + ridge;
        let (id, name) = (machine.id.0, html(&machine.name));
        self.put(format_args!(
            r#"<a class="box{dark}" href="/machines/{id}"><title>{name} · {} · tier {}</title><path class="{tone}" d="M{x:.1} {bottom:.1} V{left_y:.1} L{peak:.1} {top:.1} L{right:.1} {left_y:.1} V{bottom:.1} Z"/>"#,
            machine.held(),
            machine.tier
        ));
        if bottom - top >= 13.0 && w > 44.0 {
            let most = zastrugi_core::units::round((w - 8.0) / 5.9);
            let shown: String = machine
                .name
                .chars()
                .take(usize::try_from(most).unwrap_or(12))
                .collect();
            self.put(format_args!(
                r#"<text x="{:.1}" y="{:.1}">{}</text>"#,
                x + 5.0,
                (left_y + bottom) / 2.0 + 4.0,
                html(&shown)
            ));
        }
        self.out.push_str("</a>");
    }

    fn tone(&self, machine: &Machine, host: &Host) -> &'static str {
        if machine.is_off() {
            return "arr";
        }
        let level = match self.colour {
            Colour::Tier => machine.tier,
            Colour::Load => load_level(&self.view.loads, machine, host),
        };
        ["t1", "t2", "t3", "t4"][usize::from(level.clamp(1, 4)) - 1]
    }
}

/// 1 for the busiest, like tiers.
fn load_level(loads: &Loads, machine: &Machine, host: &Host) -> u8 {
    let capacity = host.hardware.cpu.base.0 * u64::from(machine.vcpus);
    let used = loads.machines.get(&machine.id).map_or(0, |l| l.cpu.0) * 100;
    match used.checked_div(capacity).unwrap_or(0) {
        0..15 => 4,
        15..40 => 3,
        40..70 => 2,
        _ => 1,
    }
}

fn html(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('"', "&quot;")
}
