//! What needs a person now: the same list in the top bar's count and beside the Field.

use zastrugi_core::{
    estate::{Cluster, Condition, Estate},
    run::RunState,
    view::View,
};
use zastrugi_engine::Reserves;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Need {
    pub(crate) glyph: &'static str,
    pub(crate) text: String,
    pub(crate) link: String,
    pub(crate) link_words: &'static str,
    pub(crate) detail: String,
}

/// The worst first.
pub(crate) fn needs(view: &View, reserves: &Reserves, site: Option<u64>) -> Vec<Need> {
    let estate = &view.estate;
    let mut all = hosts(estate, site);
    all.extend(runs(estate));
    let here = |c: &&std::sync::Arc<Cluster>| site.is_none_or(|s| c.site.0 == s);
    all.extend(
        estate
            .clusters
            .values()
            .filter(here)
            .filter_map(|c| reserve_broken(reserves, c)),
    );
    all
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

fn runs(estate: &Estate) -> Vec<Need> {
    let waiting = estate
        .runs
        .values()
        .filter(|r| r.state == RunState::NeedsYou);
    waiting
        .map(|run| {
            let fault = run.steps.iter().find_map(|s| s.fault.as_ref());
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

fn reserve_broken(reserves: &Reserves, cluster: &Cluster) -> Option<Need> {
    if cluster.demand.failures == 0 || !cluster.ready {
        return None;
    }
    let (text, detail) = match reserves.get(&cluster.id).and_then(Option::as_ref) {
        None => (
            format!(
                "{} survives no host failure: fewer than two hosts answer.",
                cluster.name
            ),
            String::new(),
        ),
        Some(r) if r.holds_up() => return None,
        Some(r) => (
            format!(
                "{} has no room for a host failure: {} too much is always kept.",
                cluster.name,
                r.short()
            ),
            format!("if {} fails; plain bound", r.fullest),
        ),
    };
    Some(Need {
        glyph: "mind",
        text,
        link: format!("/clusters/{}", cluster.id.0),
        link_words: "Look at it",
        detail,
    })
}
