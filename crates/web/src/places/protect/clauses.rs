//! One row for each sort of clause: how it stands with all machines of a list, as a bar, with a way to each part.

use super::{glyph_of, key_of};
use crate::frame::Px;
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::pledges::{Brief, CLAUSES, Sort, Standing};

/// Width of a whole bar.
const WIDE: f64 = 420.0;

struct Part {
    link: String,
    class: &'static str,
    glyph: &'static str,
    words: String,
    x: Px,
    wide: Px,
}

struct Bar {
    name: &'static str,
    parts: Vec<Part>,
}

#[derive(Template)]
#[template(path = "places/protect/clauses.html")]
pub(super) struct Bars {
    bars: Vec<Bar>,
}

/// By which a sort is chosen in an address.
pub(crate) fn key(sort: Sort) -> &'static str {
    match sort {
        Sort::Storage => "storage",
        Sort::Point => "point",
        Sort::Kept => "kept",
        Sort::Remote => "remote",
        Sort::Proved => "proved",
        Sort::Back => "back",
        Sort::Tier => "tier",
    }
}

impl Bars {
    /// Of what is promised to these machines; `link` is the list, with what filters it already.
    pub(super) fn of<'a>(all: impl Iterator<Item = &'a Brief>, link: &str) -> Bars {
        let mut counts: BTreeMap<Sort, BTreeMap<Standing, usize>> = BTreeMap::new();
        for promise in all {
            for sort in CLAUSES {
                if let Some(standing) = promise.of_sort(sort) {
                    *counts.entry(sort).or_default().entry(standing).or_default() += 1;
                }
            }
        }
        let bars = counts.into_iter().map(|(sort, of)| bar(sort, &of, link));
        Bars {
            bars: bars.collect(),
        }
    }
}

fn bar(sort: Sort, counts: &BTreeMap<Standing, usize>, link: &str) -> Bar {
    let machines: usize = counts.values().sum();
    let share = |n: usize| n as f64 / machines.max(1) as f64 * WIDE;
    let mut x = 0.0;
    // What is broken stands first.
    let parts = Standing::ALL.into_iter().rev().filter_map(|standing| {
        let n = *counts.get(&standing)?;
        let wide = share(n);
        let part = Part {
            link: format!("{link}clause={}&standing={}", key(sort), key_of(standing)),
            class: key_of(standing),
            glyph: glyph_of(standing),
            words: format!("{n} {}", standing.word()),
            x: Px(x),
            wide: Px((wide - 1.0).max(1.0)),
        };
        x += wide;
        Some(part)
    });
    Bar {
        name: sort.word(),
        parts: parts.collect(),
    }
}
