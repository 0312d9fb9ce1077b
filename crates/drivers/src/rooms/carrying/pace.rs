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
enum Shares {
    Way(Way),
    Job(JobId),
}

/// One bucket: what all that take from it go by, as it was last told.
#[derive(Default)]
struct Pace(Mutex<Held>);

#[derive(Default)]
struct Held {
    cap: Cap,
    /// So many other processes take from it too: each no more than its part.
    beside: u32,
    /// The time by the clock that orders go by, and when it was looked at.
    clock: Option<(Moment, Instant)>,
    /// When the line is free again.
    free: Option<Instant>,
}

/// All of this process.
#[derive(Clone, Default)]
pub(crate) struct Paces(Arc<Mutex<BTreeMap<Shares, Arc<Pace>>>>);

/// What one mover takes from.
#[derive(Clone)]
pub(crate) struct Paced(Arc<Pace>);

impl Paces {
    /// From now on whoever takes from this bucket goes by this cap, movers that are on their way too.
    fn of(&self, shares: Shares, cap: &Cap, (now, beside): (Moment, u32)) -> Paced {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let pace = all.entry(shares).or_default().clone();
        pace.told(cap, beside, now);
        Paced(pace)
    }
}

impl Pace {
    fn held(&self) -> std::sync::MutexGuard<'_, Held> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn told(&self, cap: &Cap, beside: u32, now: Moment) {
        let mut held = self.held();
        // Of one job's copies each may have other neighbours: what is reckoned stays, or each look would let a piece go.
        held.beside = beside;
        if held.cap != *cap {
            held.cap = cap.clone();
            // What was reckoned by the one before counts no more.
            held.free = None;
        }
        held.clock = Some((now, Instant::now()));
    }
}

impl Held {
    fn now(&self) -> Moment {
        let Some((moment, at)) = self.clock else {
            return Moment(0);
        };
        let millis = u64::try_from(at.elapsed().as_millis()).unwrap_or(0);
        moment.plus(Span::millis(millis))
    }
    /// How long it rests at least; none: it is open.
    fn rests(&self) -> Option<Duration> {
        let now = self.now();
        if self.cap.is_open(now) {
            return None;
        }
        let left = self.cap.opens(now);
        let left = left.map_or(RESTS, |at| Duration::from_millis(at.since(now).0));
        Some(left.min(RESTS).max(Duration::from_millis(1)))
    }
    /// The turn of so many bytes; none: nothing holds them back.
    fn turn(&mut self, bytes: u64) -> Option<Instant> {
        let rate = self.cap.at(self.now())?;
        let part = rate.0 as f64 / f64::from(self.beside + 1);
        let lasts = Duration::from_secs_f64(bytes as f64 / part.max(1.0));
        let turn = self
            .free
            .map_or_else(Instant::now, |f| f.max(Instant::now()));
        self.free = Some(turn + lasts);
        Some(turn)
    }
}

impl Drivers {
    /// What the bytes of a job over this way take no more than, as both are now; begun movers go by it too.
    pub(crate) fn paced(
        &self,
        estate: &Estate,
        (way, job): (Option<Way>, Option<JobId>),
        turn: Turn<'_>,
    ) -> Vec<Paced> {
        let at = (turn.now, turn.beside);
        let road = way.and_then(|w| Some((w, estate.road(w)?)));
        let road = road.map(|(w, r)| self.paces.of(Shares::Way(w), &r.from.cap, at));
        let job = job.and_then(|j| estate.jobs.get(&j));
        let job = job.map(|j| self.paces.of(Shares::Job(j.id), &j.how.cap, at));
        road.into_iter().chain(job).collect()
    }
}

impl Paced {
    /// Waits until so many bytes may go.
    pub(crate) async fn take(&self, bytes: u64) {
        loop {
            let Some(rests) = self.0.held().rests() else {
                break;
            };
            sleep(rests).await;
        }
        let turn = self.0.held().turn(bytes);
        if let Some(turn) = turn {
            sleep_until(turn).await;
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paced(paces: &Paces, cap: &Cap, now: Moment) -> Paced {
        paces.of(Shares::Job(JobId(1)), cap, (now, 0))
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

    /// If this fails, whoever takes the line back by day waits until copies that run are over.
    #[tokio::test(start_paused = true)]
    async fn a_cap_that_changes_counts_for_what_is_on_its_way() {
        let paces = Paces::default();
        let cap = |text: &str| Cap::read_with_rests(text, "UTC").unwrap();
        let pace = paced(&paces, &cap("1 MiB/s"), Moment(0));
        let began = Instant::now();
        pace.take(60 << 20).await;
        assert_eq!(began.elapsed(), Duration::ZERO, "the line was free");
        paced(&paces, &cap("8 MiB/s"), Moment(0));
        pace.take(8 << 20).await;
        pace.take(8 << 20).await;
        let took = began.elapsed().as_millis();
        assert!((1_000..1_010).contains(&took), "{took}");
        // Another process carries too: each takes half from here on, after what was taken.
        paces.of(Shares::Job(JobId(1)), &cap("8 MiB/s"), (Moment(0), 1));
        pace.take(8 << 20).await;
        pace.take(8 << 20).await;
        let took = began.elapsed().as_millis();
        assert!((4_000..4_020).contains(&took), "{took}");
        paced(&paces, &cap("nothing; Th 12:00-12:01 all"), Moment(0));
        let other = paces.clone();
        tokio::spawn(async move {
            sleep(Duration::from_secs(600)).await;
            paced(&other, &Cap::default(), Moment(0));
        });
        pace.take(1 << 40).await;
        let took = began.elapsed().as_secs();
        assert!((600..=640).contains(&took), "{took}");
    }
}
