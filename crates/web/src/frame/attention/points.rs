//! Copies that did not come up, and copies that are unlike those before them.

use super::Need;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Machine, Proof, Series, StoredPoint},
    moment::Moment,
    runs::Object,
};

/// More of a kind are said in one line.
const EACH: usize = 4;

/// Machines that are there, at this site, with what one place has of them.
fn here<'a>(
    estate: &'a Estate,
    site: Option<u64>,
) -> impl Iterator<Item = (Copies<'a>, &'a Arc<Machine>)> {
    let stored = estate.series.values();
    let stored = stored
        .map(|s| Copies::Stored(s))
        .filter_map(|c| Some((c, estate.machine_with_uuid(&c.of()?)?)));
    let replicas = estate.pairs.keys().flat_map(|id| estate.replicas_over(*id));
    let replicas = replicas
        .map(|m| Copies::Replicated(m))
        .filter_map(|c| Some((c, estate.machine_with_uuid(&c.of()?)?)));
    stored.chain(replicas).filter(move |(_, m)| {
        let at = estate.site_of(m);
        m.deleted.is_none() && site.is_none_or(|s| at.is_none_or(|at| at.0 == s))
    })
}

/// What one place has of a machine.
#[derive(Clone, Copy)]
enum Copies<'a> {
    Stored(&'a Series),
    Replicated(&'a Machine),
}

impl<'a> Copies<'a> {
    fn of(self) -> Option<Uuid> {
        match self {
            Copies::Stored(series) => Some(series.machine),
            Copies::Replicated(machine) => Some(machine.replica.as_ref()?.of),
        }
    }

    /// Of those that were tried, the one that was last.
    fn tried(self) -> Option<(&'a StoredPoint, &'a Proof)> {
        let last = |all: &mut dyn Iterator<Item = &'a StoredPoint>| {
            let tried = all.filter_map(|p| Some((p, p.proof.as_deref()?)));
            tried.max_by_key(|(_, f)| f.at)
        };
        match self {
            Copies::Stored(series) => last(&mut series.points.iter()),
            Copies::Replicated(machine) => last(&mut machine.replicated()),
        }
    }

    fn at(self, session: Uuid) -> String {
        match self {
            Copies::Stored(s) => {
                format!("/protect/stores/{}/{}/{session}", s.store.0, s.machine)
            }
            Copies::Replicated(m) => format!("/protect/replicas/{}/{session}", m.id.0),
        }
    }

    /// How the newest is unlike those before it: when, how, and where all of them are.
    fn unusual(self, estate: &Estate) -> Option<(Moment, String, String)> {
        match self {
            Copies::Stored(s) => {
                let unusual = estate.unusual(s)?;
                let name = Object::Store(s.store).name(estate);
                let detail = format!("{}, in {name}", unusual.words());
                let to = format!("/protect/stores/{}/{}", s.store.0, s.machine);
                Some((s.newest()?.taken, detail, to))
            }
            Copies::Replicated(m) => {
                let unusual = estate.unusual_replica(m)?;
                let detail = format!("{}, of what went to {}", unusual.words(), m.name);
                let newest = m.replicated().next_back()?;
                Some((
                    newest.taken,
                    detail,
                    format!("/machines/{}#replica", m.id.0),
                ))
            }
        }
    }
}

/// Of whatever was tried last.
pub(super) fn failed(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let bad = here(estate, site).filter_map(|(copies, m)| {
        let (point, tried) = copies.tried().filter(|(_, f)| !f.is_good())?;
        let need = Need {
            glyph: "mind",
            text: format!("A copy of {} did not come up well.", m.name),
            since: Some(tried.at),
            link: copies.at(point.session),
            link_words: "See what it said",
            detail: tried.words(),
        };
        Some((m.name.clone(), need))
    });
    together(bad.collect(), "did not come up well", "Copies of")
}

pub(super) fn unusual(estate: &Estate, site: Option<u64>) -> Vec<Need> {
    let all = here(estate, site).filter_map(|(copies, m)| {
        let (at, detail, link) = copies.unusual(estate)?;
        let need = Need {
            glyph: "mind",
            text: format!("The last copy of {} is an unusual change.", m.name),
            since: Some(at),
            link,
            link_words: "Look at its points",
            detail,
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
