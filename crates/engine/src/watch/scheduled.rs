//! Snapshots that are due by a schedule, and backups that are due by a job, are made by runs like any other. Where one can't begin,
//! it is tried again after a while.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    shared::now,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, Instant},
};
use tokio::time::sleep;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Goal, Job},
    ids::draw_uuid,
    moment::{Moment, Span},
    permits::{Permits, Role, Who},
    rooms::{
        Proposal,
        backups::{self, JobRun},
        replicating, scheduled,
    },
};

const LOOK: Duration = Duration::from_secs(2);
/// What is later than that was missed.
const LATE: Span = Span::mins(10);
/// Between two jobs that were missed.
const APART: Duration = Duration::from_mins(1);
/// After a refusal nothing is tried for so long.
const AGAIN: Duration = Duration::from_mins(1);

/// What is due: what it is called, what is wished, and a number that this time of it alone has.
pub(super) struct Due {
    pub(super) name: String,
    pub(super) ask: Proposal,
    pub(super) request: Uuid,
}

/// Each that is due, at most once.
fn due(estate: &Estate, now: Moment) -> Vec<Due> {
    let schedules = estate.schedules.values().filter(|s| s.is_due(now));
    let snapshots = schedules.map(|s| Due {
        name: s.name.clone(),
        ask: Proposal::Scheduled(scheduled::Ask::Take { schedule: s.id }),
        request: draw_uuid(s.id.0, s.next().0.unsigned_abs(), DUE),
    });
    snapshots.collect()
}

/// Jobs that are due, the longest first. After a time without a manager many are at once: then they are begun one after the other,
/// as they share lines and stores.
fn jobs(estate: &Estate, now: Moment, caught_up: &mut Option<Instant>) -> Vec<Due> {
    let mut all: Vec<_> = estate.jobs.values().filter(|j| j.is_due(now)).collect();
    all.sort_by_key(|j| j.next);
    let waits = caught_up.is_some_and(|at| at.elapsed() < APART);
    let mut late = 0;
    all.retain(|j| {
        let missed = j.next.is_some_and(|next| now.since(next) > LATE);
        late += usize::from(missed);
        !missed || (late == 1 && !waits)
    });
    if late > 1 && !waits {
        *caught_up = Some(Instant::now());
    }
    let due = all.into_iter().map(|j| Due {
        name: j.name.clone(),
        ask: run_of(j, false),
        request: draw_uuid(j.id.0, j.next.unwrap_or(now).0.unsigned_abs(), DUE_JOB),
    });
    due.collect()
}

/// A run of a job: what is wished depends on where it copies to.
fn run_of(job: &Job, by_hand: bool) -> Proposal {
    let run = JobRun {
        job: job.id,
        by_hand,
    };
    match job.to {
        Goal::Store(_) => Proposal::Backups(backups::Ask::Job(run)),
        Goal::Over(_) => Proposal::Replicating(replicating::Ask::Job(run)),
    }
}

/// What was begun or refused already.
#[derive(Default)]
pub(super) struct Tried {
    refused: BTreeMap<Uuid, Instant>,
    begun: BTreeSet<Uuid>,
}

impl Tried {
    /// What was refused may be tried again after a while; what was begun is not begun a second time.
    pub(super) fn is_new(&self, request: &Uuid) -> bool {
        let lately = |at: &Instant| at.elapsed() < AGAIN;
        !self.begun.contains(request) && !self.refused.get(request).is_some_and(lately)
    }

    /// Nobody asks any more for what is not due.
    pub(super) fn only(&mut self, due: &BTreeSet<Uuid>) {
        self.begun.retain(|r| due.contains(r));
        self.refused.retain(|r, _| due.contains(r));
    }

    pub(super) async fn begin(&mut self, office: &Office, due: Vec<Due>) {
        for due in due {
            if !self.is_new(&due.request) {
                continue;
            }
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: due.ask,
                seen: None,
                request: due.request,
            };
            match start_as(&office.shared, &office.scribe, wish).await {
                Ok(_) => drop(self.begun.insert(due.request)),
                Err(error) => {
                    self.refused.insert(due.request, Instant::now());
                    tracing::warn!(name = %due.name, %error, "what was due was not begun");
                }
            }
        }
    }
}

pub(super) async fn take(office: Office) {
    let (mut tried, mut caught_up) = (Tried::default(), None);
    loop {
        sleep(LOOK).await;
        let estate = office.shared.estate();
        let mut all = due(&estate, now());
        all.extend(jobs(&estate, now(), &mut caught_up));
        tried.only(&all.iter().map(|d| d.request).collect());
        tried.begin(&office, all).await;
    }
}

/// Sets these requests apart from all others that are drawn.
const DUE: u64 = 0x6475_6520_6e6f_7721;
const DUE_JOB: u64 = 0x6a6f_6220_6475_6521;
