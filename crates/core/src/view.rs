//! What rules see: the estate, its loads, and evidence, all at one moment.

use crate::{estate::Estate, evidence::EvidenceBook, loads::Loads};
use std::sync::Arc;

#[derive(Debug, Clone, Default)]
pub struct View {
    pub estate: Arc<Estate>,
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
}
