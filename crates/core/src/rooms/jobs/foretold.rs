//! What a job will take: bytes and time of its first run and of the next ones, whether these are over before the next is due, and
//! what lies in the store after a month, a quarter and a year.

use crate::{
    caps::Cap,
    copying::Line,
    estate::{Elsewhere, Estate, Goal, Job, Machine, StoredPoint},
    loads::Loads,
    moment::{Moment, Span},
    retention::Keeps,
    units::{Bytes, Rate, round},
    view::View,
};

/// One machine, as far as it matters.
#[derive(Debug, Clone, Copy, Default)]
struct One {
    /// What its disks hold, or their whole size.
    held: Bytes,
    /// It has nothing in the store.
    first: bool,
    /// Bytes a second that change at most.
    changes: Option<f64>,
}

/// All machines of a job together.
pub struct Foretold {
    all: Vec<One>,
    line: Line,
    cap: Cap,
    /// To where copies are booted.
    to_hosts: Line,
    /// What a byte that was read took in the store; none: nothing is there yet.
    packed: Option<f64>,
}

/// What changes a second, as its copies so far had it; else what it writes, of which each byte may change another.
fn changes(loads: &Loads, machine: &Machine, there: Option<&Elsewhere<'_>>) -> Option<f64> {
    let points = there.map(|e| e.points.as_slice()).unwrap_or_default();
    let mut measured: Vec<f64> = points
        .windows(2)
        .filter_map(|w| {
            let secs = w[1].taken.since(w[0].taken).0 as f64 / 1000.0;
            (secs > 0.0).then(|| w[1].read.as_f64() / secs)
        })
        .collect();
    measured.sort_by(f64::total_cmp);
    // The 95th percentile, by the nearest rank.
    let rank = (measured.len() * 95).div_ceil(100);
    if let Some(found) = rank.checked_sub(1).and_then(|r| measured.get(r)) {
        return Some(*found);
    }
    let writes = loads.machines.get(&machine.id)?.disk?.writes;
    Some(writes.0 as f64)
}

/// Of all points in a store: what a byte that was read takes there. Replicas are not packed.
fn packed(estate: &Estate, goal: Goal) -> Option<f64> {
    let Goal::Store(store) = goal else { return Some(1.0) };
    let points = || estate.series_in(store).flat_map(|s| &s.points);
    let sum = |of: fn(&StoredPoint) -> Bytes| points().map(of).sum::<Bytes>().as_f64();
    let read = sum(|p| p.read);
    (read > 0.0).then(|| (sum(|p| p.stored) / read).min(1.0))
}

impl Foretold {
    /// Those that can be copied, of all that a job is about.
    pub fn of(view: &View, job: &Job) -> Foretold {
        let estate = &view.estate;
        let one = |m: &Machine| {
            let there = estate.at_goal(m, job.to);
            let used = view.loads.machines.get(&m.id).and_then(|l| l.disk).map(|d| d.used);
            One {
                held: used.filter(|_| !job.how.leaves_out).unwrap_or_else(|| job.disks(m).map(|d| d.size).sum()),
                first: there.as_ref().is_none_or(|e| e.points.is_empty()),
                changes: changes(&view.loads, m, there.as_ref()),
            }
        };
        Foretold {
            all: estate.in_job(job).into_iter().filter(|m| !m.is_node()).map(|m| one(m)).collect(),
            line: Line::of(estate, job.to),
            cap: job.how.cap.clone(),
            to_hosts: match job.to {
                Goal::Store(store) => Line::to(estate, store),
                Goal::Over(_) => Line::within(),
            },
            packed: packed(estate, job.to),
        }
    }

    /// Changed over so long, by all; and of how many nobody knows it.
    pub(super) fn changed(&self, over: Span) -> (Bytes, usize) {
        let secs = over.0 as f64 / 1000.0;
        let of = |o: &One| o.changes.map_or(o.held, |c| Bytes(round(c * secs)).min(o.held));
        let unknown = self.all.iter().filter(|o| o.changes.is_none()).count();
        (self.all.iter().map(of).sum(), unknown)
    }

