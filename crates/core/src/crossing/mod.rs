//! Whether a recovery plan would work if it had to today, and how long it would take (rules, section 19).   Start at [`Crossing::of`].
//!
//! ```text
//! plan ──► its machines, each with what is of it at the other site ──► room there, networks there ──► findings
//!                                                       └──► when each stage begins and is over
//! ```
//! Everything follows from facts: it is looked at again with every page, not only when somebody needs it.

mod bound;
mod drilled;
mod networks;
mod room;
mod times;

pub use bound::Bound;
pub use networks::heard;
pub use times::boots;

use crate::{
    estate::{RecoveryPlan, Road},
    finding::{Finding, Rule, Severity},
    ids::ClusterId,
    moment::{Moment, Span},
    pairing,
    view::View,
};
use std::collections::BTreeSet;

/// A plan as it would be carried out now.
#[derive(Debug, Clone, PartialEq)]
pub struct Crossing {
    /// What weighs most first.
    pub findings: Vec<Finding>,
    pub stages: Vec<Ahead>,
    /// When it was looked at: ages are as of then.
    pub at: Moment,
}

/// A stage, from the beginning of the run.
#[derive(Debug, Clone, PartialEq)]
pub struct Ahead {
    pub name: String,
    pub from: Span,
    pub to: Span,
    pub machines: Vec<Bound>,
    /// What lies between it and the next: in words, how long that takes, and whether a person is waited for.
    pub then: Vec<(String, Span, bool)>,
}

/// Subjects of findings that a drill is not about: it finds out itself whether machines come up, and nobody of production hears it.
pub const PROOFS: &str = "proofs";
pub const ADDRESSES: &str = "addresses";
pub const DRILLS: &str = "drills";

/// Of so few machines each is named; of more, how many they are.
const NAMED: usize = 6;

/// `a, b and 7 more`
pub fn listed(names: &[&str]) -> String {
    let shown = names
        .iter()
        .take(NAMED)
        .copied()
        .collect::<Vec<_>>()
        .join(", ");
    match names.len().saturating_sub(NAMED) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}

impl Crossing {
    /// O(machines × hosts of the clusters that they would be on).
    pub fn of(view: &View, plan: &RecoveryPlan, now: Moment) -> Crossing {
        let Some(road) = view.estate.road(plan.way) else {
            let gone = Finding::stop(
                Rule::Exists,
                &plan.name,
                "Its pair is gone: nothing is replicated any more.",
            );
            return Crossing {
                findings: vec![gone.remedy("Pair the sites again, and choose that pair.")],
                stages: vec![],
                at: now,
            };
        };
        let mut findings = Vec::new();
        findings.extend(carries(view, road, now));
        let mut stages = bound::all(view, plan, road, now, &mut findings);
        findings.extend(alike(view, road, &stages));
        findings.extend(room::placed(view, road, &mut stages));
        findings.extend(networks::mute(&view.estate, road, &stages));
        findings.extend(networks::drills(&view.estate, plan, road));
        findings.push(drilled::last(&view.estate, plan, &stages, now));
        findings.sort_by_key(|f| std::cmp::Reverse(f.severity));
        Crossing {
            stages: times::laid(view, plan, stages),
            findings,
            at: now,
        }
    }

    /// Whether it would not work.
    pub fn is_stopped(&self) -> bool {
        self.findings.iter().any(Finding::stops)
    }
    pub fn minds(&self) -> usize {
        self.findings
            .iter()
            .filter(|f| f.severity == Severity::Mind)
            .count()
    }
    pub fn machines(&self) -> impl Iterator<Item = &Bound> {
        self.stages.iter().flat_map(|s| &s.machines)
    }
    /// Until all of it is up, without what people take for their answers.
    pub fn time(&self) -> Span {
        self.stages.last().map_or(Span(0), |s| s.to)
    }
    /// How many times a person is waited for.
    pub fn asks(&self) -> usize {
        let all = self.stages.iter().flat_map(|s| &s.then);
        all.filter(|(_, _, asks)| *asks).count()
    }
    /// The oldest instant that anything would be brought up from.
    pub fn oldest(&self) -> Option<Moment> {
        self.machines()
            .filter_map(|b| Some(b.point.as_ref()?.1))
            .min()
    }
}

/// Whether the other site's processors and software are what the plan's machines are used to.
fn alike(view: &View, road: Road<'_>, stages: &[Vec<Bound>]) -> Vec<Finding> {
    let all = stages.iter().flatten();
    let used: BTreeSet<ClusterId> = all.filter_map(|b| b.machine.cluster).collect();
    pairing::parity(&view.estate, road.from, road.to, |c| used.contains(&c))
}

/// A pair that does not carry brings no newer points; what is there is there.
fn carries(view: &View, road: Road<'_>, now: Moment) -> Option<Finding> {
    let trouble = pairing::trouble(view, road.pair, now)?;
    let text = format!(
        "{} does not carry as it should, so points at {} get no younger: {}",
        road.pair.name,
        road.to.site_name(&view.estate),
        trouble.text
    );
    Some(Finding::mind(trouble.rule, &road.pair.name, text).because(trouble.evidence))
}
