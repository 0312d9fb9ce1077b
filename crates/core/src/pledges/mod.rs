//! What machines are promised, and whether it holds (rules, section 16).   Start at [`Promise::of`].
//!
//! Nothing is a stored colour: every standing is computed from facts, and each of them can be opened as [`Evidence`].
//!
//! ```text
//! pledge ──► demand (what one clause asks; the stricter of two stays) ──► judged (standing, why, evidence, until when)
//!                                                             all machines: Promises, kept up with the estate
//! ```

mod demand;
mod judge;
mod lie;
mod promises;
mod proven;
mod stored;

pub use demand::{CLAUSES, Demand, Sort, demands};
pub use lie::Lies;
pub use promises::{Brief, Promises};

use crate::{
    estate::{Estate, Machine, Pledge},
    ids::{MachineId, PledgeId},
    moment::{Moment, Span},
    runs::Object,
};
use std::sync::Arc;

/// How a promise stands. Ordered: the last one weighs most.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Standing {
    Kept,
    /// Nothing tells. Never drawn as kept.
    Unchecked,
    /// It holds now, and will not before the next chance to renew it; or barely.
    AtRisk,
    Broken,
}

impl Standing {
    pub const ALL: [Standing; 4] = [
        Standing::Kept,
        Standing::Unchecked,
        Standing::AtRisk,
        Standing::Broken,
    ];
    pub fn word(self) -> &'static str {
        match self {
            Standing::Kept => "kept",
            Standing::Unchecked => "unchecked",
            Standing::AtRisk => "at risk",
            Standing::Broken => "broken",
        }
    }
}

/// A fact that a standing rests on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Evidence {
    pub text: String,
    /// When it happened, or was first seen.
    pub at: Option<Moment>,
    /// Where it can be looked at.
    pub of: Option<Object>,
}

/// One clause of a machine's, judged.
#[derive(Debug, Clone, PartialEq)]
pub struct Judged {
    pub demand: Demand,
    /// The pledges that ask for it, the one that asks for most first.
    pub by: Vec<String>,
    pub standing: Standing,
    /// Since when it is broken, where that is known.
    pub since: Option<Moment>,
    pub why: String,
    pub evidence: Vec<Evidence>,
    /// It may stand otherwise from then on though nothing happens.
    pub until: Option<Moment>,
}

/// Everything that one machine is promised.
#[derive(Debug, Clone, PartialEq)]
pub struct Promise {
    pub machine: MachineId,
    pub pledges: Vec<(PledgeId, String)>,
    /// By sort of clause.
    pub judged: Vec<Judged>,
    /// What none of it is about, in words.
    pub uncovered: Vec<String>,
}

impl Promise {
    /// None: it has no pledge. O(clauses × disks).
    pub fn of(estate: &Estate, machine: &Machine, now: Moment) -> Option<Promise> {
        let given: Vec<&Arc<Pledge>> = estate.pledges_of(machine).collect();
        if given.is_empty() {
            return None;
        }
        Some(Promise::judged(estate, machine, &given, now))
    }

    fn judged(estate: &Estate, machine: &Machine, given: &[&Arc<Pledge>], now: Moment) -> Promise {
        let case = judge::Case::of(estate, machine, now, true);
        let judged = demands(given).into_iter().map(|(demand, by)| {
            let verdict = case.judge(&demand);
            Judged {
                demand,
                by,
                standing: verdict.standing,
                since: verdict.since,
                why: verdict.why.into_owned(),
                evidence: verdict.evidence,
                until: verdict.until,
            }
        });
        Promise {
            machine: machine.id,
            pledges: given.iter().map(|p| (p.id, p.name.clone())).collect(),
            judged: judged.collect(),
            uncovered: uncovered(estate, machine),
        }
    }

    /// The worst of all.
    pub fn standing(&self) -> Standing {
        let all = self.judged.iter().map(|j| j.standing);
        all.max().unwrap_or(Standing::Kept)
    }
    /// The worst of one sort; none: nothing of it is promised.
    pub fn of_sort(&self, sort: Sort) -> Option<&Judged> {
        let all = self.judged.iter().filter(|j| j.demand.sort() == sort);
        all.max_by_key(|j| j.standing)
    }
    /// What weighs most, first.
    pub fn worst(&self) -> Option<&Judged> {
        self.judged.iter().rev().max_by_key(|j| j.standing)
    }
    /// When it may stand otherwise though nothing happens.
    pub fn until(&self) -> Option<Moment> {
        self.judged.iter().filter_map(|j| j.until).min()
    }
}

/// What is promised of none of its pledges, in words.
fn uncovered(estate: &Estate, machine: &Machine) -> Vec<String> {
    let shared = machine.shares.iter().map(|s| {
        let found = estate.shared_disk(s.disk);
        let name = found.map_or_else(
            || "a shared disk".to_owned(),
            |(_, d)| format!("the shared disk {}", d.name),
        );
        format!("{name}, which other machines have too")
    });
    let except = machine
        .disks
        .iter()
        .enumerate()
        .filter(|(_, d)| machine.excepts(d.key));
    let except =
        except.map(|(n, d)| format!("disk {} of {}, which somebody took out", n + 1, d.size));
    shared.chain(except).collect()
}

/// More than four fifths of what is promised: hardly anything may go wrong.
fn is_tight(takes: Span, promised: Span) -> bool {
    u128::from(takes.0) * 5 > u128::from(promised.0) * 4
}
