//! What rules see: the estate, what is being changed, loads, and evidence, all at one moment.

use crate::{
    estate::Estate,
    evidence::EvidenceBook,
    loads::Loads,
    runs::{Progress, Run, Runs},
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
    /// What a device last said of a step.
    pub fn said<'a>(&'a self, run: &'a Run, step: usize) -> &'a str {
        let measured = self.progress.get(&(run.id, step)).map(String::as_str);
        let kept = run.step(step).map(|s| s.said.as_str());
        measured.or(kept).unwrap_or_default()
    }
}
