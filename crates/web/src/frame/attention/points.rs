//! Copies that did not come up, and copies that are unlike those before them.

use super::Need;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Machine, PointAt, Series},
    runs::Object,
};

/// More of a kind are said in one line.
const EACH: usize = 4;

/// What a store has of a machine that is there, at this site.
fn here(estate: &Estate, site: Option<u64>) -> impl Iterator<Item = (&Arc<Series>, &Arc<Machine>)> {
    let of = |s| {
        let series: &Arc<Series> = s;
        Some((series, estate.machine_with_uuid(&series.machine)?))
    };
    let all = estate.series.values().filter_map(of);
    all.filter(move |(_, m)| {
        let at = estate.site_of(m);
        m.deleted.is_none() && site.is_none_or(|s| at.is_none_or(|at| at.0 == s))
    })
}

fn path(at: PointAt) -> String {
    format!(
        "/protect/stores/{}/{}/{}",
        at.store.0, at.machine, at.session
    )
}

/// Of whatever was tried last.
pub(super) fn failed(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let bad = here(estate, site).filter_map(|(series, m)| {
        let tried = series.tried().filter(|f| !f.is_good())?;
        let point = series
            .points
            .iter()
            .find(|p| p.proof.as_deref() == Some(tried))?;
        let at = PointAt {
            store: series.store,
            machine: series.machine,
            session: point.session,
        };
        let need = Need {
            glyph: "mind",
            text: format!("A copy of {} did not come up well.", m.name),
            since: Some(tried.at),
            link: path(at),
            link_words: "See what it said",
            detail: tried.words(),
        };
        Some((m.name.clone(), need))
    });
    together(bad.collect(), "did not come up well", "Copies of")
}

pub(super) fn unusual(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let all = here(estate, site).filter_map(|(series, m)| {
        let unusual = estate.unusual(series)?;
        let to = Object::Store(series.store).name(estate);
        let newest = series.newest()?;
        let need = Need {
            glyph: "mind",
            text: format!("The last copy of {} is an unusual change.", m.name),
            since: Some(newest.taken),
            link: format!("/protect/stores/{}/{}", series.store.0, series.machine),
            link_words: "Look at its points",
            detail: format!("{}, in {to}", unusual.words()),
        };
        Some((m.name.clone(), need))
    });
    together(all.collect(), "are unusual changes", "The last copies of")
}

/// Each on its own, or all in one line.
fn together(mut all: Vec<(String, Need)>, what: &str, of: &str) -> Vec<Need> {
    if all.len() <= EACH {
        return all.into_iter().map(|(_, need)| need).collect();
    }
    all.sort_by(|a, b| a.0.cmp(&b.0));
    let names: Vec<&str> = all
        .iter()
        .take(EACH)
        .map(|(name, _)| name.as_str())
        .collect();
    let detail = format!("{}, …", names.join(", "));
    let since = all.iter().filter_map(|(_, n)| n.since).min();
    vec![Need {
        glyph: "mind",
        text: format!("{of} {} machines {what}.", all.len()),
        since,
        link: "/protect".into(),
        link_words: "Look at Protect",
        detail,
    }]
}
