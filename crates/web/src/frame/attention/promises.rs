//! Promises that are broken or at risk: one cause, one line.

use super::Need;
use crate::places::protect::{at_site, glyph_of, key, key_of};
use std::{cmp::Reverse, collections::BTreeMap, sync::Arc};
use zastrugi_core::{
    estate::{Estate, Machine},
    ids::ArrayId,
    moment::Moment,
    pledges::{Promise, Promises, Sort, Standing},
};

/// What stands behind it: the array that does otherwise, if one does. What is broken comes first.
type Cause = (Reverse<Standing>, Sort, Option<ArrayId>);

#[derive(Default)]
struct Felt<'a> {
    since: Option<Moment>,
    machines: Vec<&'a Arc<Machine>>,
}

pub(super) fn promises(
    estate: &Estate,
    promises: &Promises,
    site: Option<u64>,
    now: Moment,
) -> Vec<Need> {
    let here = |m: &Machine| at_site(estate, m, site);
    let mut all: BTreeMap<Cause, Felt<'_>> = BTreeMap::new();
    let ill = |s: Standing| s >= Standing::AtRisk;
    for promise in promises.iter().filter(|p| ill(p.standing())) {
        let machine = estate.machines.get(&promise.machine);
        let Some(machine) = machine.filter(|m| here(m)) else {
            continue;
        };
        for (sort, standing, since, array) in promise.clauses().filter(|c| ill(c.1)) {
            let felt = all.entry((Reverse(standing), sort, array)).or_default();
            felt.since = felt.since.into_iter().chain(since).min();
            if felt.machines.last().is_none_or(|m| m.id != machine.id) {
                felt.machines.push(machine);
            }
        }
    }
    let line = |(cause, felt): (Cause, Felt<'_>)| line(estate, cause, &felt, now);
    all.into_iter().map(line).collect()
}

fn line(estate: &Estate, (standing, sort, _): Cause, felt: &Felt<'_>, now: Moment) -> Need {
    let standing = standing.0;
    let names: Vec<&str> = felt
        .machines
        .iter()
        .take(4)
        .map(|m| m.name.as_str())
        .collect();
    let more = if felt.machines.len() > names.len() {
        ", …"
    } else {
        ""
    };
    let promise = felt
        .machines
        .first()
        .and_then(|m| Promise::of(estate, m, now));
    let judged = promise.as_ref().and_then(|p| p.of_sort(sort));
    let why = judged.map_or("", |j| j.why.as_str());
    // The moment since which it is so stands behind it.
    let why = match felt.since {
        Some(_) => why.trim_end_matches('.'),
        None => why,
    };
    let (who, link) = match felt.machines.as_slice() {
        [one] => (one.name.clone(), format!("/protect/machines/{}", one.id.0)),
        many => (
            format!("{} machines", many.len()),
            format!(
                "/protect?clause={}&standing={}",
                key(sort),
                key_of(standing)
            ),
        ),
    };
    let what = sort.word().to_lowercase();
    Need {
        glyph: glyph_of(standing),
        text: format!("A promise to {who} is {}, {what}: {why}", standing.word()),
        since: felt.since,
        link,
        link_words: "Look at it",
        detail: format!("{}{more}", names.join(", ")),
    }
}
