//! What needs a person now: the same list in the top bar's count and beside the Field.

mod above;
mod beneath;
mod hosts;
mod pairs;
mod plans;
mod points;
mod promises;

use super::fields::joined;
use above::Above;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::runs::{Phase, Runs};
use zastrugi_core::{
    availability::broken,
    estate::{Cause, Cluster, Estate, Outages},
    moment::Moment,
    pledges::Promises,
    runs::RunState,
    view::View,
};
use zastrugi_engine::{Desk, Headrooms};

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Need {
    pub(crate) glyph: &'static str,
    pub(crate) text: String,
    /// Since when, for the page.
    pub(crate) since: Option<Moment>,
    pub(crate) link: String,
    pub(crate) link_words: &'static str,
    pub(crate) detail: String,
}

/// What it follows from, beside the clock.
struct Seen<'a> {
    desk: &'a Desk,
    view: &'a View,
    headrooms: &'a Headrooms,
    promises: &'a Arc<Promises>,
}

/// What was computed for the last estate, by site: every page counts it, and it follows from the estate alone.
struct Kept {
    estate: Arc<Estate>,
    headrooms: Headrooms,
    promises: Arc<Promises>,
    above: Above,
    /// Of the clock: certificates run out while nothing else changes.
    hour: i64,
    outages: Arc<Outages>,
    by_site: BTreeMap<Option<u64>, Arc<Vec<Need>>>,
}

const HOUR: i64 = 3_600_000;

static KEPT: Mutex<Option<Kept>> = Mutex::new(None);

impl Kept {
    fn of(seen: &Seen<'_>, above: Above, hour: i64) -> Kept {
        let estate = &seen.view.estate;
        Kept {
            estate: estate.clone(),
            headrooms: seen.headrooms.clone(),
            promises: seen.promises.clone(),
            above,
            hour,
            outages: Arc::new(Outages::of(estate)),
            by_site: BTreeMap::new(),
        }
    }
}

/// The worst first, with what has failed beneath volumes at any site. Computed once for each estate and site.
pub(crate) fn needs(desk: &Desk, site: Option<u64>) -> (Arc<Vec<Need>>, Arc<Outages>) {
    let now = desk.now();
    let hour = now.0 / HOUR;
    let (view, headrooms, above) = (&desk.look(), &desk.headrooms().1, Above::of(desk));
    let promises = &desk.promises();
    let seen = Seen {
        desk,
        view,
        headrooms,
        promises,
    };
    let mut kept = KEPT.lock().unwrap_or_else(PoisonError::into_inner);
    let same = kept.take().filter(|k| {
        Arc::ptr_eq(&k.estate, &view.estate)
            && Arc::ptr_eq(&k.headrooms, headrooms)
            && Arc::ptr_eq(&k.promises, promises)
            && k.above == above
            && k.hour == hour
    });
    let known = kept.insert(same.unwrap_or_else(|| Kept::of(&seen, above.clone(), hour)));
    let outages = known.outages.clone();
    let fresh = || Arc::new(compute(&seen, &above, &outages, site, now));
    let needs = known.by_site.entry(site).or_insert_with(fresh).clone();
    (needs, outages)
}

fn compute(
    seen: &Seen<'_>,
    above: &Above,
    outages: &Outages,
    site: Option<u64>,
    now: Moment,
) -> Vec<Need> {
    let (view, headrooms) = (seen.view, seen.headrooms);
    let estate = &view.estate;
    let mut all: Vec<Need> = above.needs();
    all.extend(hosts::hosts(estate, site));
    all.extend(hosts::half_emptied(view, site));
    all.extend(hosts::missing_keepers(view, site));
    all.extend(hosts::fallen(estate, site));
    all.extend(runs(&view.runs));
    all.extend(beneath::storage(estate, outages, site));
    all.extend(beneath::networks(estate, site));
    all.extend(beneath::fronts(estate, site));
    all.extend(beneath::certificates(estate, site, now));
    all.extend(beneath::shared(estate, site));
    all.extend(beneath::records(estate, site));
    all.extend(promises::promises(estate, seen.promises, site, now));
    all.extend(points::failed(estate, site));
    all.extend(points::unusual(estate, site));
    all.extend(pairs::lame(estate, site));
    all.extend(plans::plans(seen.desk, estate, site));
    all.extend(hosts::renamed(estate, site));
    all.extend(rules(view, site));
    // A cluster whose storage is gone survives nothing: that is said once, with its cause.
    let without_storage = |c: &Cluster| {
        let lost = outages
            .all
            .iter()
            .filter(|o| matches!(o.cause, Cause::Array(_)));
        let volumes = lost.flat_map(|o| &o.volumes);
        volumes
            .filter_map(|v| estate.volumes.get(v))
            .any(|v| v.cluster == Some(c.id))
    };
    let here = |c: &&Arc<Cluster>| site.is_none_or(|s| c.site.0 == s) && !without_storage(c);
    all.extend(
        estate
            .clusters
            .values()
            .filter(here)
            .filter_map(|c| headroom_missing(headrooms, c)),
    );
    // What is down comes before what is worth a thought; else as above.
    all.sort_by_key(|n| n.glyph == "mind");
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
                since: None,
                link: format!("/logbook/runs/{}", run.id.0),
                link_words: "Decide",
                detail: fault.map_or_else(String::new, |f| f.remedy.clone()),
            }
        })
        .collect()
}

/// Required rules for where machines may be that don't hold, each with the move that heals it.
fn rules(view: &View, site: Option<u64>) -> Vec<Need> {
    let estate = &view.estate;
    let here = |c: &&Arc<Cluster>| site.is_none_or(|s| c.site.0 == s) && !c.rules.is_empty();
    let mut all = Vec::new();
    for cluster in estate.clusters.values().filter(here) {
        for found in broken(view, cluster).into_iter().filter(|b| b.required) {
            let heal = found
                .heal
                .and_then(|(m, h)| Some((estate.machines.get(&m)?, estate.hosts.get(&h)?)));
            let (link, link_words, detail) = match heal {
                Some((m, h)) => (
                    format!("/sheet/move?ids={}&to={}", m.id.0, h.id.0),
                    "Heal it",
                    format!("moving {} to {} heals it", m.name, h.name),
                ),
                None => (
                    format!("/clusters/{}#rules", cluster.id.0),
                    "Look at it",
                    "no single move heals it".to_owned(),
                ),
            };
            all.push(Need {
                glyph: "mind",
                text: format!("“{}” does not hold: {}.", found.rule, found.words),
                since: None,
                link,
                link_words,
                detail,
            });
        }
    }
    all
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
            "if {} fails, {left} {machines} would find no place",
            row.domain.words()
        )
    });
    Some(Need {
        glyph: "mind",
        text: format!("{} {}.", cluster.name, known.sentence),
        since: None,
        link: format!("/clusters/{}#headroom", cluster.id.0),
        link_words: "Look at it",
        detail,
    })
}
