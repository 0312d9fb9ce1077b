//! What a clause asks. Of two pledges that ask for the same, the stricter one counts, and both are named.

use crate::{
    estate::{Away, Estate, Offers, Pledge, Point},
    moment::Span,
    text::Line,
};
use std::sync::Arc;

/// The sorts of clauses.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Sort {
    Storage,
    Point,
    Kept,
    Remote,
    Proved,
    Back,
    Tier,
}

/// In the order in which they are shown.
pub const CLAUSES: [Sort; 7] = [
    Sort::Storage,
    Sort::Point,
    Sort::Kept,
    Sort::Remote,
    Sort::Proved,
    Sort::Back,
    Sort::Tier,
];

impl Sort {
    pub fn word(self) -> &'static str {
        match self {
            Sort::Storage => "Storage",
            Sort::Point => "Recovery point",
            Sort::Kept => "Kept for",
            Sort::Remote => "Copy elsewhere",
            Sort::Proved => "Proven",
            Sort::Back => "Back within",
            Sort::Tier => "Restart tier",
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Demand {
    Storage(Offers),
    Point(Point),
    Kept(Span),
    Remote(Away),
    /// A copy of it came up, no longer ago.
    Proved(Span),
    Back(Span),
    Tier(u8),
}

impl Demand {
    pub fn sort(&self) -> Sort {
        match self {
            Demand::Storage(_) => Sort::Storage,
            Demand::Point(_) => Sort::Point,
            Demand::Kept(_) => Sort::Kept,
            Demand::Remote(_) => Sort::Remote,
            Demand::Proved(_) => Sort::Proved,
            Demand::Back(_) => Sort::Back,
            Demand::Tier(_) => Sort::Tier,
        }
    }

    /// Whoever keeps this keeps the other too.
    pub fn covers(&self, other: &Demand) -> bool {
        use crate::estate::Taker;
        match (self, other) {
            (Demand::Storage(a), Demand::Storage(b)) => {
                let fast = b
                    .latency_us
                    .is_none_or(|b| a.latency_us.is_some_and(|a| a <= b));
                a.qualities.is_superset(&b.qualities)
                    && fast
                    && a.spare.unwrap_or(0) >= b.spare.unwrap_or(0)
            }
            (Demand::Point(a), Demand::Point(b)) => {
                let taker = a.taker == b.taker || b.taker == Taker::Any;
                a.every <= b.every && taker && (a.quiet || !b.quiet)
            }
            (Demand::Kept(a), Demand::Kept(b)) => a >= b,
            (Demand::Remote(a), Demand::Remote(b)) => {
                a.age <= b.age && (a.site == b.site || b.site.is_none())
            }
            (Demand::Proved(a), Demand::Proved(b)) | (Demand::Back(a), Demand::Back(b)) => a <= b,
            (Demand::Tier(a), Demand::Tier(b)) => a <= b,
            _ => false,
        }
    }

    /// What is asked, in a few words.
    pub fn words(&self, estate: &Estate) -> String {
        match self {
            Demand::Storage(offers) => offers_words(offers),
            Demand::Point(point) => {
                let quiet = if point.quiet {
                    ", file systems standing still"
                } else {
                    ""
                };
                format!("every {}, {}{quiet}", point.every, point.taker.words())
            }
            Demand::Kept(span) => span.to_string(),
            Demand::Remote(away) => {
                let site = away.site.and_then(|s| estate.sites.get(&s));
                let at = site.map_or_else(
                    || "at another site".to_owned(),
                    |s| format!("at {}", s.name),
                );
                format!("{at}, at most {} old", away.age)
            }
            Demand::Proved(every) => format!("a copy came up, at most {every} ago"),
            Demand::Back(span) => format!("within {span}, as a proof measured it"),
            Demand::Tier(1) => "1".into(),
            Demand::Tier(tier) => format!("{tier} or earlier"),
        }
    }
}

fn offers_words(offers: &Offers) -> String {
    let qualities = offers.qualities.iter().map(Line::to_string);
    let latency = offers
        .latency_us
        .map(|us| format!("at most {us} µs for an operation"));
    let spare = offers.spare.map(|n| match n {
        1 => "1 drive or copy may be lost".to_owned(),
        n => format!("{n} drives or copies may be lost"),
    });
    qualities
        .chain(latency)
        .chain(spare)
        .collect::<Vec<_>>()
        .join(", ")
}

impl Pledge {
    /// Its clauses, in the order in which they are shown.
    pub fn demands(&self) -> Vec<Demand> {
        let c = &self.clauses;
        let storage = c.storage.clone().map(Demand::Storage);
        let all = [
            storage,
            c.point.clone().map(Demand::Point),
            c.kept.map(Demand::Kept),
            c.remote.clone().map(Demand::Remote),
            c.proved.map(Demand::Proved),
            c.back.map(Demand::Back),
            c.tier.map(Demand::Tier),
        ];
        all.into_iter().flatten().collect()
    }
}

/// What pledges ask together, each demand with the names of those that ask for it or for less, the strictest first.
pub fn demands(pledges: &[&Arc<Pledge>]) -> Vec<(Demand, Vec<String>)> {
    let mut all: Vec<(Demand, Vec<String>)> = Vec::new();
    for pledge in pledges {
        for demand in pledge.demands() {
            let name = pledge.name.clone();
            if let Some((_, by)) = all.iter_mut().find(|(d, _)| d.covers(&demand)) {
                by.push(name);
                continue;
            }
            let mut by = vec![name];
            all.retain(|(d, others)| {
                let less = demand.covers(d);
                if less {
                    by.extend(
                        others
                            .iter()
                            .filter(|o| !by.contains(o))
                            .cloned()
                            .collect::<Vec<_>>(),
                    );
                }
                !less
            });
            all.push((demand, by));
        }
    }
    all.sort_by_key(|(d, _)| d.sort());
    all
}
