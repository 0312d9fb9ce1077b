//! Jobs: whose machines are copied, where to, when, and how many points stay.

use super::{CopyPlace, Disk, Elsewhere, Estate, Habits, Machine, Series, StoredPoint, Way};
use crate::{
    expression::Expression,
    ids::{JobId, PairId, StoreId},
    moment::{Moment, Span},
    recurrence::Recurrence,
    retention::Keeps,
};
use serde::{Deserialize, Serialize};
use std::sync::Arc;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Job {
    pub id: JobId,
    pub name: String,
    /// Whoever has these labels when it is due.
    pub who: Expression,
    #[serde(alias = "store")]
    pub to: Goal,
    pub when: Recurrence,
    pub keeps: Keeps,
    /// File systems stand still for the mark where guests can do that.
    pub quiet: bool,
    /// So often the newest point of each machine is proven by itself; none: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub proves: Option<Span>,
    #[serde(default)]
    pub how: Habits,
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub paused: bool,
    /// When it is due next; none: never again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<Moment>,
    /// When it was last begun.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<Moment>,
}

/// Where copies go.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Goal {
    /// They are backed up.
    Store(StoreId),
    /// They are replicated.
    Over(Way),
}

impl Goal {
    pub fn store(self) -> Option<StoreId> {
        match self {
            Goal::Store(id) => Some(id),
            Goal::Over(_) => None,
        }
    }
    pub fn way(self) -> Option<Way> {
        match self {
            Goal::Store(_) => None,
            Goal::Over(way) => Some(way),
        }
    }
    /// `breakwater`, `strait, Quayside to Hilltop`
    pub fn name(self, estate: &Estate) -> String {
        match self {
            Goal::Store(id) => {
                let store = estate.stores.get(&id);
                store.map_or_else(|| id.to_string(), |s| s.name.clone())
            }
            Goal::Over(way) => estate.way_name(way),
        }
    }
    /// Whether what goes there comes to this place.
    pub fn is(self, at: CopyPlace) -> bool {
        match (self, at) {
            (Goal::Store(a), CopyPlace::Store(b)) => a == b,
            (Goal::Over(way), CopyPlace::Replica(_, pair)) => way.pair == pair,
            (Goal::Store(_), CopyPlace::Replica(..)) | (Goal::Over(_), CopyPlace::Store(_)) => {
                false
            }
        }
    }
}

/// Clocks that are kept right differ by less.
const AHEAD: Span = Span::mins(10);
/// So far back an occurrence is looked for by a clock that was put back.
const LOOKED_BACK: Span = Span::mins(1);

/// Whether a time was told by a clock that was ahead of what it is now.
pub fn is_ahead(at: Moment, now: Moment) -> bool {
    at > now.plus(AHEAD)
}

impl Job {
    /// What is due in hours in which it rests waits for their end.
    pub fn is_due(&self, now: Moment) -> bool {
        let due = self.next.is_some_and(|next| match next <= now {
            true => true,
            // Looked at only where it can be: the rule of an old job takes its time.
            false => {
                self.last.is_none_or(|last| is_ahead(last, now)) && self.is_due_after_all(next, now)
            }
        });
        !self.paused && due && self.how.cap.is_open(now)
    }

    /// What is next was said by a clock that was ahead, as the rule has something earlier: nobody waits until that time comes.
    fn is_due_after_all(&self, next: Moment, now: Moment) -> bool {
        let earlier = self.when.next(now).is_some_and(|said| said < next);
        earlier
            && self
                .when
                .next(now.before(LOOKED_BACK))
                .is_some_and(|at| at <= now)
    }

    /// With whom a machine shares its points; none: with nobody.
    pub fn shares<'a>(&self, machine: &'a Machine) -> Option<&'a str> {
        let key = self.how.together.as_deref()?;
        machine.labels.get(key).map(String::as_str)
    }
    /// When its next run can begin; none: never.
    pub fn begins(&self) -> Option<Moment> {
        self.how.cap.opens(self.next?)
    }
    /// The disks of a machine that it copies.
    pub fn disks<'a>(&self, machine: &'a Machine) -> impl Iterator<Item = &'a Disk> + use<'a> {
        let leaves_out = self.how.leaves_out;
        let all = machine.disks.iter();
        all.filter(move |d| !(leaves_out && machine.excepts(d.key)))
    }
    /// Whether it is about this machine now.
    pub fn covers(&self, machine: &Machine) -> bool {
        let own = machine.proves.is_none() && machine.replica.is_none();
        machine.deleted.is_none() && own && self.who.fits(&machine.labels)
    }
    /// Whether its next run makes another copy there.
    pub fn renews(&self, machine: &Machine, there: &Elsewhere<'_>) -> bool {
        self.to.is(there.at) && !self.paused && self.covers(machine)
    }
    /// Of its own points in one place, oldest first: those that go. The one that is proven never does.
    fn not_kept<'a>(
        &self,
        own: &[&'a StoredPoint],
        proven: Option<&StoredPoint>,
    ) -> Vec<&'a StoredPoint> {
        let times: Vec<Moment> = own.iter().map(|p| p.taken).collect();
        let stay = self.keeps.stay(&times, &self.when.zone);
        let proven = proven.map(|p| p.session);
        let out = own.iter().enumerate();
        let out = out.filter(|(n, p)| !stay.contains(n) && proven != Some(p.session));
        out.map(|(_, p)| *p).collect()
    }
}

