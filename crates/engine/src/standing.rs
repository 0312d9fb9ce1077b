//! What this process is to its site: a manager, with those that stand by for it, or one that stands by itself. Looked at again
//! and again, so that no page asks the database for it.

use crate::shared::Shared;
use std::{sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_store::{Reception, StandBy, StandBys, follows, reception};

/// What is known of managers that stand by.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Standing {
    /// What this process has received; none: it does not stand by.
    pub received: Option<Reception>,
    /// Who stands by for this manager.
    pub stand_bys: Vec<StandBy>,
}

/// How often a stand-by looks at what it has received.
pub(crate) const OFTEN: Duration = Duration::from_secs(1);
/// How often a manager looks at who stands by for it.
const NOW_AND_THEN: Duration = Duration::from_secs(5);

/// A stand-by's own look. It comes back with the database leading: whoever made it lead, this process is to begin anew.
pub(crate) async fn stand_by(shared: Arc<Shared>) {
    loop {
        match follows(&shared.pool).await {
            Ok(true) => {}
            Ok(false) => {
                // In the middle of a take-over the history has not begun yet.
                drop(shared.taking_over.lock().await);
                shared.turned.send_replace(true);
                // The process ends with it; until then nothing else ends.
                return std::future::pending().await;
            }
            Err(error) => {
                tracing::debug!(error = %error.detail(), "the database here is asked again")
            }
        }
        if let Ok(received) = reception(&shared.pool).await {
            let standing = Standing {
                received: Some(received),
                stand_bys: vec![],
            };
            shared.standing.store(Arc::new(standing));
        }
        sleep(OFTEN).await;
    }
}

/// A manager's look at who stands by for it.
pub(crate) async fn look(shared: Arc<Shared>) {
    let stand_bys = StandBys::new(shared.pool.clone());
    loop {
        match stand_bys.all().await {
            Ok(mut stand_bys) => {
                // It stood by itself before it took over, and stands by for nobody now.
                stand_bys.retain(|s| Some(s.id) != shared.me);
                let standing = Standing {
                    received: None,
                    stand_bys,
                };
                shared.standing.store(Arc::new(standing));
            }
            Err(error) => tracing::debug!(error = %error.detail(), "who stands by was not read"),
        }
        sleep(NOW_AND_THEN).await;
    }
}
