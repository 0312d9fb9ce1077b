//! From which point each machine goes on: the newest that is good, and of those that share an instant the newest that all have.

use super::{Draft, Which};
use crate::{
    crossing::Bound,
    estate::{Estate, Machine, StoredPoint},
    finding::{Finding, Rule},
    moment::Moment,
};
use std::collections::BTreeMap;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq)]
pub(super) struct Chosen {
    pub session: Uuid,
    pub taken: Moment,
    /// Why this one.
    pub why: String,
}

/// None: nothing of a machine can go on.
pub(super) fn all<'a>(draft: &mut Draft<'_>, able: &[(usize, &'a Bound)], which: Which) -> Vec<(usize, &'a Bound, Chosen)> {
    let groups = together(draft.estate(), able);
    let mut found = Vec::new();
    for (stage, bound) in able {
        let Some(replica) = &bound.replica else { continue };
        let good: Vec<&StoredPoint> = replica.replicated().rev().filter(|p| fits(p, which)).collect();
        let of_group = groups.get(&bound.machine.id).and_then(|g| good.iter().find(|p| p.group == Some(*g)));
        let chosen = of_group.or_else(|| good.first()).copied().or_else(|| replica.replicated().next_back());
        let Some(chosen) = chosen else { continue };
        let newest = replica.replicated().next_back().is_some_and(|n| n.session == chosen.session);
        unusual(draft, &bound.machine, replica, newest);
        if which == Which::Proven && !is_proven(chosen) {
            let name = &bound.machine.name;
            let text = format!("No point of {name} was proven; the newest is taken.");
            draft.found(Finding::mind(Rule::Content, name, text).at("which"));
        }
        let why = why(chosen, newest, of_group.is_some());
        found.push((*stage, *bound, Chosen { session: chosen.session, taken: chosen.taken, why }));
    }
    found
}

fn is_proven(point: &StoredPoint) -> bool {
    point.proof.as_ref().is_some_and(|p| p.is_good())
}

/// One of which a copy did not come up is never taken while there is another.
fn fits(point: &StoredPoint, which: Which) -> bool {
    match which {
        Which::Newest => point.proof.as_ref().is_none_or(|p| p.is_good()),
        Which::Proven => is_proven(point),
    }
}

/// The newest instant that all of those have that share one, by machine.
fn together(estate: &Estate, able: &[(usize, &Bound)]) -> BTreeMap<crate::ids::MachineId, Uuid> {
    let mut sharing: BTreeMap<String, Vec<&Bound>> = BTreeMap::new();
    for (_, bound) in able {
        let pair = bound.replica.as_ref().and_then(|r| Some(r.replica.as_ref()?.pair));
        let job = pair.and_then(|p| estate.replicated_by(&bound.machine, p));
        if let Some(value) = job.and_then(|(job, _)| Some(format!("{} {}", job.id, job.shares(&bound.machine)?))) {
            sharing.entry(value).or_default().push(bound);
        }
    }
    let mut all = BTreeMap::new();
    for members in sharing.into_values().filter(|m| m.len() > 1) {
        let groups = |m: &Machine| -> Vec<(Moment, Uuid)> { m.replicated().filter_map(|p| Some((p.taken, p.group?))).collect() };
        let mut each = members.iter().filter_map(|b| Some(groups(b.replica.as_ref()?)));
        let first = each.next().unwrap_or_default();
        let rest: Vec<Vec<(Moment, Uuid)>> = each.collect();
        let everywhere = |g: &Uuid| rest.iter().all(|own| own.iter().any(|(_, other)| other == g));
        let common = first.into_iter().filter(|(_, g)| everywhere(g)).max();
        if let Some((_, group)) = common {
            all.extend(members.iter().map(|b| (b.machine.id, group)));
        }
    }
    all
}

fn why(point: &StoredPoint, newest: bool, shared: bool) -> String {
    let what = if newest { "the newest that is there" } else { "not the newest that is there" };
    let proven = if is_proven(point) { ", proven" } else { ", never proven" };
    let shared = if shared { ", of one instant with those that share it" } else { "" };
    format!("{what}{proven}{shared}")
}

/// What came over last may be what nobody wants to have back.
fn unusual(draft: &mut Draft<'_>, machine: &Machine, replica: &Machine, newest: bool) {
    let Some(words) = draft.estate().unusual_replica(replica).map(|u| u.words()).filter(|_| newest) else { return };
    let name = &machine.name;
    let text = format!("What came over last of {name} is unlike what came before: {words}");
    let mind = Finding::mind(Rule::Content, name, text).at("which");
    draft.found(mind.remedy("Look at its points before. “The newest that was proven” goes on from one of which a copy came up."));
}
