//! How fast bytes may go: buckets that all movers of this process take from, one for each way over a pair and one for each job that
//! has hours, filled by what their caps say at the time (a token bucket, RFC 2697, with one piece as its burst).

use crate::{Drivers, Turn};
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::time::{Instant, sleep, sleep_until};
use zastrugi_core::{
    caps::Cap,
    estate::{Estate, Way},
    ids::JobId,
    moment::{Moment, Span},
};

/// What rests is looked at again after so long at most: a machine that was asleep has other times than it reckoned with.
const RESTS: Duration = Duration::from_secs(30);

/// What shares a bucket.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(crate) enum Shares {
    Way(Way),
    Job(JobId),
}

/// One bucket.
#[derive(Default)]
struct Pace {
    /// When the line is free again.
    free: Mutex<Option<Instant>>,
}

/// All of this process.
#[derive(Clone, Default)]
pub(crate) struct Paces(Arc<Mutex<BTreeMap<Shares, Arc<Pace>>>>);

/// What one mover takes from.
#[derive(Clone)]
pub(crate) struct Paced {
    pace: Arc<Pace>,
    cap: Cap,
    /// The time by the clock that orders go by, and when it was looked at.
    began: (Moment, Instant),
}

impl Paces {
    pub(crate) fn of(&self, shares: Shares, cap: &Cap, now: Moment) -> Paced {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        Paced {
            pace: all.entry(shares).or_default().clone(),
            cap: cap.clone(),
            began: (now, Instant::now()),
        }
    }
}

impl Drivers {
    /// What a job takes no more than; none: nobody said anything of it.
    pub(crate) fn paced(
        &self,
        estate: &Estate,
        job: Option<JobId>,
        turn: Turn<'_>,
    ) -> Option<Paced> {
        let job = estate.jobs.get(&job?)?;
        let cap = &job.how.cap;
        (!cap.is_none()).then(|| self.paces.of(Shares::Job(job.id), cap, turn.now))
    }
}

impl Paced {
    fn now(&self) -> Moment {
        let millis = u64::try_from(self.began.1.elapsed().as_millis()).unwrap_or(0);
        self.began.0.plus(Span::millis(millis))
    }

    /// Waits until so many bytes may go.
    pub(crate) async fn take(&self, bytes: u64) {
        while !self.cap.is_open(self.now()) {
            let opens = self.cap.opens(self.now());
            let left = opens.map_or(RESTS, |at| Duration::from_millis(at.since(self.now()).0));
            sleep(left.min(RESTS).max(Duration::from_millis(1))).await;
        }
        let Some(rate) = self.cap.at(self.now()) else {
            return;
        };
        let lasts = Duration::from_secs_f64(bytes as f64 / rate.0.max(1) as f64);
        let turn = {
            let mut free = self
                .pace
                .free
                .lock()
                .unwrap_or_else(PoisonError::into_inner);
            let turn = free.map_or_else(Instant::now, |f| f.max(Instant::now()));
            *free = Some(turn + lasts);
            turn
        };
        sleep_until(turn).await;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paced(paces: &Paces, cap: &Cap, now: Moment) -> Paced {
        paces.of(Shares::Job(JobId(1)), cap, now)
    }

    /// If this fails, copies take more of the line than somebody allowed, or wait where nobody asked them to.
    #[tokio::test(start_paused = true)]
    async fn all_movers_together_take_what_the_cap_says() {
        let paces = Paces::default();
        let cap = Cap::read("8 MiB/s", "UTC").unwrap();
        let began = Instant::now();
        let one = || {
            let pace = paced(&paces, &cap, Moment(0));
            tokio::spawn(async move {
                for _ in 0..10 {
                    pace.take(4 << 20).await;
                }
            })
        };
        let (a, b) = (one(), one());
        a.await.unwrap();
        b.await.unwrap();
        // Twenty pieces of half a second; the last one need not be waited for.
        let took = began.elapsed().as_millis();
        assert!((9_400..=9_600).contains(&took), "{took}");
        let began = Instant::now();
        paced(&paces, &Cap::default(), Moment(0))
            .take(1 << 40)
            .await;
        assert_eq!(began.elapsed(), Duration::ZERO);
    }

    /// If this fails, a copy goes on in hours in which it was to rest, or never again after them.
    #[tokio::test(start_paused = true)]
    async fn it_rests_in_hours_of_nothing() {
        // 1970 began on a Thursday.
        let cap = Cap::read_with_rests("nothing; Th 00:01-00:02 all", "UTC").unwrap();
        let pace = paced(&Paces::default(), &cap, Moment(0));
        let began = Instant::now();
        pace.take(1 << 20).await;
        let waited = began.elapsed().as_secs();
        assert!((60..62).contains(&waited), "{waited}");
        pace.take(1 << 40).await;
        assert_eq!(began.elapsed().as_secs(), waited, "it is open");
    }
}
