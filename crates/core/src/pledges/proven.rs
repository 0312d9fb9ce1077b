//! What proofs are worth for a promise: only a copy that came up counts, and only the time that it took was measured.

use super::{
    Evidence, Standing, is_tight,
    judge::{Case, Verdict, say},
};
use crate::{
    estate::{Elsewhere, Proof, StoredPoint},
    moment::Span,
};

/// A point with what came of its copy.
type Tried<'a> = (Elsewhere<'a>, &'a StoredPoint, &'a Proof);

impl<'a> Case<'a> {
    /// Whatever was tried last, and the last that came up.
    fn tried(&self) -> (Option<Tried<'a>>, Option<Tried<'a>>) {
        let all = self.elsewhere().flat_map(|there| {
            let tried = |p: &'a StoredPoint| Some((p, p.proof.as_deref()?));
            let each: Vec<_> = there.points.iter().copied().filter_map(tried).collect();
            each.into_iter()
                .map(move |(p, proof)| (there.clone(), p, proof))
        });
        let (mut last, mut good) = (None::<Tried<'a>>, None::<Tried<'a>>);
        for one in all.filter(|(_, p, _)| self.is_whole(p)) {
            let later = |than: &Option<Tried<'a>>| than.as_ref().is_none_or(|t| t.2.at < one.2.at);
            let newer = later(&last);
            if one.2.is_good() && later(&good) {
                good = Some(one.clone());
            }
            if newer {
                last = Some(one);
            }
        }
        (last, good)
    }

    fn proof(&self, (there, point, proof): &Tried<'_>) -> Evidence {
        let text = say!(
            self,
            "Copy {} as of {} UTC: {}",
            there.placed(),
            point.taken.stamp(),
            proof.words()
        );
        Evidence {
            text,
            at: Some(proof.at),
            of: Some(there.into()),
        }
    }

    /// So often a job proves one by itself; the shortest.
    fn proves_every(&self) -> Option<Span> {
        let own = self
            .estate
            .jobs
            .values()
            .filter(|j| !j.paused && j.covers(self.machine));
        own.filter_map(|j| j.proves).min()
    }

    /// A copy came up no longer ago.
    pub(super) fn proved(&self, every: Span) -> Verdict {
        let (last, good) = self.tried();
        let Some(good) = good else {
            return match last {
                Some(last) => Verdict::new(
                    Standing::Broken,
                    say!(
                        self,
                        "No copy of it came up; of the last, {}.",
                        last.2.words()
                    ),
                )
                .by([self.proof(&last)]),
                None => Verdict::new(Standing::Broken, "No copy of it was ever booted."),
            };
        };
        let (age, ends) = (self.now.since(good.2.at), good.2.at.plus(every));
        let failed = last.filter(|l| !l.2.is_good());
        let verdict = if ends <= self.now {
            let text = say!(self, "The last copy that came up did so {age} ago.");
            Verdict::new(Standing::Broken, text).since(Some(ends))
        } else if let Some(failed) = &failed {
            let text = say!(
                self,
                "A copy came up {age} ago, but of a later one {}.",
                failed.2.words()
            );
            Verdict::new(Standing::AtRisk, text).until(Some(ends))
        } else {
            self.proven_again(age, every).until(Some(ends))
        };
        let both = [Some(good), failed].into_iter().flatten();
        verdict.by(both.map(|t| self.proof(&t)).collect::<Vec<_>>())
    }

    /// Whether another is tried in time.
    fn proven_again(&self, age: Span, every: Span) -> Verdict {
        match self.proves_every() {
            Some(job) if job >= every => {
                let text = say!(
                    self,
                    "A copy came up {age} ago; the next is tried only {job} after it."
                );
                Verdict::new(Standing::AtRisk, text)
            }
            Some(job) if is_tight(job, every) => {
                let text = say!(
                    self,
                    "A copy is tried every {job}: less than a fifth of what is promised is left for a late one."
                );
                Verdict::new(Standing::AtRisk, text)
            }
            Some(_) => Verdict::new(Standing::Kept, say!(self, "A copy came up {age} ago.")),
            None => {
                let text = say!(
                    self,
                    "A copy came up {age} ago, and nothing tries another by itself."
                );
                Verdict::new(Standing::AtRisk, text)
            }
        }
    }

    /// As long as the last copy that came up took.
    pub(super) fn back(&self, within: Span) -> Verdict {
        let (_, Some(good)) = self.tried() else {
            let text = "Nobody measured it: no copy of it came up yet.";
            return Verdict::new(Standing::Unchecked, text);
        };
        let took = good.2.took;
        let (standing, text) = match (took <= within, is_tight(took, within)) {
            (false, _) => (
                Standing::Broken,
                say!(self, "The last copy that came up took {took}."),
            ),
            (true, true) => (
                Standing::AtRisk,
                say!(
                    self,
                    "The last copy that came up took {took}: less than a fifth of what is promised was left."
                ),
            ),
            (true, false) => (
                Standing::Kept,
                say!(self, "The last copy that came up took {took}."),
            ),
        };
        Verdict::new(standing, text).by([self.proof(&good)])
    }
}
