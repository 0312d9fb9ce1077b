//! Consequences before action. Start at [`assess`]: the same function feeds the sheet, a rehearsal and the start of a
//! run.

use super::{
    AcceptedPlan, Ask, Bar, Draft, Fill, Listed, Outlook, Place, Plan, PlannedStep, Work, bars,
};
use crate::{
    estate::Site,
    finding::{Finding, Rule, Severity},
    ids::{MachineId, Revision, RunId},
    moment::{Moment, Span},
    permits::Permits,
    view::View,
};
use serde::{Deserialize, Serialize};

/// What the core computed for a proposal, at a revision. Private fields: without the gate there is no run.
#[derive(Debug, Clone)]
pub struct Assessment<A, S: Work> {
    pub(super) ask: A,
    pub(super) revision: Revision,
    pub(super) title: String,
    pub(super) findings: Vec<Finding>,
    pub(super) places: Vec<Place>,
    pub(super) listed: Vec<Listed>,
    pub(super) fills: Vec<Fill>,
    pub(super) outlooks: Vec<Outlook>,
    pub(super) refused: Vec<(String, String)>,
    pub(super) interrupted: Vec<(MachineId, String)>,
    pub(super) run: RunId,
    pub(super) steps: Vec<PlannedStep<S>>,
    pub(super) intents: Vec<S::Event>,
    /// Sites that come into being with it.
    pub(super) sites: Vec<Site>,
    pub(super) time: Span,
}

/// Why a proposal can't run: the findings that stop it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{} checks stop this", stops.len())]
pub struct Blocked {
    pub stops: Vec<Finding>,
}

/// What a person had before their eyes when they pressed Run, without measured figures.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Seen {
    pub revision: Revision,
    /// (rule, subject) of everything worse than clear.
    pub worse: Vec<(Rule, String, Severity)>,
    /// (machine, host) in the order of the sheet.
    pub places: Vec<(String, String)>,
    pub interrupted: Vec<String>,
}

/// Computes the consequences of `ask` in the state of `view`, for somebody with `permits`.
///
/// Pure and deterministic; O(machines asked for × hosts of the cluster).
pub fn assess<A: Ask>(
    view: &View,
    permits: &Permits,
    ask: &A,
    now: Moment,
) -> Assessment<A, A::Step> {
    let mut draft = Draft::new(view, now);
    if !ask.acts().into_iter().all(|act| permits.allow(act)) {
        draft.found(Finding::stop(
            Rule::Permit,
            "you",
            "Your role does not allow this.",
        ));
    }
    ask.assess(&mut draft);
    draft.finish(ask.clone())
}

impl<A, S: Work> Assessment<A, S> {
    /// The only way to an [`AcceptedPlan`].
    ///
    /// # Errors
    /// [`Blocked`] with every *stop*.
    pub fn accept(self) -> Result<AcceptedPlan<A, S>, Blocked> {
        let stops: Vec<_> = self
            .findings
            .iter()
            .filter(|f| f.stops())
            .cloned()
            .collect();
        if !stops.is_empty() {
            return Err(Blocked { stops });
        }
        let plan = Plan {
            run: self.run,
            ask: self.ask,
            revision: self.revision,
            findings: self.findings,
            places: self.places,
            fills: self.fills,
            steps: self.steps,
            time: self.time,
        };
        Ok(AcceptedPlan {
            title: self.title,
            intents: self.intents,
            plan,
        })
    }

    /// The same of the lists of all rooms.
    pub fn of<B, T>(self) -> Assessment<B, T>
    where
        B: From<A>,
        T: Work + From<S>,
        T::Event: From<S::Event> + From<Site>,
    {
        let lift = |p: PlannedStep<S>| PlannedStep {
            step: p.step.into(),
            title: p.title,
            after: p.after,
            turn: p.turn,
            field: p.field,
            when: p.when,
        };
        let sites = self.sites.into_iter().map(T::Event::from);
        Assessment {
            ask: self.ask.into(),
            revision: self.revision,
            title: self.title,
            findings: self.findings,
            places: self.places,
            listed: self.listed,
            fills: self.fills,
            outlooks: self.outlooks,
            refused: self.refused,
            interrupted: self.interrupted,
            run: self.run,
            steps: self.steps.into_iter().map(lift).collect(),
            intents: sites
                .chain(self.intents.into_iter().map(Into::into))
                .collect(),
            sites: Vec::new(),
            time: self.time,
        }
    }

    pub fn title(&self) -> &str {
        &self.title
    }
    pub fn revision(&self) -> Revision {
        self.revision
    }
    /// Worst first.
    pub fn findings(&self) -> &[Finding] {
        &self.findings
    }
    pub fn places(&self) -> &[Place] {
        &self.places
    }
    /// What comes into being, one by one.
    pub fn listed(&self) -> &[Listed] {
        &self.listed
    }
    /// Headroom of the clusters that it touches, before and after.
    pub fn outlooks(&self) -> &[Outlook] {
        &self.outlooks
    }
    pub fn fills(&self) -> &[Fill] {
        &self.fills
    }
    /// Hosts that were not chosen, with the reason.
    pub fn refused(&self) -> &[(String, String)] {
        &self.refused
    }
    /// Machines that are down for a while because of this.
    pub fn interrupted(&self) -> &[(MachineId, String)] {
        &self.interrupted
    }
    pub fn steps(&self) -> &[PlannedStep<S>] {
        &self.steps
    }
    pub fn bars(&self) -> Vec<Bar> {
        bars(&self.steps)
    }
    pub fn time(&self) -> Span {
        self.time
    }
    pub fn blocked(&self) -> bool {
        self.findings.iter().any(Finding::stops)
    }
    /// The first stop at a field, for words beside it.
    pub fn at_field(&self, field: &str) -> Option<&Finding> {
        self.findings
            .iter()
            .find(|f| f.stops() && f.field.as_deref() == Some(field))
    }

    pub fn seen(&self) -> Seen {
        let mut worse: Vec<_> = self
            .findings
            .iter()
            // Waiting for another run is no change of what happens.
            .filter(|f| f.severity > Severity::Clear && f.rule != Rule::Held)
            .map(|f| (f.rule, f.subject.clone(), f.severity))
            .collect();
        worse.sort();
        worse.dedup();
        Seen {
            revision: self.revision,
            worse,
            places: self
                .places
                .iter()
                .map(|p| (p.machine.clone(), p.host_name.clone()))
                .collect(),
            interrupted: self
                .interrupted
                .iter()
                .map(|(_, name)| name.clone())
                .collect(),
        }
    }

    /// Whether this is worse than what the person saw: something got worse, a chosen place changed, or other machines
    /// are interrupted. Changed figures alone don't count.
    pub fn is_worse_than(&self, seen: &Seen) -> bool {
        let fresh = self.seen();
        let worse = fresh.worse.iter().any(|(rule, subject, severity)| {
            !seen
                .worse
                .iter()
                .any(|(r, s, was)| r == rule && s == subject && was >= severity)
        });
        worse
            || fresh.places != seen.places
            || fresh
                .interrupted
                .iter()
                .any(|m| !seen.interrupted.contains(m))
    }
}
