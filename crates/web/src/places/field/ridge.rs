//! The clusters of one page as ridgelines: which, how wide, and what stands above each.

use super::picture::{Picture, Scale};
use crate::frame::sheet::render;
use std::{cmp::Reverse, sync::Arc};
use zastrugi_core::{
    estate::{Cluster, Host, Machine},
    loads::Loads,
    placement::Ledger,
    pledges::{Promises, Standing},
    view::View,
};
use zastrugi_engine::{Headroom, Headrooms};

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Colour {
    Tier,
    Load,
    Pledge,
}

impl Colour {
    pub(super) const ALL: [Colour; 3] = [Colour::Tier, Colour::Load, Colour::Pledge];
    /// By which it is chosen, and called.
    pub(super) fn word(self) -> &'static str {
        match self {
            Colour::Tier => "tier",
            Colour::Load => "load",
            Colour::Pledge => "pledge",
        }
    }
    pub(super) fn of(word: &str) -> Colour {
        let all = Colour::ALL.into_iter();
        all.into_iter()
            .find(|c| c.word() == word)
            .unwrap_or(Colour::Tier)
    }
}

pub(super) struct Ridge {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) caption: String,
    /// Of twelve columns of the page.
    pub(super) span: usize,
    pub(super) svg: String,
}

/// Ridgelines of one page; those in need come first.
const MOST: usize = 8;
/// Machines that are drawn on one page; of hosts with more, the smallest become one box.
const BOXES: usize = 512;

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
    (colour, promises): (Colour, &Promises),
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
    let hosts: usize = clusters.iter().map(|c| c.hosts.len()).sum();
    let each = (BOXES / hosts.max(1)).max(2);
    let spans = spans(&clusters.iter().map(|c| c.hosts.len()).collect::<Vec<_>>());
    let ridges = clusters
        .into_iter()
        .zip(spans)
        .map(|(c, span)| {
            let of = (&**c, headrooms.get(&c.id));
            ridge(view, of, (span, each), (colour, promises))
        })
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
    (span, each): (usize, usize),
    (colour, promises): (Colour, &Promises),
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
    let scale = Scale::of(span, hosts.len());
    let tone = |m: &Machine, h: &Host| {
        let stands = promises.get(m.id).map(|p| p.standing());
        let said = stands.map_or("", said);
        (tone(&view.loads, (colour, stands), m, h), said)
    };
    let picture = Picture::draw(view, &ledger, &hosts, (scale, each), line, &tone);
    Ridge {
        id: cluster.id.0,
        name: cluster.name.clone(),
        caption,
        span,
        svg: render(&picture),
    }
}

/// What is said of a machine that is promised something, beside its colour.
fn said(stands: Standing) -> &'static str {
    match stands {
        Standing::Kept => " · promises kept",
        Standing::Unchecked => " · promises unchecked",
        Standing::AtRisk => " · a promise is at risk",
        Standing::Broken => " · a promise is broken",
    }
}

fn tone(
    loads: &Loads,
    (colour, stands): (Colour, Option<Standing>),
    machine: &Machine,
    host: &Host,
) -> &'static str {
    if machine.is_off() {
        return "arr";
    }
    let level = match (colour, stands) {
        (Colour::Load, _) => load_level(loads, machine, host),
        // Whatever the tier: this one is to be seen.
        (Colour::Tier | Colour::Pledge, Some(Standing::Broken)) => return "broken",
        (Colour::Tier, _) => machine.tier,
        (Colour::Pledge, Some(Standing::AtRisk)) => return "risk",
        (Colour::Pledge, Some(Standing::Kept)) => 2,
        (Colour::Pledge, Some(Standing::Unchecked)) => 3,
        (Colour::Pledge, None) => 4,
    };
    ["t1", "t2", "t3", "t4"][usize::from(level.clamp(1, 4)) - 1]
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
