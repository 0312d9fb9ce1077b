//! Runs and events of the past.

use super::Desk;
use std::sync::Arc;
use zastrugi_core::{ids::RunId, plan::Plan, run::Run};
use zastrugi_store::{EventFilter, EventRow, StoreError};

impl Desk {
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn runs(
        &self,
        before: Option<RunId>,
        most: i64,
    ) -> Result<Vec<Arc<Run>>, StoreError> {
        self.reads.runs(before, most).await
    }
    /// One run with its plan: from memory while it is open.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn run(&self, id: RunId) -> Result<Option<(Arc<Run>, Arc<Plan>)>, StoreError> {
        let estate = self.shared.estate();
        if let Some((run, plan)) = estate.runs.get(&id).zip(estate.plans.get(&id)) {
            return Ok(Some((run.clone(), plan.clone())));
        }
        self.reads.run(id).await
    }
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn events(
        &self,
        filter: &EventFilter,
        most: i64,
    ) -> Result<Vec<EventRow>, StoreError> {
        self.reads.events(filter, most).await
    }
}
