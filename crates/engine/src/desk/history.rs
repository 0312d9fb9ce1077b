//! What holds orders, and letting them go.

use super::{Desk, Viewer};
use crate::scribe::history::{self, How};
use std::time::Duration;
use zastrugi_core::{epoch::Epoch, permits::Act};
use zastrugi_store::StoreError;

/// Why no new history was begun.
#[derive(Debug, thiserror::Error)]
pub enum HistoryError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error(transparent)]
    Store(#[from] StoreError),
}

impl Desk {
    /// The history that this installation gives orders in.
    pub fn epoch(&self) -> Epoch {
        self.shared.epoch()
    }

    /// Begins a new history, from what the database holds now: orders are given again, and what was under way waits for a
    /// person.
    ///
    /// # Errors
    /// [`HistoryError`] when the viewer may not, or the database does not answer.
    pub async fn begin_history(&self, viewer: &Viewer) -> Result<Epoch, HistoryError> {
        if !viewer.permits().allow(Act::Settings) {
            return Err(HistoryError::NotAllowed);
        }
        let (epoch, revision) = history::begin(&self.shared, viewer.who(), How::Anew).await?;
        let mut revisions = self.revisions();
        let there = revisions.wait_for(|r| *r >= revision);
        drop(tokio::time::timeout(Duration::from_secs(5), there).await);
        Ok(epoch)
    }
}
