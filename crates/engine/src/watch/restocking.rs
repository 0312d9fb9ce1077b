//! Pools are kept at what they shall be, by runs like any other, one for each pool at a time. Where one can't begin, it is tried
//! again after a while; where it needs a person, the next begins once that one is over.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    shared::Shared,
};
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};
use tokio::time::sleep;
use zastrugi_core::{
    ids::{SparePoolId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Proposal, restocking::Ask},
    spares::due,
};

const LOOK: Duration = Duration::from_secs(1);
/// After a refusal nothing is tried for so long.
const AGAIN: Duration = Duration::from_secs(20);

pub(super) async fn follow(office: Office) {
    let mut refused: BTreeMap<SparePoolId, Instant> = BTreeMap::new();
    loop {
        sleep(LOOK).await;
        let now = office.shared.snapshot();
        refused.retain(|_, at| at.elapsed() < AGAIN);
        for pool in now.estate.spare_pools.values() {
            let waits = refused.contains_key(&pool.id);
            if waits || due(&now.estate, pool).is_nothing() || is_open(&office.shared, pool.id) {
                continue;
            }
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Restocking(Ask::Follow { pool: pool.id }),
                seen: None,
                // Of each state of the estate at most one.
                request: draw_uuid(pool.id.0, now.estate.revision.0, STOCK),
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                refused.insert(pool.id, Instant::now());
                tracing::warn!(pool = %pool.name, %error, "a pool was not brought to what it shall be");
            }
        }
    }
}

/// Whether a run about this pool is not over.
fn is_open(shared: &Shared, pool: SparePoolId) -> bool {
    let now = shared.snapshot();
    let of =
        |ask: &Proposal| matches!(ask, Proposal::Restocking(Ask::Follow { pool: p }) if *p == pool);
    now.plans.values().any(|p| of(&p.ask))
}

/// Sets these requests apart from all others that are drawn.
const STOCK: u64 = 0x7370_6172_6573_2121;
