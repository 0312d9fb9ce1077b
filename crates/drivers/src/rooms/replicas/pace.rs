//! How fast bytes may go one way over a pair: a bucket that all movers of this process take from, filled by what its cap says at the
//! time (a token bucket, RFC 2697, with one piece as its burst).

use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::time::{Instant, sleep_until};
use zastrugi_core::{caps::Cap, estate::Way, moment::Moment};

/// One way.
#[derive(Default)]
pub(crate) struct Pace {
    /// When the line is free again.
    free: Mutex<Option<Instant>>,
}

/// All ways of this process.
#[derive(Clone, Default)]
pub(crate) struct Paces(Arc<Mutex<BTreeMap<Way, Arc<Pace>>>>);

impl Paces {
    pub(super) fn of(&self, way: Way) -> Arc<Pace> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.entry(way).or_default().clone()
    }
}

impl Pace {
    /// Waits until so many bytes may go.
    pub(super) async fn take(&self, bytes: u64, cap: &Cap, now: Moment) {
        let Some(rate) = cap.at(now) else { return };
        let lasts = Duration::from_secs_f64(bytes as f64 / rate.0.max(1) as f64);
        let turn = {
            let mut free = self.free.lock().unwrap_or_else(PoisonError::into_inner);
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

    /// If this fails, copies take more of the line than somebody allowed, or wait where nobody asked them to.
    #[tokio::test(start_paused = true)]
    async fn all_movers_together_take_what_the_cap_says() {
        let pace = Arc::new(Pace::default());
        let cap = Cap::read("8 MiB/s", "UTC").unwrap();
        let began = Instant::now();
        let one = || {
            let (pace, cap) = (pace.clone(), cap.clone());
            tokio::spawn(async move {
                for _ in 0..10 {
                    pace.take(4 << 20, &cap, Moment(0)).await;
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
        pace.take(1 << 40, &Cap::default(), Moment(0)).await;
        assert_eq!(began.elapsed(), Duration::ZERO);
    }
}