    /// First copies: how many, how many bytes.
    pub(super) fn first(&self) -> (usize, Bytes) {
        let first = self.all.iter().filter(|o| o.first);
        (first.clone().count(), first.map(|o| o.held).sum())
    }

    /// How many can be proven, and how long all of them take one after the other: their bytes come, and each boots for a minute.
    pub(super) fn proofs(&self) -> (usize, Span) {
        let boots = Span::mins(u64::try_from(self.all.len()).unwrap_or(u64::MAX));
        let bytes: Bytes = self.all.iter().map(|o| o.held).sum();
        (self.all.len(), self.to_hosts.time(bytes).plus(boots))
    }

    pub(super) fn because(&self, bytes: Bytes) -> String {
        self.line.because(bytes)
    }

    /// What a run reads after the first one, if so long lies between two, how long that takes where nobody says in which hours, and
    /// of how many nobody knows it.
    pub fn each(&self, between: Span) -> (Bytes, Span, usize) {
        let (bytes, unknown) = self.changed(between);
        (bytes, self.line.time(bytes), unknown)
    }

    /// Of runs that are due then, how long the longest takes within the hours of the job; none: one is never over.
    pub(super) fn longest(&self, bytes: Bytes, due: &[Moment]) -> Option<Span> {
        if self.cap.is_none() {
            return Some(self.line.time(bytes));
        }
        let times = due.iter().map(|at| Some(self.cap.ends(bytes, self.line.rate, *at)?.since(*at)));
        times.collect::<Option<Vec<Span>>>().map(|all| all.into_iter().max().unwrap_or_default())
    }

    /// As fast as its line, in the hours of the job.
    pub fn pace(&self) -> (Rate, Cap) {
        (self.line.rate, self.cap.clone())
    }

    /// What all of them hold.
    pub(super) fn held(&self) -> Bytes {
        self.all.iter().map(|o| o.held).sum()
    }

    /// The least time between two runs in which one is over before the next: what changes in it is read in it. None: none is.
    pub(super) fn shortest(&self) -> Option<Span> {
        // Reading is slower than writing where this much changes each second.
        const STEPS: [u64; 12] = [15, 30, 60, 120, 180, 240, 360, 480, 720, 1440, 2880, 10_080];
        let fits = |s: &Span| self.each(*s).1 <= *s;
        STEPS.map(Span::mins).into_iter().find(fits)
    }

    /// In the store so long after it began, at most: what each machine holds, and what changed between the points that stay. What
    /// nobody can take away before `held` is over stays too, every point of it.
    pub(super) fn after(&self, age: Span, between: Span, keeps: &Keeps, held: Span) -> Bytes {
        let full: Bytes = self.all.iter().map(|o| o.held).sum();
        let apart = |n: u16, every: Span| {
            let there = (age.0 / every.0.max(1)).min(u64::from(n));
            // Those of them that are held are among all that are.
            let there = there.saturating_sub(held.0 / every.0.max(1));
            let (bytes, _) = self.changed(every.max(between));
            Bytes(bytes.0.saturating_mul(there))
        };
        let points: Bytes = keeps.tiers(between).into_iter().map(|(n, every)| apart(n, every)).sum();
        let (each, _) = self.changed(between);
        let held = Bytes(each.0.saturating_mul(age.0.min(held.0) / between.0.max(1)));
        let all = (full + points + held).as_f64() * self.packed.unwrap_or(1.0);
        Bytes(round(all))
    }

    /// How a byte is packed, as it was measured.
    pub(super) fn packing(&self) -> String {
        match self.packed {
            Some(p) => format!("a byte that is read takes {p:.2} there so far"),
            None => "as if nothing were packed, as nothing is there yet".into(),
        }
    }
}
