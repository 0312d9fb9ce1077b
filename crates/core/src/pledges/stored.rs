//! What copies in stores are worth for a promise. A copy counts from the instant it is of, never from when it was done.

use super::{
    Evidence, Standing,
    judge::{Case, Verdict, say},
};
use crate::{
    estate::{Away, Consistent, Point, Series, Store, StoredPoint},
    moment::{Moment, Span},
    runs::Object,
    units::Bytes,
};
use std::sync::Arc;

impl<'a> Case<'a> {
    /// What stores have of it, and which store.
    pub(super) fn stored(&self) -> impl Iterator<Item = (&'a Arc<Store>, &'a Arc<Series>)> {
        let estate = self.estate;
        let all = estate.backups_of(self.machine);
        all.filter_map(|s| Some((estate.stores.get(&s.store)?, s)))
    }

    /// Whether a copy is of every disk that is promised of, at the size it has now.
    pub(super) fn is_whole(&self, point: &StoredPoint) -> bool {
        let covered = self
            .machine
            .disks
            .iter()
            .filter(|d| !self.machine.excepts(d.key));
        point.size >= covered.map(|d| d.size).sum::<Bytes>()
    }

    /// The newest that counts.
    fn newest(
        &self,
        fits: impl Fn(&Store, &StoredPoint) -> bool,
    ) -> Option<(&'a Arc<Store>, &'a StoredPoint)> {
        let all = self
            .stored()
            .flat_map(|(store, s)| s.points.iter().map(move |p| (store, p)));
        let counts = all.filter(|(store, p)| self.is_whole(p) && fits(store, p));
        counts.max_by_key(|(_, p)| p.taken)
    }

    fn seen(&self, store: &Store, point: &StoredPoint) -> Evidence {
        Evidence {
            text: say!(self, "Copy in {}, {}", store.name, point.consistent.word()),
            at: Some(point.taken),
            of: Some(Object::Store(store.id)),
        }
    }

    /// Whether a job makes another in time.
    fn renewed(&self, store: &Store, age: Span, ends: Moment) -> Verdict {
        let jobs = self.estate.jobs.values();
        let own = jobs.filter(|j| j.store == store.id && !j.paused && j.covers(self.machine));
        let next = own
            .filter_map(|j| Some((j.next?, j)))
            .min_by_key(|(at, _)| *at);
        let to = &store.name;
        match next {
            Some((at, job)) if at < ends => {
                let text = say!(
                    self,
                    "The newest copy in {to} is {age} old; {} makes the next.",
                    job.name
                );
                Verdict::new(Standing::Kept, text)
            }
            Some((_, job)) => {
                let text = say!(
                    self,
                    "The newest copy in {to} is {age} old, and {} makes the next only when it is too old.",
                    job.name
                );
                Verdict::new(Standing::AtRisk, text)
            }
            None => {
                let text = say!(
                    self,
                    "The newest copy in {to} is {age} old, and nothing makes another by itself."
                );
                Verdict::new(Standing::AtRisk, text)
            }
        }
    }

    /// By its age, and by what makes the next.
    fn aged(&self, (store, point): (&Store, &StoredPoint), most: Span) -> Verdict {
        let age = self.now.since(point.taken);
        let ends = point.taken.plus(most);
        let verdict = match ends <= self.now {
            true => Verdict::new(
                Standing::Broken,
                say!(self, "The newest copy in {} is {age} old.", store.name),
            )
            .since(Some(ends)),
            false => self.renewed(store, age, ends).until(Some(ends)),
        };
        verdict.by([self.seen(store, point)])
    }

    pub(super) fn by_backups(&self, point: &Point) -> Verdict {
        let quiet = |p: &StoredPoint| !(point.quiet && p.consistent == Consistent::Crash);
        match self.newest(|_, p| quiet(p)) {
            Some((store, newest)) => self.aged((store, newest), point.every),
            None => Verdict::new(Standing::Broken, "No store has a copy of it that counts."),
        }
    }

    /// None: no store elsewhere has anything of it.
    pub(super) fn away_in_stores(&self, away: &Away) -> Option<Verdict> {
        let own = self.estate.site_of(self.machine);
        let elsewhere = |store: &Store| match away.site {
            Some(site) => store.site == site && own != Some(site),
            None => own.is_some() && own != Some(store.site),
        };
        let (store, newest) = self.newest(|s, _| elsewhere(s))?;
        Some(self.aged((store, newest), away.age))
    }

    /// None: no store has anything of it.
    pub(super) fn kept_in_stores(&self, span: Span) -> Option<Verdict> {
        let (store, newest) = self.newest(|_, _| true)?;
        let (to, seen) = (&store.name, self.seen(store, newest));
        let Some(job) = newest.job.and_then(|id| self.estate.jobs.get(&id)) else {
            let verdict = match newest.ends.map(|ends| ends.since(newest.taken)) {
                None => {
                    let text = say!(self, "What {to} has stays until somebody lets it go.");
                    Verdict::new(Standing::Kept, text)
                }
                Some(stays) if stays >= span => Verdict::new(
                    Standing::Kept,
                    say!(self, "What {to} has is kept for {stays}."),
                ),
                Some(stays) => {
                    let text = say!(self, "What {to} has is kept for {stays} only.");
                    Verdict::new(Standing::Broken, text)
                }
            };
            return Some(verdict.by([seen]));
        };
        let (name, keeps, reach) = (&job.name, &job.keeps, job.keeps.reach());
        let verdict = match reach >= span {
            true => Verdict::new(Standing::Kept, say!(self, "{name} keeps {keeps} in {to}.")),
            false => {
                let text = say!(
                    self,
                    "{name} keeps {keeps} in {to}: none for longer than {reach}."
                );
                Verdict::new(Standing::Broken, text)
            }
        };
        Some(verdict.by([seen]))
    }
}
