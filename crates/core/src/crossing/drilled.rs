//! When a plan was last drilled, and whether it is still that plan.

use super::{Bound, DRILLS, listed};
use crate::{
    estate::{Estate, Passage, PassageKind, RecoveryPlan},
    finding::{Finding, Rule},
    moment::{Moment, Span},
};

/// A drill that lies further back says little.
const OLD: Span = Span::days(180);

pub(super) fn last(
    estate: &Estate,
    plan: &RecoveryPlan,
    stages: &[Vec<Bound>],
    now: Moment,
) -> Finding {
    let name = DRILLS;
    let all = estate.passages_of(plan.id);
    let drill = |p: &&&std::sync::Arc<Passage>| p.kind == PassageKind::Drill && p.ended.is_some();
    let Some(last) = all.iter().find(drill) else {
        return Finding::mind(Rule::Content, name, "It was never drilled.")
            .remedy("Drill it: beside production, in networks that nobody else hears.");
    };
    let ended = last.ended.unwrap_or(last.began);
    let ago = now.since(ended);
    let (came, of) = last.came();
    let because = format!(
        "{} UTC: {came} of {of} machines came up well",
        ended.stamp()
    );
    let mind = |text: String| {
        Finding::mind(Rule::Content, name, text)
            .because(because.clone())
            .remedy("Drill it again.")
    };
    if last.edition != plan.edition {
        return mind(format!(
            "It was last drilled {ago} ago, and was changed since."
        ));
    }
    // Labels let machines come in without a change of the plan.
    let untried = |b: &&Bound| {
        let mut all = last.stages.iter().flat_map(|s| &s.machines);
        !all.any(|m| m.machine == b.machine.id)
    };
    let new: Vec<&str> = stages
        .iter()
        .flatten()
        .filter(untried)
        .map(|b| b.machine.name.as_str())
        .collect();
    if !new.is_empty() {
        let names = listed(&new);
        return mind(format!("It was last drilled {ago} ago, without {names}."));
    }
    if !last.is_good() {
        return mind(format!(
            "Its last drill, {ago} ago, did not come to a good end."
        ));
    }
    if ago > OLD {
        return mind(format!("It was last drilled {ago} ago."));
    }
    Finding::clear(
        Rule::Content,
        name,
        format!("It was drilled {ago} ago as it is now, and all of it came up."),
    )
    .because(because)
}
