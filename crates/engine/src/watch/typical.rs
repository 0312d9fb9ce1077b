//! What machines typically use, read from a day of samples once an hour, by every process for itself. Until a machine has
//! a day of them the rule for machines without history applies.

use crate::shared::Shared;
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::{ids::HostId, loads::Loads};
use zastrugi_store::Measurements;

const PAUSE: Duration = Duration::from_hours(1);
/// Hosts for each query, so that none takes long.
const AT_ONCE: usize = 40;

pub(crate) async fn learn(shared: Arc<Shared>) {
    let measurements = Measurements::new(shared.pool.clone());
    loop {
        let hosts: Vec<HostId> = shared.estate().hosts.keys().copied().collect();
        for some in hosts.chunks(AT_ONCE) {
            match measurements.typical(some).await {
                Ok(found) => drop(shared.loads.rcu(|loads| {
                    let mut loads = Loads::clone(loads);
                    loads.typical.extend(found.iter().copied());
                    loads
                })),
                Err(error) => tracing::warn!(%error, "what machines typically use was not read"),
            }
        }
        sleep(PAUSE).await;
    }
}
