//! What rules see: the estate, what is being changed, loads, and evidence, all at one moment.

use crate::{
    estate::{Estate, Host, Machine, MachineState},
    evidence::EvidenceBook,
    loads::{HostLoad, Loads, MachineLoad},
    macs::MacRange,
    runs::{Pace, Progress, Run, Runs},
};
use std::sync::Arc;

#[derive(Debug, Clone, Default)]
pub struct View {
    pub estate: Arc<Estate>,
    pub runs: Arc<Runs>,
    /// How far steps under way say they are: measured, never decided upon.
    pub progress: Arc<Progress>,
    pub loads: Arc<Loads>,
    pub evidence: Arc<EvidenceBook>,
    /// How long steps took lately.
    pub pace: Arc<Pace>,
    /// Where addresses of new cards come from.
    pub macs: MacRange,
}

impl View {
    pub fn of(estate: Estate) -> Self {
        View {
            estate: Arc::new(estate),
            ..View::default()
        }
    }
    pub fn with(&self, estate: Estate) -> Self {
        View {
            estate: Arc::new(estate),
            ..self.clone()
        }
    }
    /// What a machine uses now; none where it runs nothing, or nobody knows what it does: what was measured before says
    /// nothing about now.
    pub fn uses(&self, machine: &Machine) -> Option<&MachineLoad> {
        let runs = matches!(
            machine.state,
            MachineState::Starting(_) | MachineState::Running { .. } | MachineState::Stopping
        );
        let known = runs && self.estate.unknown(machine).is_none();
        self.loads.machines.get(&machine.id).filter(|_| known)
    }
    /// What a host uses now; none while it is silent.
    pub fn host_uses(&self, host: &Host) -> Option<&HostLoad> {
        self.loads.hosts.get(&host.id).filter(|_| host.reports())
    }
    /// What a device last said of a step.
    pub fn said<'a>(&'a self, run: &'a Run, step: usize) -> &'a str {
        let measured = self.progress.get(&(run.id, step)).map(String::as_str);
        let kept = run.step(step).map(|s| s.said.as_str());
        measured.or(kept).unwrap_or_default()
    }
}
