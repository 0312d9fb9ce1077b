//! What needs a person now: the same list in the top bar's count and beside the Field.

use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::runs::{Phase, Runs};
use zastrugi_core::{
    estate::{ArrayCondition, Cluster, Condition, Estate, Machine, MachineState},
    runs::RunState,
    view::View,
};
use zastrugi_engine::{Desk, Headrooms};

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Need {
    pub(crate) glyph: &'static str,
    pub(crate) text: String,
    pub(crate) link: String,
    pub(crate) link_words: &'static str,
    pub(crate) detail: String,
}

/// What was computed for the last estate, by site: every page counts it, and it follows from the estate alone.
struct Kept {
    estate: Arc<Estate>,
    headrooms: Headrooms,
    held: Option<String>,
    by_site: BTreeMap<Option<u64>, Arc<Vec<Need>>>,
}

static KEPT: Mutex<Option<Kept>> = Mutex::new(None);

/// The worst first. Computed once for each estate and site.
pub(crate) fn needs(desk: &Desk, site: Option<u64>) -> Arc<Vec<Need>> {
    let (view, headrooms, held) = (&desk.look(), &desk.headrooms().1, desk.health().held);
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    let same = kept.as_ref().is_some_and(|k| {
        Arc::ptr_eq(&k.estate, &view.estate)
            && Arc::ptr_eq(&k.headrooms, headrooms)
            && k.held == held
    });
    if !same {
        *kept = Some(Kept {
            estate: view.estate.clone(),
            headrooms: headrooms.clone(),
            held: held.clone(),
            by_site: BTreeMap::new(),
        });
    }
    let known = kept.as_ref().and_then(|k| k.by_site.get(&site).cloned());
    if let Some(known) = known {
        return known;
    }
    let fresh = Arc::new(compute(view, headrooms, held.as_deref(), site));
    if let Some(k) = kept.as_mut() {
        k.by_site.insert(site, fresh.clone());
    }
    fresh
}

fn compute(view: &View, headrooms: &Headrooms, held: Option<&str>, site: Option<u64>) -> Vec<Need> {
    let estate = &view.estate;
    let mut all: Vec<Need> = held.map(orders_held).into_iter().collect();
    all.extend(hosts(estate, site));
    all.extend(runs(&view.runs));
    all.extend(storage(estate, site));
    all.extend(networks(estate, site));
    all.extend(renamed(estate, site));
    let here = |c: &&std::sync::Arc<Cluster>| site.is_none_or(|s| c.site.0 == s);
    all.extend(
        estate
            .clusters
            .values()
            .filter(here)
            .filter_map(|c| headroom_missing(headrooms, c)),
    );
    all
}

/// Nothing is ordered from any device.
fn orders_held(why: &str) -> Need {
    Need {
        glyph: "down",
        text: "All orders are held.".into(),
        link: "/settings#history".into(),
        link_words: "Look, then release",
        detail: why.to_owned(),
    }
}

fn hosts(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = estate
        .hosts
        .values()
        .filter(|h| site.is_none_or(|s| h.site.0 == s));
    here.filter_map(|host| {
        let (text, detail) = match &host.condition {
            Condition::Lost { why, .. } => {
                let count = estate.machines_on(host.id).count();
                (
                    format!("{} does not answer; {count} machines are on it.", host.name),
                    why.clone(),
                )
            }
            Condition::Stranger { .. } => (
                format!(
                    "{} shows another certificate than the pinned one.",
                    host.name
                ),
                "No orders go there until you decide.".to_owned(),
            ),
            _ => return None,
        };
        Some(Need {
            glyph: "down",
            text,
            link: format!("/hosts/{}", host.id.0),
            link_words: "Look at it",
            detail,
        })
    })
    .collect()
}

/// Machines that were found under a name that another has: nobody but a person knows which is which.
fn renamed(estate: &Estate, site: Option<u64>) -> Option<Need> {
    let here = |m: &&Arc<Machine>| {
        let cluster = m.cluster.and_then(|c| estate.clusters.get(&c));
        site.is_none_or(|s| cluster.is_some_and(|c| c.site.0 == s))
    };
    let mut found = estate.machines_renamed().filter(here);
    let first = found.next()?;
    let was = first.found_as.as_deref().unwrap_or_default();
    let text = match found.count() {
        0 => format!(
            "{} was found under the name {was}, which another machine has.",
            first.name
        ),
        n => format!(
            "{} machines were found under names that others have.",
            n + 1
        ),
    };
    Some(Need {
        glyph: "mind",
        text,
        link: format!("/sheet/edit-machines?ids={}", first.id.0),
        link_words: "Give it a name",
        detail: format!(
            "on its volume it was {was}; here it is called {}",
            first.name
        ),
    })
}

