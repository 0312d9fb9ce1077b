//! Notices that the database no longer takes writes, before somebody needs one.

use crate::shared::Shared;
use std::{
    sync::{Arc, atomic::Ordering},
    time::Duration,
};
use tokio::time::{sleep, timeout};
use zastrugi_store::Pulse;

const OFTEN: Duration = Duration::from_secs(5);
/// A write that takes longer hangs.
const LONGEST: Duration = Duration::from_secs(3);

pub(crate) async fn beat(shared: Arc<Shared>) {
    let pulse = Pulse::new(shared.pool.clone());
    loop {
        let written = matches!(timeout(LONGEST, pulse.beat()).await, Ok(Ok(())));
        let before = shared.database_writes.swap(written, Ordering::Relaxed);
        if before && !written {
            tracing::warn!("the database takes no writes; nothing can be changed until it does");
        }
        sleep(OFTEN).await;
    }
}