impl Estate {
    /// The same in the order in which they are copied.
    pub fn in_turn(&self, job: &Job) -> Vec<&Arc<Machine>> {
        let mut all = self.in_job(job);
        all.sort_by_cached_key(|m| {
            let there = self.at_goal(m, job.to);
            let newest = there.and_then(|e| e.points.last().map(|p| p.taken));
            job.how.order.rank(m, newest)
        });
        all
    }
    /// The machines that a job is about now, by number.
    pub fn in_job(&self, job: &Job) -> Vec<&Arc<Machine>> {
        let here = |m: &Machine| match job.to {
            Goal::Store(_) => true,
            Goal::Over(way) => self.goes(m, way).is_some(),
        };
        let all = self.machines.values();
        all.filter(|m| job.covers(m) && here(m)).collect()
    }
    /// In which direction a machine is replicated by a job of this one: back, where it went over from there to the other site.
    pub fn goes(&self, machine: &Machine, way: Way) -> Option<Way> {
        let site = self.site_of(machine)?;
        let over = machine
            .crossed
            .filter(|c| c.pair == way.pair && c.from == way.from);
        match over {
            None => (site == way.from).then_some(way),
            Some(_) => {
                let other = self.road(way)?.to.site;
                (site == other).then_some(Way { from: other, ..way })
            }
        }
    }
    /// The job that replicates a machine over a pair, the first by number.
    pub fn replicated_by(&self, machine: &Machine, pair: PairId) -> Option<(&Arc<Job>, Way)> {
        let all = self.jobs_over(pair).filter(|j| j.covers(machine));
        let mut all = all.filter_map(|j| Some((j, self.goes(machine, j.to.way()?)?)));
        all.next()
    }
    /// Jobs that copy into a store.
    pub fn jobs_into(&self, store: StoreId) -> impl Iterator<Item = &Arc<Job>> {
        let all = self.jobs.values();
        all.filter(move |j| j.to.store() == Some(store))
    }
    /// Jobs that replicate over a pair.
    pub fn jobs_over(&self, pair: PairId) -> impl Iterator<Item = &Arc<Job>> {
        let all = self.jobs.values();
        all.filter(move |j| j.to.way().is_some_and(|w| w.pair == pair))
    }
    /// What the place that a job copies to has of a machine.
    pub fn at_goal<'a>(&'a self, machine: &'a Machine, goal: Goal) -> Option<Elsewhere<'a>> {
        self.elsewhere(machine).find(|e| goal.is(e.at))
    }
    /// Points in a store that a job made and does not keep; the newest of each machine is never one, nor the newest that is proven.
    /// One whose instant is yet to come was taken while a clock was ahead: it stays, and stands for none that is kept. One that is
    /// locked stays until it is not.
    pub fn expired(&self, job: &Job, now: Moment) -> Vec<(&Arc<Series>, &StoredPoint)> {
        let Some(store) = job.to.store() else {
            return vec![];
        };
        let mut gone = Vec::new();
        for series in self.series_in(store) {
            let own = series
                .points
                .iter()
                .filter(|p| p.job == Some(job.id) && !is_ahead(p.taken, now));
            let own: Vec<&StoredPoint> = own.collect();
            let out = job.not_kept(&own, series.proven()).into_iter();
            let out = out.filter(|p| !p.is_locked(now));
            gone.extend(out.map(|p| (series, p)));
        }
        gone
    }
    /// The same of replicas. What a replica stands on always stays: without it the next copy would be of everything.
    pub fn expired_replicas(
        &self,
        job: &Job,
        now: Moment,
    ) -> Vec<(&Arc<Machine>, Vec<&StoredPoint>)> {
        let Some(way) = job.to.way() else {
            return vec![];
        };
        let each = self.replicas_over(way.pair).map(|m| {
            let own = m
                .replicated()
                .filter(|p| p.job == Some(job.id) && !is_ahead(p.taken, now));
            let own: Vec<&StoredPoint> = own.collect();
            let good = |p: &&StoredPoint| p.proof.as_ref().is_some_and(|f| f.is_good());
            let out = job.not_kept(&own, m.replicated().rfind(good)).into_iter();
            let stands = m.snapshots.rests_on;
            (
                m,
                out.filter(|p| Some(p.session) != stands)
                    .collect::<Vec<_>>(),
            )
        });
        let kept = self.were_replicas().filter(|m| job.covers(m));
        let kept = kept.map(|m| (m, self.kept_in_vain(job, m, now)));
        each.chain(kept)
            .filter(|(_, gone)| !gone.is_empty())
            .collect()
    }
    /// Points of the time when a machine was a replica that a job keeps no more; not those that the next copy, or the way back, rests on.
    fn kept_in_vain<'a>(
        &self,
        job: &Job,
        machine: &'a Machine,
        now: Moment,
    ) -> Vec<&'a StoredPoint> {
        let own = machine.kept_points();
        let own = own.filter(|p| p.job == Some(job.id) && !is_ahead(p.taken, now));
        let own: Vec<&StoredPoint> = own.collect();
        let rests = |p: &StoredPoint| {
            let mut all = self.replicas_of(machine.uuid);
            all.any(|r| r.replicated().any(|q| q.session == p.session))
        };
        let out = job.not_kept(&own, None).into_iter();
        out.filter(|p| !rests(p)).collect()
    }
}
