//! How far steps under way say they are: read now and then while there are any, for pages alone.

use crate::shared::Shared;
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_store::Reads;

const AGAIN: Duration = Duration::from_millis(500);

pub(crate) async fn follow(shared: Arc<Shared>) {
    let reads = Reads::new(shared.pool.clone());
    loop {
        sleep(AGAIN).await;
        let none = shared.snapshot().runs.is_empty() && shared.progress().is_empty();
        if none {
            continue;
        }
        match reads.progress().await {
            Ok(progress) => shared.progressed(progress),
            Err(error) => tracing::debug!(%error, "progress was not read"),
        }
    }
}
