//! Stores of backups: who answers at an address, and a key that somebody takes out.

use super::{Desk, StartError, Viewer};
use crate::evidence;
use uuid::Uuid;
use zastrugi_core::{
    estate::PointAt,
    evidence::Probe,
    ids::StoreId,
    rooms::{Proposal, stores::Ask},
};

impl Desk {
    /// Asks which certificate a server of buckets shows, where that is not known.
    pub async fn greet_store(&self, address: &str) {
        let probes = vec![Probe::StoreGreeting(address.to_owned())];
        evidence::ask_missing(&self.shared, probes).await;
    }

    /// Looks which exports are mounted here, where that is not known.
    pub async fn look_for_exports(&self) {
        evidence::ask_missing(&self.shared, vec![Probe::Exports]).await;
    }

    /// Asks a store what a recovery point has, where that is not known.
    pub async fn ask_for_point(&self, at: PointAt) {
        if at.found(&self.shared.estate()).is_ok() {
            evidence::ask_missing(&self.shared, vec![Probe::Point(at)]).await;
        }
    }

    /// The key of a store, as people write it down. That it was taken out is written before it is shown.
    ///
    /// # Errors
    /// [`StartError`] where the person may not, the store is gone, or the key can't be read.
    pub async fn take_out_key(
        &self,
        viewer: &Viewer,
        store: StoreId,
    ) -> Result<String, StartError> {
        let estate = self.shared.estate();
        let gone = || StartError::Unavailable("the store has no key".into());
        let key = estate.stores.get(&store).and_then(|s| s.key);
        let opened = self.shared.vault.open(key.ok_or_else(gone)?).await;
        let opened = opened.map_err(|e| StartError::Unavailable(e.to_string()))?;
        // Only what is there is said to be taken; what can't be said is not shown.
        let ask = Proposal::Stores(Ask::TakeOut { store });
        self.start(viewer, ask, None, Uuid::new_v4()).await?;
        Ok(opened.to_string())
    }
}
