//! How promises would stand with many machines: said for each standing, never for each machine.

use super::Draft;
use crate::{
    estate::{Estate, Machine},
    finding::{Finding, Rule, Severity},
    ids::MachineId,
    pledges::{Judged, Promise, Promises, Standing},
};
use std::{collections::BTreeMap, sync::Arc};

/// Names that are told; more are counted.
const NAMED: usize = 6;

/// Names, and how many more.
pub(super) fn listed(all: &[&Arc<Machine>]) -> String {
    let names: Vec<&str> = all.iter().take(NAMED).map(|m| m.name.as_str()).collect();
    match all.len().saturating_sub(names.len()) {
        0 => names.join(", "),
        more => format!("{} and {more} more", names.join(", ")),
    }
}

pub(super) fn count(n: usize) -> String {
    if n == 1 { "One machine".into() } else { format!("{n} machines") }
}

/// With those machines, in an estate as it would be; of all that they are promised, or of what one pledge asks.
pub(super) fn stands(
    draft: &mut Draft<'_>,
    after: Estate,
    machines: impl IntoIterator<Item = MachineId>,
    about: Option<&str>,
) {
    let after = Arc::new(after);
    let mut all: BTreeMap<Standing, Vec<&Arc<Machine>>> = BTreeMap::new();
    for brief in Promises::among(&after, machines, draft.now).iter() {
        if let Some(m) = after.machines.get(&brief.machine) {
            let standing = about.map_or_else(|| brief.standing(), |name| brief.by(name));
            all.entry(standing).or_default().push(m);
        }
    }
    for (standing, mut machines) in all {
        machines.sort_by(|a, b| a.name.cmp(&b.name));
        // Why is said of the first alone: of thousands nobody reads it.
        let promise = machines.first().and_then(|m| Promise::of(&after, m, draft.now));
        let asked = |j: &&Judged| about.is_none_or(|name| j.by.iter().any(|by| by == name));
        let mut judged = promise.iter().flat_map(|p| &p.judged).filter(asked);
        let judged = judged.find(|j| j.standing == standing);
        let why = judged.map_or("", |j| j.why.as_str());
        let who = count(machines.len()).to_lowercase();
        let (severity, text) = match standing {
            Standing::Kept => (Severity::Clear, format!("For {who} it holds then.")),
            Standing::Unchecked => (Severity::Unchecked, format!("For {who} nothing tells. {why}")),
            Standing::AtRisk => (Severity::Mind, format!("For {who} it is at risk. {why}")),
            Standing::Broken => (Severity::Mind, format!("For {who} it is broken from the start. {why}")),
        };
        draft.found(Finding::new(Rule::State, severity, "promises", text).because(listed(&machines)));
    }
}
