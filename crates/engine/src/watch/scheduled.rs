//! Snapshots that are due by a schedule, backups that are due by a job, and proofs of what these made, are made by runs like any
//! other. Where one can't begin, it is tried again after a while.

use super::office::Office;
use crate::{
    desk::{Wish, start_as},
    evidence,
    shared::now,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    time::{Duration, Instant},
};
use tokio::time::sleep;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, PointAt},
    evidence::Probe,
    ids::draw_uuid,
    moment::{Moment, Span},
    permits::{Permits, Role, Who},
    rooms::{
        Proposal,
        answers::LIMIT,
        backups::{self, JobRun},
        jobs::PROVEN_AT_ONCE,
        proving::{self, ProvePoint},
        scheduled, stores,
    },
    runs::Object,
};

const LOOK: Duration = Duration::from_secs(2);
/// What is to be proven changes seldom.
const PROOFS: Duration = Duration::from_secs(5);
/// What is later than that was missed.
const LATE: Span = Span::mins(10);
/// Between two jobs that were missed.
const APART: Duration = Duration::from_mins(1);
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
    let stores = estate.stores.values();
    let over = stores.filter(|s| estate.over(s.id, now).next().is_some());
    let over = over.map(|s| Due {
        name: s.name.clone(),
        ask: Proposal::Stores(stores::Ask::Over { store: s.id }),
        // One run takes all whose time is over; what could not go is tried again.
        request: draw_uuid(s.id.0, now.0.unsigned_abs() / 600_000, OVER),
    });
    snapshots.chain(over).collect()
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
        ask: Proposal::Backups(backups::Ask::Job(JobRun {
            job: j.id,
            by_hand: false,
        })),
        request: draw_uuid(j.id.0, j.next.unwrap_or(now).0.unsigned_abs(), DUE_JOB),
    });
    due.collect()
}

/// Points that are to be proven, as many as may be at a time; and what earlier proofs left. What they hold is asked of their stores
/// first.
async fn proofs(office: &Office, tried: &Tried) -> Vec<Due> {
    let view = office.shared.view();
    let estate = &view.estate;
    let left = estate
        .proving()
        .filter(|m| view.runs.about(Object::Machine(m.id)).is_empty());
    let mut all: Vec<Due> = left
        .map(|m| Due {
            name: m.name.clone(),
            ask: Proposal::Proving(proving::Ask::Clear {
                machines: vec![m.id],
            }),
            // What could not be cleared is tried again.
            request: draw_uuid(m.id.0, now().0.unsigned_abs() / 600_000, LEFT),
        })
        .collect();
    let most = usize::try_from(PROVEN_AT_ONCE).unwrap_or(1);
    let free = most.saturating_sub(estate.proving().count());
    let owed = estate.to_prove(now());
    let request = |at: &PointAt| draw_uuid(at.store.0, at.session.as_u64_pair().1, PROVE);
    // A proof that somebody gave up is not begun again by itself; that of the next point is.
    let next = owed
        .into_iter()
        .filter(|(_, at)| tried.is_new(&request(at)));
    let next: Vec<PointAt> = next.map(|(_, at)| at).take(free).collect();
    evidence::ask_missing(
        &office.shared,
        next.iter().copied().map(Probe::Point).collect(),
    )
    .await;
    all.extend(next.into_iter().map(|at| Due {
        name: at.words(estate),
        ask: Proposal::Proving(proving::Ask::Point(ProvePoint {
            point: Some(at),
            cluster: None,
            limit: LIMIT,
        })),
        request: request(&at),
    }));
    all
}

/// What was begun or refused already.
#[derive(Default)]
struct Tried {
    refused: BTreeMap<Uuid, Instant>,
    begun: BTreeSet<Uuid>,
}

impl Tried {
    fn is_new(&self, request: &Uuid) -> bool {
        !self.refused.contains_key(request) && !self.begun.contains(request)
    }

    async fn begin(&mut self, office: &Office, due: Vec<Due>) {
        for due in due {
            if self.refused.contains_key(&due.request) {
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
    let mut looked = Instant::now();
    loop {
        sleep(LOOK).await;
        tried.refused.retain(|_, at| at.elapsed() < AGAIN);
        let estate = office.shared.estate();
        let jobs = jobs(&estate, now(), &mut caught_up);
        tried
            .begin(
                &office,
                due(&estate, now()).into_iter().chain(jobs).collect(),
            )
            .await;
        if looked.elapsed() >= PROOFS {
            looked = Instant::now();
            let proofs = proofs(&office, &tried).await;
            tried.begin(&office, proofs).await;
        }
    }
}

/// Sets these requests apart from all others that are drawn.
const DUE: u64 = 0x6475_6520_6e6f_7721;
const DUE_JOB: u64 = 0x6a6f_6220_6475_6521;
const PROVE: u64 = 0x7072_6f76_656e_2121;
const LEFT: u64 = 0x6c65_6674_206f_7665;
const OVER: u64 = 0x7469_6d65_206f_7665;
