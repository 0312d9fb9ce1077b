//! Could the cluster lose a host? The failure matrix as a picture that opens row by row, pairs as a triangle, and the
//! smallest change that would let it survive one more.

use crate::frame::sheet::render;
use askama::Template;
use std::fmt::Write;
use zastrugi_core::{
    availability::{Answer, Domain, Left, MEMORY, Pairs, Raise, Row, Table, Verdict},
    estate::Estate,
    ids::Revision,
};
use zastrugi_engine::Headroom;

/// Rows that are drawn at most.
const MOST: usize = 64;

struct RowView {
    glyph: &'static str,
    name: String,
    words: String,
    /// How full each host is afterwards, and what of it is new.
    picture: String,
    percent: String,
    time: String,
    restarted: Vec<(String, String)>,
    left: Vec<(String, String)>,
    notes: Vec<String>,
}

#[derive(Template)]
#[template(path = "places/clusters/headroom.html")]
struct Section {
    sentence: String,
    revision: String,
    raise: String,
    link: Option<(String, &'static str)>,
    rows: Vec<RowView>,
    more: usize,
    triangle: String,
}

pub(super) fn section(
    estate: &Estate,
    cluster: u64,
    revision: Revision,
    headroom: &Headroom,
) -> String {
    let answer = headroom.whole();
    let (raise, link) = raise_words(estate, &answer, cluster, headroom.raise());
    render(&Section {
        sentence: answer.sentence(),
        revision: revision.to_string(),
        raise,
        link,
        rows: answer
            .matrix
            .rows
            .iter()
            .take(MOST)
            .map(|r| row(&answer, r))
            .collect(),
        more: answer.matrix.rows.len().saturating_sub(MOST),
        triangle: answer
            .matrix
            .pairs
            .as_ref()
            .map_or_else(String::new, |p| triangle(&answer.table, p)),
    })
}

fn row(answer: &Answer, row: &Row) -> RowView {
    let (table, failure) = (&answer.table, &row.failure);
    let machine = |m: usize| table.machines[m].name.clone();
    let told = |l: &Left| (machine(l.machine), l.why.clone());
    let counts = [
        (failure.restarted.len(), "restart"),
        (failure.not_restarted.len(), "find no room"),
        (failure.lost.len(), "lost until somebody acts"),
    ];
    let words: Vec<_> = counts
        .iter()
        .filter(|c| c.0 > 0)
        .map(|(n, what)| format!("{n} {what}"))
        .collect();
    let mut notes = Vec::new();
    if !failure.hosts.is_empty() {
        notes.push(format!("Proof: {}.", failure.proof));
    }
    if let (Err(over), false) = (&failure.well, failure.restarted.is_empty()) {
        notes.push(format!("They would start, but not run well: {over}."));
    }
    if !row.waits.is_empty() {
        let names: Vec<_> = row
            .waits
            .iter()
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        notes.push(format!(
            "{} has no controller: nothing restarts until somebody says that it is off.",
            names.join(", ")
        ));
    }
    let volume = matches!(row.domain, Domain::Volume(_));
    let glyph = match failure.verdict {
        _ if volume => "unchecked",
        Verdict::All if failure.well.is_ok() => "clear",
        Verdict::All => "mind",
        Verdict::Some => "stop",
        Verdict::Undecided => "unchecked",
    };
    let share = failure.tightest.1;
    RowView {
        glyph,
        name: row.domain.words(),
        words: if words.is_empty() {
            "nothing runs there".into()
        } else {
            words.join(", ")
        },
        picture: if volume {
            String::new()
        } else {
            strip(table, row)
        },
        percent: if volume {
            String::new()
        } else {
            format!("{:.0} %", share * 100.0)
        },
        time: if failure.restarted.is_empty() {
            String::new()
        } else {
            row.time.to_string()
        },
        restarted: failure
            .restarted
            .iter()
            .map(|(m, h)| (machine(*m), table.hosts[*h].name.clone()))
            .collect(),
        left: failure
            .not_restarted
            .iter()
            .chain(&failure.lost)
            .map(told)
            .collect(),
        notes,
    }
}

fn raise_words(
    estate: &Estate,
    answer: &Answer,
    cluster: u64,
    raise: &Raise,
) -> (String, Option<(String, &'static str)>) {
    let more = match answer.matrix.headroom {
        0 => "any one host",
        _ => "any two hosts",
    };
    let table = &answer.table;
    let group = |g: u32| {
        table
            .groups
            .get(usize::try_from(g).unwrap_or(0))
            .map_or("", String::as_str)
    };
    let rules = estate
        .clusters
        .get(&zastrugi_core::ids::ClusterId(cluster))
        .map_or(0, |c| c.rules.len());
    match raise {
        _ if answer.matrix.headroom >= 2 => (String::new(), None),
        Raise::Move { machine, to } => {
            let (m, h) = (&table.machines[*machine], &table.hosts[*to]);
            let from = m.at.map_or("", |at| table.hosts[at].name.as_str());
            let ids = m.id.zip(h.id);
            let link =
                ids.map(|(m, h)| (format!("/sheet/move?ids={}&to={}", m.0, h.0), "Propose it"));
            (
                format!(
                    "With {} moved from {from} to {}, it would survive {more}.",
                    m.name, h.name
                ),
                link,
            )
        }
        Raise::Apart { group: g } | Raise::Together { group: g } => {
            let words = format!(
                "If “{}” were not required, it would survive {more}.",
                group(*g)
            );
            let link =
                (rules > 0).then(|| (format!("/clusters/{cluster}#rules"), "Look at the rules"));
            (words, link)
        }
        Raise::Memory { percent } => (
            format!("With {percent} % more memory in each host, it would survive {more}."),
            None,
        ),
        Raise::None => (
            format!(
                "None of these would let it survive {more}: one machine moved, one rule dropped, up to twice the memory in each host."
            ),
            None,
        ),
        Raise::Unknown => (
            format!(
                "No small change was found that lets it survive {more}; not all of them could be tried in time."
            ),
            None,
        ),
    }
}

/// A column for each host: what its memory holds now, and on top of it what would come; a host that fails is struck out.
fn strip(table: &Table, row: &Row) -> String {
    const TALL: f64 = 22.0;
    let n = table.hosts.len();
    let step = if n > 16 { 8.0 } else { 26.0 };
    let wide = step - 2.0;
    let width = step * n as f64;
    let mut svg = format!(
        r#"<svg class="strip" width="{width:.0}" height="{TALL:.0}" viewBox="0 0 {width:.0} {TALL:.0}" aria-hidden="true">"#
    );
    for (i, host) in table.hosts.iter().enumerate() {
        let x = step * i as f64;
        let share =
            |machines: u64| (machines as f64 / (host.room[MEMORY] as f64).max(1.0)).min(1.0);
        let held: u64 = table.on(i).map(|m| table.machines[m].needs[MEMORY]).sum();
        let coming = row.failure.restarted.iter().filter(|(_, to)| *to == i);
        let more: u64 = coming.map(|(m, _)| table.machines[*m].needs[MEMORY]).sum();
        let name = html(&host.name);
        let (before, after) = (share(held) * TALL, share(held + more) * TALL);
        let _ = write!(
            svg,
            r#"<g><rect class="bg" x="{x:.0}" y="0" width="{wide:.0}" height="{TALL:.0}"/>"#
        );
        if row.failure.hosts.contains(&i) {
            let (right, low) = (x + wide, TALL);
            let _ = write!(
                svg,
                r#"<title>{name} fails</title><path class="gone" d="M{x:.0} {low:.0} L{right:.0} 0"/></g>"#
            );
            continue;
        }
        let (now, then) = (share(held) * 100.0, share(held + more) * 100.0);
        let _ = write!(
            svg,
            r#"<title>{name}: {now:.0} → {then:.0} %</title><rect class="had" x="{x:.0}" y="{:.1}" width="{wide:.0}" height="{before:.1}"/><rect class="more" x="{x:.0}" y="{:.1}" width="{wide:.0}" height="{:.1}"/></g>"#,
            TALL - before,
            TALL - after,
            after - before
        );
    }
    svg + "</svg>"
}

/// Every pair of hosts: a cell for both failing together.
fn triangle(table: &Table, pairs: &Pairs) -> String {
    let mut hosts: Vec<usize> = pairs.all.iter().flat_map(|(a, b, _)| [*a, *b]).collect();
    hosts.sort_unstable();
    hosts.dedup();
    let cell = if hosts.len() > 24 { 9 } else { 18 };
    let side = hosts.len() * cell;
    let names = 92;
    let (width, height) = (side + names, side + 4);
    let mut svg = format!(
        r#"<svg class="triangle" width="{width}" height="{height}" viewBox="0 0 {width} {height}" role="img" aria-label="Which pairs of hosts may fail together">"#
    );
    for (a, b, verdict) in &pairs.all {
        let place = |h: &usize| hosts.iter().position(|x| x == h).unwrap_or(0);
        let (x, y) = (names + place(a) * cell, place(b) * cell);
        let (class, words) = match verdict {
            Verdict::All => ("ok", "survived"),
            Verdict::Some => ("no", "not survived"),
            Verdict::Undecided => ("open", "undecided"),
        };
        let (inner, one, other) = (cell - 2, &table.hosts[*a].name, &table.hosts[*b].name);
        let shape = match verdict {
            // Not by colour alone: a survived pair is a low block, the other a whole one.
            Verdict::All => format!(
                r#"<rect class="{class}" x="{x}" y="{}" width="{inner}" height="{}"/>"#,
                y + inner / 2,
                inner - inner / 2
            ),
            _ => format!(
                r#"<rect class="{class}" x="{x}" y="{y}" width="{inner}" height="{inner}"/>"#
            ),
        };
        let _ = write!(
            svg,
            "<g><title>{} and {}: {words}</title>{shape}</g>",
            html(one),
            html(other)
        );
    }
    for (i, host) in hosts.iter().enumerate() {
        if cell > 10 {
            let _ = write!(
                svg,
                r#"<text x="0" y="{}">{}</text>"#,
                i * cell + 13,
                html(&table.hosts[*host].name)
            );
        }
    }
    svg + "</svg>"
}

fn html(text: &str) -> String {
    text.replace('&', "&amp;")
        .replace('<', "&lt;")
        .replace('"', "&quot;")
}

/// What its protected machines hold, for the facts of the page.
pub(super) fn protected(answer: &Answer) -> String {
    let machines = &answer.table.machines;
    let on = machines
        .iter()
        .filter(|m| m.at.is_some() && m.restart == zastrugi_core::availability::Restart::Yes);
    let (count, held) = on.fold((0, 0), |(n, sum), m| (n + 1, sum + m.needs[MEMORY]));
    format!(
        "{count} machines, {} held",
        zastrugi_core::units::Bytes(held)
    )
}
