//! Consequences before action. Start at [`assess`]: the same function feeds the sheet, a rehearsal and the start of a
//! run. One file for each kind of proposal; all of them fill a [`Draft`].

mod claim;
mod cluster;
mod create;
mod disks;
mod draft;
mod edit;
mod headroom;
mod held;
mod lifecycle;
mod moving;
mod network;
mod power;
mod storage;

pub use create::draw_uuid;
pub use headroom::Outlook;

use crate::{
    event::Event,
    finding::{Finding, Rule, Severity},
    ids::{MachineId, Revision, RunId},
    moment::{Moment, Span},
    permits::Permits,
    plan::{AcceptedPlan, Bar, Fill, Place, Plan, PlannedStep, bars, schedule},
    proposal::Proposal,
    view::View,
};
use draft::Draft;
use serde::{Deserialize, Serialize};

/// What the core computed for a proposal, at a revision. Private fields: without the gate there is no run.
#[derive(Debug, Clone)]
pub struct Assessment {
    ask: Proposal,
    revision: Revision,
    title: String,
    findings: Vec<Finding>,
    places: Vec<Place>,
    fills: Vec<Fill>,
    outlooks: Vec<Outlook>,
    refused: Vec<(String, String)>,
    interrupted: Vec<(MachineId, String)>,
    run: RunId,
    steps: Vec<PlannedStep>,
    intents: Vec<Event>,
    time: Span,
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
pub fn assess(view: &View, permits: &Permits, ask: &Proposal, now: Moment) -> Assessment {
    let mut draft = Draft::new(view, now);
    if !permits.allow(ask.act()) {
        draft.found(Finding::stop(
            Rule::Permit,
            "you",
            "Your role does not allow this.",
        ));
    }
    match ask {
        Proposal::ClaimHosts(claim) => claim::claim(&mut draft, claim),
        Proposal::HandBack { hosts } => claim::hand_back(&mut draft, hosts),
        Proposal::CreateCluster(create) => cluster::create(&mut draft, create),
        Proposal::CreateMachines(create) => create::create(&mut draft, create),
        Proposal::ConnectArray(ask) => storage::connect_array(&mut draft, ask),
        Proposal::ConnectVolume(ask) => storage::connect_volume(&mut draft, ask),
        Proposal::HealVolume { volume } => storage::heal(&mut draft, *volume),
        Proposal::ExtendVolume { volume, size } => storage::extend(&mut draft, *volume, *size),
        Proposal::GiveVolume { volume } => storage::give(&mut draft, *volume),
        Proposal::AddImage(ask) => storage::add_image(&mut draft, ask),
        Proposal::RemoveImage { image } => storage::remove_image(&mut draft, *image),
        Proposal::ConnectSwitch(ask) => network::connect_switch(&mut draft, ask),
        Proposal::CreateNetwork(ask) => network::create(&mut draft, ask),
        Proposal::HealNetwork { network } => network::heal(&mut draft, *network),
        Proposal::RemoveNetwork { network } => network::remove(&mut draft, *network),
        Proposal::Move(ask) => moving::relocate(&mut draft, ask),
        Proposal::Power { machines, act } => power::power(&mut draft, machines, *act),
        Proposal::Edit { targets, sets } => edit::edit(&mut draft, targets, sets),
        Proposal::EditHosts(edits) => edit::hosts(&mut draft, edits),
        Proposal::Delete { machines } => lifecycle::delete(&mut draft, machines),
        Proposal::Recover { machines } => lifecycle::recover(&mut draft, machines),
        Proposal::Purge { machines, typed } => lifecycle::purge(&mut draft, machines, typed),
    }
    draft.finish(ask.clone())
}

impl Assessment {
    /// The only way to an [`AcceptedPlan`].
    ///
    /// # Errors
    /// [`Blocked`] with every *stop*.
    pub fn accept(self) -> Result<AcceptedPlan, Blocked> {
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
    pub fn steps(&self) -> &[PlannedStep] {
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

fn total(steps: &[PlannedStep]) -> Span {
    schedule(steps)
        .into_iter()
        .map(|(_, to)| to)
        .max()
        .unwrap_or_default()
}