/// Networks that stand otherwise on some hosts, one line for each.
fn networks(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let here = |c: &&std::sync::Arc<Cluster>| site.is_none_or(|s| c.site.0 == s);
    let mut all = Vec::new();
    for cluster in estate.clusters.values().filter(here) {
        for network in estate
            .networks_of(cluster.id)
            .into_iter()
            .filter(|n| n.ready)
        {
            let bad: Vec<_> = estate
                .hosts_in(cluster.id)
                .filter(|h| h.accepts_work())
                .map(|h| (h, network.standing(estate, h)))
                .filter(|(_, s)| s.bad())
                .collect();
            let Some((host, standing)) = bad.first() else {
                continue;
            };
            let drifts = bad.iter().any(|(_, s)| s.drifts());
            let text = match bad.len() {
                1 => format!("{} on {}: {}.", network.name, host.name, standing.words()),
                n => format!("{} differs on {n} hosts.", network.name),
            };
            all.push(Need {
                glyph: if drifts { "down" } else { "mind" },
                text,
                link: if drifts {
                    format!("/sheet/heal-network?ids={}", network.id.0)
                } else {
                    format!("/networks/{}", network.id.0)
                },
                link_words: if drifts { "Mend it" } else { "Look at it" },
                detail: "drift: not as it was meant to be".into(),
            });
        }
    }
    all
}

/// Volumes that some of their hosts miss, arrays that fall silent, machines that are halted.
fn storage(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let at = |s: zastrugi_core::ids::SiteId| site.is_none_or(|site| s.0 == site);
    let mut all = Vec::new();
    for v in estate.volumes.values().filter(|v| v.ready) {
        let here = v
            .cluster
            .and_then(|c| estate.clusters.get(&c))
            .is_none_or(|c| at(c.site));
        let drift = if here { v.drift(estate) } else { vec![] };
        let Some(first) = drift.first() else { continue };
        let text = match (drift.len(), first.misses()) {
            (1, true) => format!("{} does not mount {}.", first.host.name, v.name),
            (1, false) => format!(
                "{} has {} of {} paths to {}.",
                first.host.name, first.up, first.of, v.name
            ),
            (n, _) => format!("{n} hosts miss paths to {}.", v.name),
        };
        all.push(Need {
            glyph: if drift.iter().any(zastrugi_core::estate::Drift::misses) {
                "down"
            } else {
                "mind"
            },
            text,
            link: format!("/sheet/heal-volume?ids={}", v.id.0),
            link_words: "Bring it back",
            detail: "drift: not as it was meant to be".into(),
        });
    }
    for a in estate.arrays.values().filter(|a| at(a.site)) {
        let silent: Vec<_> = a.silent().map(|c| c.address.clone()).collect();
        let (glyph, text) = if matches!(a.condition, ArrayCondition::Lost { .. }) {
            ("down", format!("{} does not answer.", a.name))
        } else if silent.is_empty() {
            continue;
        } else {
            ("mind", format!("A controller of {} is silent.", a.name))
        };
        all.push(Need {
            glyph,
            text,
            link: format!("/storage/arrays/{}", a.id.0),
            link_words: "Look at it",
            detail: silent.join(", "),
        });
    }
    let paused: Vec<_> = estate.machines_paused().collect();
    if let Some(first) = paused.first() {
        let why = match &first.state {
            MachineState::Paused(why) => why.clone(),
            _ => String::new(),
        };
        all.push(Need {
            glyph: "down",
            text: match paused.len() {
                1 => format!("{} is paused.", first.name),
                n => format!("{n} machines are paused."),
            },
            link: "/machines?state=mind".into(),
            link_words: "Look at them",
            detail: why,
        });
    }
    all
}

fn runs(runs: &Runs) -> Vec<Need> {
    let waiting = runs.iter().filter(|r| r.state == RunState::NeedsYou);
    waiting
        .map(|run| {
            let fault = run
                .in_phase(Phase::Failed)
                .find_map(|(_, s)| s.fault.as_ref());
            Need {
                glyph: "stop",
                text: format!(
                    "{} waits for you: {}",
                    run.title,
                    fault.map_or("a step failed.", |f| f.said.as_str())
                ),
                link: format!("/logbook/runs/{}", run.id.0),
                link_words: "Decide",
                detail: fault.map_or_else(String::new, |f| f.remedy.clone()),
            }
        })
        .collect()
}

/// A cluster that wouldn't survive what it must.
fn headroom_missing(headrooms: &Headrooms, cluster: &Cluster) -> Option<Need> {
    let known = headrooms.get(&cluster.id)?;
    if known.meets || !cluster.ready {
        return None;
    }
    let tightest = known.answer.matrix.tightest();
    let detail = tightest.map_or_else(String::new, |row| {
        let left = row.failure.not_restarted.len();
        let machines = if left == 1 { "machine" } else { "machines" };
        format!(
            "if {} fails, {left} {machines} would not restart",
            row.domain.words()
        )
    });
    Some(Need {
        glyph: "mind",
        text: format!("{} {}.", cluster.name, known.sentence),
        link: format!("/clusters/{}#headroom", cluster.id.0),
        link_words: "Look at it",
        detail,
    })
}
