//! Snapshots that are due by a schedule are taken by runs like any other. Where one can't begin, it is tried again after a while.

use super::office::Office;
use crate::{
    desk::{Wish, start_as},
    shared::now,
};
use std::{
    collections::BTreeMap,
    time::{Duration, Instant},
};
use tokio::time::sleep;
use zastrugi_core::{
    ids::{ScheduleId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Proposal, scheduled::Ask},
};

const LOOK: Duration = Duration::from_secs(2);
/// After a refusal nothing is tried for so long.
const AGAIN: Duration = Duration::from_mins(1);

pub(super) async fn take(office: Office) {
    let mut refused: BTreeMap<ScheduleId, Instant> = BTreeMap::new();
    loop {
        sleep(LOOK).await;
        refused.retain(|_, at| at.elapsed() < AGAIN);
        let estate = office.shared.estate();
        for schedule in estate.schedules.values() {
            if !schedule.is_due(now()) || refused.contains_key(&schedule.id) {
                continue;
            }
            let due = schedule.next().0.unsigned_abs();
            let wish = Wish {
                who: Who::itself(),
                by: None,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Scheduled(Ask::Take {
                    schedule: schedule.id,
                }),
                seen: None,
                // Each that is due at most once.
                request: draw_uuid(schedule.id.0, due, DUE),
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                refused.insert(schedule.id, Instant::now());
                tracing::warn!(schedule = %schedule.name, %error, "snapshots were not taken by their schedule");
            }
        }
    }
}

/// Sets these requests apart from all others that are drawn.
const DUE: u64 = 0x6475_6520_6e6f_7721;
