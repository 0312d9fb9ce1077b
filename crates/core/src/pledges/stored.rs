//! What copies in stores and at other sites are worth for a promise. A copy counts from the instant it is of, never from when it
//! was done.

use super::{
    Evidence, Standing,
    judge::{Case, Verdict, say},
};
use crate::{
    estate::{Away, Consistent, CopyPlace, Elsewhere, Point, StoredPoint, is_ahead},
    moment::{Moment, Span},
    units::Bytes,
};

impl<'a> Case<'a> {
    /// What there is of it elsewhere.
    pub(super) fn elsewhere(&self) -> impl Iterator<Item = Elsewhere<'a>> {
        self.estate.elsewhere(self.machine)
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
        fits: impl Fn(&Elsewhere<'_>, &StoredPoint) -> bool,
    ) -> Option<(Elsewhere<'a>, &'a StoredPoint)> {
        let newest = |there: Elsewhere<'a>| {
            let mut all = there.points.iter().rev().copied();
            // How old one is that a clock took which was ahead, nobody knows.
            let known = |p: &StoredPoint| !is_ahead(p.taken, self.now);
            let counts = all.find(|p| known(p) && self.is_whole(p) && fits(&there, p))?;
            Some((there, counts))
        };
        let each = self.elsewhere().filter_map(newest);
        each.max_by_key(|(_, p)| p.taken)
    }

    fn seen(&self, there: &Elsewhere<'_>, point: &StoredPoint) -> Evidence {
        let which = match there.at {
            CopyPlace::Store(_) => "Copy in",
            CopyPlace::Replica(..) => "Replica at",
        };
        Evidence {
            text: say!(self, "{which} {}, {}", there.name, point.consistent.word()),
            at: Some(point.taken),
            of: Some(there.into()),
        }
    }

    /// Whether a job makes another in time.
    fn renewed(&self, there: &Elsewhere<'_>, age: Span, ends: Moment) -> Verdict {
        let jobs = self.estate.jobs.values();
        let own = jobs.filter(|j| j.renews(self.machine, there));
        let next = own
            .filter_map(|j| Some((j.begins()?, j)))
            .min_by_key(|(at, _)| *at);
        let to = there.placed();
        match next {
            Some((at, job)) if at < ends => {
                let text = say!(
                    self,
                    "The newest copy {to} is {age} old; {} makes the next.",
                    job.name
                );
                Verdict::new(Standing::Kept, text)
            }
            Some((_, job)) => {
                let text = say!(
                    self,
                    "The newest copy {to} is {age} old, and {} makes the next only when it is too old.",
                    job.name
                );
                Verdict::new(Standing::AtRisk, text)
            }
            None => {
                let text = say!(
                    self,
                    "The newest copy {to} is {age} old, and nothing makes another by itself."
                );
                Verdict::new(Standing::AtRisk, text)
            }
        }
    }

    /// By its age, and by what makes the next.
    fn aged(&self, (there, point): (&Elsewhere<'_>, &StoredPoint), most: Span) -> Verdict {
        let age = self.now.since(point.taken);
        let ends = point.taken.plus(most);
        let verdict = match ends <= self.now {
            true => Verdict::new(
                Standing::Broken,
                say!(self, "The newest copy {} is {age} old.", there.placed()),
            )
            .since(Some(ends)),
            false => self.renewed(there, age, ends).until(Some(ends)),
        };
        verdict.by([self.seen(there, point)])
    }

    pub(super) fn by_backups(&self, point: &Point) -> Verdict {
        let quiet = |p: &StoredPoint| !(point.quiet && p.consistent == Consistent::Crash);
        match self.newest(|_, p| quiet(p)) {
            Some((there, newest)) => self.aged((&there, newest), point.every),
            None => Verdict::new(Standing::Broken, "Nowhere is a copy of it that counts."),
        }
    }

    /// None: nothing elsewhere has anything of it.
    pub(super) fn away_in_copies(&self, away: &Away) -> Option<Verdict> {
        let own = self.estate.site_of(self.machine);
        let elsewhere = |there: &Elsewhere<'_>| match away.site {
            Some(site) => there.site == Some(site) && own != Some(site),
            None => own.is_some() && there.site.is_some() && own != there.site,
        };
        let (there, newest) = self.newest(|e, _| elsewhere(e))?;
        Some(self.aged((&there, newest), away.age))
    }

    /// None: nothing has anything of it.
    pub(super) fn kept_in_copies(&self, span: Span) -> Option<Verdict> {
        let kept = self.elsewhere().filter_map(|there| {
            let newest = there
                .points
                .iter()
                .rev()
                .copied()
                .find(|p| self.is_whole(p))?;
            Some(self.kept_at(&there, newest, span))
        });
        kept.reduce(Verdict::or)
    }

    fn kept_at(&self, there: &Elsewhere<'_>, newest: &StoredPoint, span: Span) -> Verdict {
        let (to, seen) = (there.placed(), self.seen(there, newest));
        let Some(job) = newest.job.and_then(|id| self.estate.jobs.get(&id)) else {
            let verdict = match newest.ends.map(|ends| ends.since(newest.taken)) {
                None => {
                    let text = say!(self, "What is {to} stays until somebody lets it go.");
                    Verdict::new(Standing::Kept, text)
                }
                Some(stays) if stays >= span => Verdict::new(
                    Standing::Kept,
                    say!(self, "What is {to} is kept for {stays}."),
                ),
                Some(stays) => {
                    let text = say!(self, "What is {to} is kept for {stays} only.");
                    Verdict::new(Standing::Broken, text)
                }
            };
            return verdict.by([seen]);
        };
        let (name, keeps, reach) = (&job.name, &job.keeps, job.keeps.reach());
        let verdict = match reach >= span {
            true => Verdict::new(Standing::Kept, say!(self, "{name} keeps {keeps} {to}.")),
            false => {
                let text = say!(
                    self,
                    "{name} keeps {keeps} {to}: none for longer than {reach}."
                );
                Verdict::new(Standing::Broken, text)
            }
        };
        verdict.by([seen])
    }
}
