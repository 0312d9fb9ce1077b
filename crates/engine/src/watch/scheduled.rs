//! Snapshots that are due by a schedule, and backups that are due by a job, are made by runs like any other. Where one can't begin,
//! it is tried again after a while.

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
use uuid::Uuid;
use zastrugi_core::{
    estate::Estate,
    ids::draw_uuid,
    moment::Moment,
    permits::{Permits, Role, Who},
    rooms::{
        Proposal,
        backups::{self, JobRun},
        scheduled,
    },
};

const LOOK: Duration = Duration::from_secs(2);
/// After a refusal nothing is tried for so long.
const AGAIN: Duration = Duration::from_mins(1);

/// What is due: what it is called, what is wished, and a number that this time of it alone has.
struct Due {
    name: String,
    ask: Proposal,
    request: Uuid,
}

/// Each that is due, at most once.
fn due(estate: &Estate, now: Moment) -> Vec<Due> {
    let schedules = estate.schedules.values().filter(|s| s.is_due(now));
    let snapshots = schedules.map(|s| Due {
        name: s.name.clone(),
        ask: Proposal::Scheduled(scheduled::Ask::Take { schedule: s.id }),
        request: draw_uuid(s.id.0, s.next().0.unsigned_abs(), DUE),
    });
    let jobs = estate.jobs.values().filter(|j| j.is_due(now));
    let backups = jobs.map(|j| Due {
        name: j.name.clone(),
        ask: Proposal::Backups(backups::Ask::Job(JobRun {
            job: j.id,
            by_hand: false,
        })),
        request: draw_uuid(j.id.0, j.next.unwrap_or(now).0.unsigned_abs(), DUE_JOB),
    });
    snapshots.chain(backups).collect()
}

pub(super) async fn take(office: Office) {
    let mut refused: BTreeMap<Uuid, Instant> = BTreeMap::new();
    loop {
        sleep(LOOK).await;
        refused.retain(|_, at| at.elapsed() < AGAIN);
        let estate = office.shared.estate();
        for due in due(&estate, now()) {
            if refused.contains_key(&due.request) {
                continue;
            }
            let wish = Wish {
                who: Who::itself(),
                by: None,
                permits: Permits::of(Role::Admin),
                ask: due.ask,
                seen: None,
                request: due.request,
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                refused.insert(due.request, Instant::now());
                tracing::warn!(name = %due.name, %error, "what was due was not begun");
            }
        }
    }
}

/// Sets these requests apart from all others that are drawn.
const DUE: u64 = 0x6475_6520_6e6f_7721;
const DUE_JOB: u64 = 0x6a6f_6220_6475_6521;
