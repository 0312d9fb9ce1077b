//! The pictures of what happens if hosts fail: a strip of columns for one failure, a triangle for every pair.

use crate::frame::Px;
use askama::Template;
use zastrugi_core::availability::{Case, MEMORY, Pairs, Table, Verdict};

/// A column for each host: what its memory holds now, and on top of it what would come; a host that fails is struck out.
#[derive(Template)]
#[template(path = "places/clusters/strip.html")]
pub(super) struct Strip {
    width: Px,
    tall: Px,
    wide: Px,
    hosts: Vec<HostColumn>,
}

struct HostColumn {
    x: Px,
    right: Px,
    words: String,
    /// None: it fails.
    held: Option<Bars>,
}

struct Bars {
    had: Px,
    before: Px,
    then: Px,
    more: Px,
}

impl Strip {
    pub(super) fn draw(table: &Table, row: &Case) -> Strip {
        const TALL: f64 = 22.0;
        let n = table.hosts.len();
        let step = if n > 16 { 8.0 } else { 26.0 };
        let wide = step - 2.0;
        let column = |i: usize| {
            let host = &table.hosts[i];
            let x = step * i as f64;
            let share =
                |machines: u64| (machines as f64 / (host.room[MEMORY] as f64).max(1.0)).min(1.0);
            let held: u64 = table.on(i).map(|m| table.machines[m].needs[MEMORY]).sum();
            let coming = row.failure.restarted.iter().filter(|(_, to)| *to == i);
            let more: u64 = coming.map(|(m, _)| table.machines[*m].needs[MEMORY]).sum();
            let (before, after) = (share(held), share(held + more));
            let fails = row.failure.hosts.contains(&i) || host.gone;
            let words = if host.gone {
                format!("{} has failed", host.name)
            } else if fails {
                format!("{} fails", host.name)
            } else {
                let (now, then) = (before * 100.0, after * 100.0);
                format!("{}: {now:.0} → {then:.0} %", host.name)
            };
            HostColumn {
                x: Px(x),
                right: Px(x + wide),
                words,
                held: (!fails).then_some(Bars {
                    had: Px(TALL - before * TALL),
                    before: Px(before * TALL),
                    then: Px(TALL - after * TALL),
                    more: Px((after - before) * TALL),
                }),
            }
        };
        Strip {
            width: Px(step * n as f64),
            tall: Px(TALL),
            wide: Px(wide),
            hosts: (0..n).map(column).collect(),
        }
    }
}

/// Every pair of hosts: a cell for both failing together.
#[derive(Template)]
#[template(path = "places/clusters/triangle.html")]
pub(super) struct Triangle {
    width: usize,
    height: usize,
    inner: usize,
    cells: Vec<Cell>,
    names: Vec<(usize, String)>,
}

struct Cell {
    words: String,
    class: &'static str,
    x: usize,
    y: usize,
    tall: usize,
}

impl Triangle {
    pub(super) fn draw(table: &Table, pairs: &Pairs) -> Triangle {
        let mut hosts: Vec<usize> = pairs.all.iter().flat_map(|(a, b, _)| [*a, *b]).collect();
        hosts.sort_unstable();
        hosts.dedup();
        let side = if hosts.len() > 24 { 9 } else { 18 };
        let (margin, inner) = (92, side - 2);
        let place = |h: &usize| hosts.iter().position(|x| x == h).unwrap_or(0) * side;
        let cell = |(a, b, verdict): &(usize, usize, Verdict)| {
            let (class, words) = match verdict {
                Verdict::All => ("ok", "survived"),
                Verdict::Some => ("no", "not survived"),
                Verdict::Undecided => ("open", "undecided"),
            };
            // Not by colour alone: a survived pair is a low block, the other a whole one.
            let low = match verdict {
                Verdict::All => inner / 2,
                Verdict::Some | Verdict::Undecided => 0,
            };
            let (one, other) = (&table.hosts[*a].name, &table.hosts[*b].name);
            Cell {
                words: format!("{one} and {other}: {words}"),
                class,
                x: margin + place(a),
                y: place(b) + low,
                tall: inner - low,
            }
        };
        let named = hosts.iter().enumerate().filter(|_| side > 10);
        Triangle {
            width: hosts.len() * side + margin,
            height: hosts.len() * side + 4,
            inner,
            cells: pairs.all.iter().map(cell).collect(),
            names: named
                .map(|(i, h)| (i * side + 13, table.hosts[*h].name.clone()))
                .collect(),
        }
    }
}
