//! Asking arrays and hosts about volumes, and how long a volume lasts.

use super::Desk;
use crate::evidence;
use zastrugi_core::{
    estate::Volume,
    evidence::Probe,
    forecast::{Forecast, full},
    ids::{ArrayId, HostId},
};
use zastrugi_store::{Measurements, StoreError};

impl Desk {
    /// Asks who manages storage at these addresses, where that is not known.
    pub async fn greet_arrays(&self, addresses: &[String]) {
        let probes = addresses.iter().cloned().map(Probe::ArrayGreeting);
        evidence::ask_missing(&self.shared, probes.collect()).await;
    }

    /// Asks arrays what they have and hosts what they see: all `anew`, or only where the answers are missing or old.
    pub async fn inspect_storage(&self, arrays: &[ArrayId], hosts: &[HostId], anew: bool) {
        let luns = arrays.iter().map(|a| Probe::Luns(*a));
        let devices = hosts.iter().map(|h| Probe::Devices(*h));
        let probes = luns.chain(devices).collect();
        if anew {
            evidence::ask_all(&self.shared, probes).await;
        } else {
            evidence::ask_missing(&self.shared, probes).await;
        }
    }

    /// When the volume is full, from its days so far; a volume beneath which the pool fills earlier is told by the pool.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub async fn forecast(&self, volume: &Volume) -> Result<Forecast, StoreError> {
        let points = Measurements::new(self.shared.pool.clone())
            .use_of(volume.id)
            .await?;
        Ok(full(&points, volume.capacity))
    }
}
