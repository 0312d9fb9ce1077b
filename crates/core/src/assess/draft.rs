//! What every kind of proposal fills in while it is assessed.

use super::{Assessment, total};
use crate::{
    estate::{Estate, Host, Machine},
    event::Event,
    finding::{Finding, Rule},
    ids::{HostId, MachineId, RunId},
    moment::Moment,
    placement::{Choice, Ledger},
    plan::{Fill, Place, PlannedStep, Step},
    proposal::Proposal,
    view::View,
};
use std::{cmp::Reverse, sync::Arc};

pub(super) struct Draft<'a> {
    pub(super) view: &'a View,
    pub(super) now: Moment,
    pub(super) title: String,
    findings: Vec<Finding>,
    places: Vec<Place>,
    fills: Vec<Fill>,
    refused: Vec<(String, String)>,
    interrupted: Vec<(MachineId, String)>,
    steps: Vec<PlannedStep>,
    /// Hosts that are handed back.
    pub(super) leaving: std::collections::BTreeSet<crate::ids::HostId>,
    intents: Vec<Event>,
    run: RunId,
    next: u64,
}

impl<'a> Draft<'a> {
    pub(super) fn new(view: &'a View, now: Moment) -> Self {
        let next = view.estate.next.max(1);
        Draft {
            view,
            now,
            title: String::new(),
            findings: Vec::new(),
            places: Vec::new(),
            fills: Vec::new(),
            refused: Vec::new(),
            interrupted: Vec::new(),
            steps: Vec::new(),
            leaving: Default::default(),
            intents: Vec::new(),
            run: RunId(next),
            next: next + 1,
        }
    }
    pub(super) fn estate(&self) -> &'a Estate {
        &self.view.estate
    }
    /// A number for a new entity; the run has the first.
    pub(super) fn number(&mut self) -> u64 {
        self.next += 1;
        self.next - 1
    }
    pub(super) fn run(&self) -> RunId {
        self.run
    }
    pub(super) fn found(&mut self, finding: Finding) {
        self.findings.push(finding);
    }
    pub(super) fn found_all(&mut self, findings: impl IntoIterator<Item = Finding>) {
        self.findings.extend(findings);
    }
    pub(super) fn intend(&mut self, event: Event) {
        self.intents.push(event);
    }
    pub(super) fn interrupts(&mut self, machine: &Machine) {
        self.interrupted.push((machine.id, machine.name.clone()));
    }
    /// Adds a step and answers its number, for those that come after it.
    pub(super) fn step(
        &mut self,
        step: Step,
        title: String,
        after: &[usize],
        field: Option<&str>,
    ) -> usize {
        self.steps.push(PlannedStep {
            step,
            title,
            after: after.to_vec(),
            field: field.map(str::to_owned),
        });
        self.steps.len() - 1
    }

    /// A machine that the proposal names, if it is there; else a *stop*.
    pub(super) fn machine(&mut self, id: MachineId) -> Option<&'a Arc<Machine>> {
        let found = self.view.estate.machines.get(&id);
        if found.is_none() {
            let text = "This machine is gone; somebody removed it.";
            self.found(Finding::stop(Rule::Exists, id.to_string(), text));
        }
        found
    }
    /// A host that the proposal names, if it is there; else a *stop*.
    pub(super) fn host(&mut self, id: HostId) -> Option<&'a Arc<Host>> {
        let found = self.view.estate.hosts.get(&id);
        if found.is_none() {
            self.found(Finding::stop(
                Rule::Exists,
                id.to_string(),
                "This host is gone; it was handed back.",
            ));
        }
        found
    }
    /// A host that reaches the machine's volume: its own, else any of its cluster that answers; else a *stop*.
    pub(super) fn via(&mut self, machine: &Machine) -> Option<HostId> {
        let estate = self.estate();
        let own = machine
            .host
            .and_then(|h| estate.hosts.get(&h))
            .filter(|h| h.accepts_work());
        let found = own
            .or_else(|| estate.hosts_in(machine.cluster?).find(|h| h.accepts_work()))
            .map(|h| h.id);
        if found.is_none() {
            let text = format!("No host that reaches {} answers.", machine.name);
            self.found(
                Finding::stop(Rule::HostOpen, &machine.name, text)
                    .remedy("Look at the hosts of its cluster; one must answer."),
            );
        }
        found
    }

    pub(super) fn placed(&mut self, machine: &Machine, choice: &Choice) {
        let name = |id: &HostId| {
            self.view
                .estate
                .hosts
                .get(id)
                .map_or_else(|| id.to_string(), |h| h.name.clone())
        };
        let host_name = name(&choice.host);
        self.found_minds(machine, choice, &host_name);
        if self.refused.is_empty() {
            let dearer = choice
                .others
                .iter()
                .map(|(id, _)| (name(id), "would end fuller".to_owned()));
            let refused = choice.refused.iter().map(|(id, why)| {
                let words = why
                    .iter()
                    .filter(|o| o.stops())
                    .map(crate::placement::Obstacle::words);
                (name(id), words.collect::<Vec<_>>().join("; "))
            });
            self.refused = dearer.chain(refused).collect();
        }
        self.places.push(Place {
            machine: machine.name.clone(),
            host: choice.host,
            host_name,
        });
    }
    fn found_minds(&mut self, machine: &Machine, choice: &Choice, host: &str) {
        let minds: Vec<_> = choice
            .minds
            .iter()
            .map(|o| o.finding(&machine.name, host))
            .collect();
        self.found_all(minds);
    }
    /// Held memory of the hosts that got something, before and after.
    pub(super) fn filled(&mut self, before: &Ledger, after: &Ledger) {
        for row in after.rows() {
            let was = before
                .row(row.host.id)
                .map_or(row.host.reserve(), super::super::placement::Row::taken);
            if row.taken() != was {
                self.fills.push(Fill {
                    host: row.host.id,
                    name: row.host.name.clone(),
                    before: was,
                    after: row.taken(),
                    installed: row.host.hardware.memory,
                });
            }
        }
    }

    pub(super) fn finish(mut self, ask: Proposal) -> Assessment {
        let headroom = super::headroom::findings(self.view, &self.intents, &self.leaving);
        let (outlooks, found): (Vec<_>, Vec<_>) = headroom.into_iter().unzip();
        self.found_all(found.into_iter().flatten());
        let waits = super::held::waits(self.estate(), &self.steps);
        self.found_all(waits);
        self.findings.sort_by_key(|f| Reverse(f.severity));
        let time = total(&self.steps);
        Assessment {
            ask,
            revision: self.view.estate.revision,
            title: self.title,
            findings: self.findings,
            places: self.places,
            fills: self.fills,
            outlooks,
            refused: self.refused,
            interrupted: self.interrupted,
            run: self.run,
            steps: self.steps,
            intents: self.intents,
            time,
        }
    }
}
