//! What machines are promised of their storage, as it would stand at the other site.

use super::member::Goes;
use crate::{
    crossing::listed,
    finding::{Finding, Rule},
    moment::Moment,
    pledges::{Promise, Sort, Standing},
    view::View,
};
use std::collections::BTreeMap;

/// What is kept here and would be broken there; whose it is is said once for each reason.
pub(super) fn broken(view: &View, then: &View, all: &[Goes], (site, now): (&str, Moment)) -> Vec<Finding> {
    let stands = |view: &View, goes: &Goes| {
        let machine = view.estate.machines.get(&goes.machine.id)?;
        let promise = Promise::of(&view.estate, machine, now)?;
        let judged = promise.of_sort(Sort::Storage)?;
        Some((judged.standing, judged.why.clone()))
    };
    let mut why: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for goes in all {
        let here = stands(view, goes).map(|(standing, _)| standing);
        match stands(then, goes) {
            Some((Standing::Broken, words)) if here != Some(Standing::Broken) => why.entry(words).or_default().push(&goes.machine.name),
            _ => {}
        }
    }
    let one = |(why, names): (String, Vec<&str>)| {
        let text = format!("What {} are promised of their storage would be broken at {site}: {why}", listed(&names));
        Finding::mind(Rule::Content, names[0], text).remedy("Let the pair put their disks on a volume that offers it, or promise less there.")
    };
    why.into_iter().map(one).collect()
}
