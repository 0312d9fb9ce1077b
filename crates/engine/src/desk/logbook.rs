//! Runs and events of the past.

use super::Desk;
use std::sync::Arc;
use zastrugi_core::{ids::RunId, rooms::Plan, runs::Run};
use zastrugi_store::{EventFilter, EventRow, RunFilter, StoreError};

impl Desk {
    /// The newest runs before `before`; those that are open as they are now.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn runs(
        &self,
        before: Option<RunId>,
        most: i64,
    ) -> Result<Vec<Arc<Run>>, StoreError> {
        self.find_runs(&RunFilter::default(), before, most).await
    }
    /// Those that the filter leaves, likewise.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn find_runs(
        &self,
        filter: &RunFilter,
        before: Option<RunId>,
        most: i64,
    ) -> Result<Vec<Arc<Run>>, StoreError> {
        let mut all = self.reads.runs(filter, before, most).await?;
        let now = self.shared.snapshot();
        for run in &mut all {
            if let Some(open) = now.runs.get(run.id) {
                *run = open.clone();
            }
        }
        Ok(all)
    }
    /// One run with its plan: from memory while it is open.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn run(&self, id: RunId) -> Result<Option<(Arc<Run>, Arc<Plan>)>, StoreError> {
        let now = self.shared.snapshot();
        if let Some((run, plan)) = now.runs.get(id).zip(now.plans.get(&id)) {
            return Ok(Some((run.clone(), plan.clone())));
        }
        self.reads.run(id).await
    }
    /// The plan of an open run.
    pub fn plan(&self, id: RunId) -> Option<Arc<Plan>> {
        self.shared.snapshot().plans.get(&id).cloned()
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
