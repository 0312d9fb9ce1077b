//! The checks before recovery points are let go: by somebody, or because the time is over for which somebody wanted them.

use super::{Draft, Expired, Step};
use crate::{
    estate::{PointAt, Store, StoredPoint},
    finding::{Finding, Rule},
    ids::StoreId,
    units::Bytes,
};
use std::{collections::BTreeSet, sync::Arc};

/// Points that one step takes away.
const TOGETHER: usize = 500;

pub(super) fn let_go(draft: &mut Draft<'_>, named: &[PointAt], typed: &str) {
    "Let recovery points go".clone_into(&mut draft.title);
    let chosen = draft.chosen(named);
    if chosen.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, "recovery points", "None is chosen.").at("point"));
    }
    let mut all: Vec<(PointAt, StoredPoint)> = Vec::new();
    for at in chosen {
        all.extend(draft.point(Some(at)));
    }
    let stores: BTreeSet<StoreId> = all.iter().map(|(at, _)| at.store).collect();
    let (Some(store), 1) = (stores.first(), stores.len()) else {
        let text = "They lie in several stores; let them go store by store.";
        return draft.found_all((!all.is_empty()).then(|| Finding::stop(Rule::State, "recovery points", text).at("point")));
    };
    let Some(store) = draft.estate().stores.get(store).cloned() else { return };
    draft.title = match all.as_slice() {
        [(at, _)] => format!("Let {} go", at.words(draft.estate())),
        many => format!("Let {} recovery points in {} go", many.len(), store.name),
    };
    for (at, _) in &all {
        needed(draft, *at);
    }
    locked(draft, &all);
    last(draft, &store, &all);
    let expected = match all.as_slice() {
        [(at, _)] => draft.estate().backups_with(at.machine).next().map_or_else(String::new, |s| s.name.clone()),
        many => many.len().to_string(),
    };
    if typed.trim() != expected {
        let what = if all.len() == 1 { "the machine's name" } else { "how many they are" };
        let text = format!("Type {what} to confirm: {expected}.");
        draft.found(Finding::stop(Rule::Name, &store.name, text).at("typed"));
    }
    let bytes: Bytes = all.iter().map(|(_, p)| p.stored).sum();
    let freed = match store.lock {
        None => "is freed by the second sweep from now on",
        Some(_) => "is freed by the second sweep after nothing of it is locked any more",
    };
    let text = format!("There is no way back. What only they need, {bytes} at most, {freed}.");
    draft.found(Finding::mind(Rule::Deleted, &store.name, text).at("point"));
    gone(draft, &store, all);
}

/// Somebody makes something of it just now.
fn needed(draft: &mut Draft<'_>, at: PointAt) {
    let copy = draft.estate().proving().find(|m| m.proves.as_deref() == Some(&at.into()));
    if let Some(copy) = copy.cloned() {
        let text = format!("It is being proven by {}; wait until that is over.", copy.name);
        draft.found(Finding::stop(Rule::State, &copy.name, text).at("point"));
    }
}

/// What nobody can take away yet.
fn locked(draft: &mut Draft<'_>, all: &[(PointAt, StoredPoint)]) {
    let now = draft.now;
    let held = all.iter().filter(|(_, p)| p.is_locked(now));
    let last = held.clone().filter_map(|(_, p)| p.locked).max();
    let Some(last) = last else { return };
    let text = match all {
        [_] => format!("It is locked until {} UTC: nobody can take it away before.", last.stamp()),
        _ => format!("{} of them are locked, the last until {} UTC: nobody can take them away before.", held.count(), last.stamp()),
    };
    draft.found(Finding::stop(Rule::Deleted, "recovery points", text).at("point"));
}

/// What is left of whose points go.
fn last(draft: &mut Draft<'_>, store: &Store, all: &[(PointAt, StoredPoint)]) {
    let going: BTreeSet<PointAt> = all.iter().map(|(at, _)| *at).collect();
    let machines: BTreeSet<_> = going.iter().map(|at| at.machine).collect();
    let mut found = Vec::new();
    for machine in machines {
        let Some(series) = draft.estate().backups_with(machine).find(|s| s.store == store.id) else { continue };
        let goes = |p: &StoredPoint| going.contains(&PointAt { store: store.id, machine, session: p.session });
        let name = &series.name;
        let proven = series.proven().is_some_and(goes);
        if series.points.iter().all(goes) {
            let text = format!("{} has nothing of {name} any more then.", store.name);
            found.push(Finding::mind(Rule::Deleted, name, text).at("point"));
        } else if proven {
            let text = format!("It is the newest point of {name} of which anybody knows that a machine comes up from it.");
            found.push(Finding::mind(Rule::Deleted, name, text).at("point"));
        }
    }
    draft.found_all(found);
}

fn gone(draft: &mut Draft<'_>, store: &Arc<Store>, all: Vec<(PointAt, StoredPoint)>) {
    let series = |at: &PointAt| draft.estate().backups_with(at.machine).find(|s| s.store == at.store).map(|s| s.id);
    let expired = all.iter().filter_map(|(at, point)| {
        Some(Expired {
            series: series(at)?,
            machine: at.machine,
            session: at.session,
            taken: point.taken,
        })
    });
    let expired: Vec<Expired> = expired.collect();
    let mut after = Vec::new();
    for points in expired.chunks(TOGETHER) {
        let step = Step::Expire { store: store.id, points: points.to_vec() };
        after.push(draft.step(step, format!("Let {} points go", points.len()), &[], Some("point")));
    }
    if !after.is_empty() {
        draft.step(Step::Sweep { store: store.id }, format!("Sweep {}", store.name), &after, None);
    }
}

/// Points whose time is over.
pub(super) fn over(draft: &mut Draft<'_>, id: StoreId) {
    "Let points go whose time is over".clone_into(&mut draft.title);
    let Some(store) = draft.estate().stores.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "store", "The store is gone.").at("store"));
    };
    draft.title = format!("Let points in {} go whose time is over", store.name);
    let now = draft.now;
    let all: Vec<(PointAt, StoredPoint)> = draft.estate().over(id, now).map(|(at, p)| (at, p.clone())).collect();
    if all.is_empty() {
        return draft.found(Finding::stop(Rule::Nothing, &store.name, "The time of none of them is over.").at("store"));
    }
    let text = format!("{} points were wanted until now.", all.len());
    draft.found(Finding::clear(Rule::Deleted, &store.name, text));
    gone(draft, &store, all);
}
