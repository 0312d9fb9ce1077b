//! What lying on a volume gives a machine: what people stated of it, and what its array does.

use super::{
    Evidence, Standing, is_tight,
    judge::{Verdict, say},
};
use crate::{
    estate::{Array, ArrayCondition, Away, Estate, Machine, Offers, Served, Service, Volume},
    ids::SiteId,
    moment::{Moment, Span},
    runs::Object,
    text::Line,
};
use std::sync::Arc;

/// A volume as a place for disks that something is promised of.
pub struct Lies<'a> {
    estate: &'a Estate,
    volume: &'a Volume,
    array: Option<&'a Arc<Array>>,
    served: Option<&'a Served>,
    words: bool,
}

/// What the array that a volume lies on does for it.
pub(super) fn served<'a>(
    estate: &'a Estate,
    volume: &Volume,
) -> Option<(&'a Arc<Array>, &'a Served)> {
    let array = estate.arrays.get(&volume.backing.as_ref()?.array)?;
    Some((array, array.served.get(&volume.id)?))
}

impl<'a> Lies<'a> {
    pub fn on(estate: &'a Estate, volume: &'a Volume) -> Lies<'a> {
        let array = volume
            .backing
            .as_ref()
            .and_then(|b| estate.arrays.get(&b.array));
        let served = array.and_then(|a| a.served.get(&volume.id));
        Lies {
            estate,
            volume,
            array,
            served,
            words: true,
        }
    }
    /// Whether it is said why.
    pub(super) fn saying(self, words: bool) -> Self {
        Lies { words, ..self }
    }

    /// Why a machine that lies here alone would not have what it is promised; none: it would, or nothing tells.
    pub fn lacks(&self, machine: &Machine, now: Moment) -> Option<String> {
        let mut there = machine.clone();
        for disk in &mut there.disks {
            disk.volume = self.volume.id;
        }
        let given: Vec<_> = self.estate.pledges_of(&there).collect();
        let promise = super::Promise::judged(self.estate, &there, &given, now);
        let of_place = |j: &&super::Judged| match &j.demand {
            super::Demand::Storage(_) | super::Demand::Remote(_) => true,
            super::Demand::Point(point) => point.taker == crate::estate::Taker::Array,
            super::Demand::Kept(_)
            | super::Demand::Proved(_)
            | super::Demand::Back(_)
            | super::Demand::Tier(_) => false,
        };
        let broken = promise
            .judged
            .iter()
            .filter(of_place)
            .find(|j| j.standing == Standing::Broken)?;
        Some(format!(
            "{} ({})",
            broken.why.trim_end_matches('.'),
            broken.by.join(", ")
        ))
    }

    fn name(&self) -> &str {
        &self.volume.name
    }
    fn of_volume(&self, text: String) -> Evidence {
        Evidence {
            text,
            at: None,
            of: Some(Object::Volume(self.volume.id)),
        }
    }
    fn array_name(&self) -> &str {
        self.array.map_or("its array", |a| &a.name)
    }

    /// What the array says, as a fact to look at.
    fn says(&self) -> Option<Evidence> {
        let (array, served) = self.array.zip(self.served).filter(|_| self.words)?;
        Some(Evidence {
            text: say!(
                self,
                "{} says of {}: {}",
                array.name,
                self.name(),
                served.words()
            ),
            at: Some(served.since),
            of: Some(Object::Array(array.id)),
        })
    }

    /// What a class says, judged; where nobody says anything, that is the answer.
    fn by_class(&self, judge: impl Fn(&Service, &Served) -> Verdict) -> Verdict {
        let Some(array) = self.array else {
            let text = match &self.volume.pooled {
                Some(_) => say!(
                    self,
                    "{} is made of the hosts' own disks: no array does anything for it.",
                    self.name()
                ),
                None => say!(
                    self,
                    "The array that {} lies on is not connected: nobody says what it does.",
                    self.name()
                ),
            };
            let standing = if self.volume.pooled.is_some() {
                Standing::Broken
            } else {
                Standing::Unchecked
            };
            return Verdict::new(standing, text).by([self.of_volume(say!(
                self,
                "Disks lie on {}",
                self.name()
            ))]);
        };
        let Some(served) = self.served else {
            let text = say!(
                self,
                "{} doesn't say what it does for {}.",
                array.name,
                self.name()
            );
            let seen = Evidence {
                text: say!(self, "{} knows no class of service for it", array.name),
                at: None,
                of: Some(Object::Array(array.id)),
            };
            return Verdict::new(Standing::Unchecked, text).by([seen]);
        };
        if let ArrayCondition::Lost { since, .. } = &array.condition {
            let text = say!(
                self,
                "{} does not answer: what it said of {} before says nothing about now.",
                array.name,
                self.name()
            );
            let silent = Evidence {
                text: say!(self, "{} is silent", array.name),
                at: Some(*since),
                of: Some(Object::Array(array.id)),
            };
            return Verdict::new(Standing::Unchecked, text)
                .by([silent])
                .by(self.says());
        }
        let mut verdict = judge(&served.service, served).by(self.says());
        verdict.cause = Some(array.id);
        verdict
    }

    fn broken(&self, text: String) -> Verdict {
        Verdict::new(Standing::Broken, text).since(self.served.map(|s| s.since))
    }

    pub(super) fn offers(&self, offers: &Offers) -> Verdict {
        let stated = self.stated(offers);
        let latency = offers
            .latency_us
            .map(|us| self.by_class(|c, _| self.fast(c, us)));
        let spare = offers.spare.map(|n| self.spare(n));
        [stated, latency, spare]
            .into_iter()
            .flatten()
            .reduce(Verdict::and)
            .unwrap_or_else(|| Verdict::new(Standing::Kept, "Any storage will do."))
    }

    fn stated(&self, offers: &Offers) -> Option<Verdict> {
        if offers.qualities.is_empty() {
            return None;
        }
        let words = |all: Vec<&str>| {
            if all.is_empty() {
                "nothing in particular".into()
            } else {
                all.join(", ")
            }
        };
        let missing: Vec<&str> = offers
            .qualities
            .difference(&self.volume.qualities)
            .map(Line::as_str)
            .collect();
        let all: Vec<&str> = self.volume.qualities.iter().map(Line::as_str).collect();
        let seen = self.of_volume(say!(self, "Stated of {}: {}", self.name(), words(all)));
        Some(match missing.is_empty() {
            true => Verdict::new(
                Standing::Kept,
                say!(self, "{} offers what is asked.", self.name()),
            )
            .by([seen]),
            false => Verdict::new(
                Standing::Broken,
                say!(
                    self,
                    "{} does not offer {}.",
                    self.name(),
                    missing.join(", ")
                ),
            )
            .by([seen]),
        })
    }

    fn fast(&self, class: &Service, asked: u32) -> Verdict {
        match class.latency_us {
            None => Verdict::new(
                Standing::Unchecked,
                say!(
                    self,
                    "{} doesn't say how long an operation on {} takes.",
                    self.array_name(),
                    self.name()
                ),
            ),
            Some(us) if us <= asked => Verdict::new(
                Standing::Kept,
                say!(
                    self,
                    "An operation on {} takes {us} µs on average.",
                    self.name()
                ),
            ),
            Some(us) => self.broken(say!(
                self,
                "An operation on {} takes {us} µs on average; {asked} µs are promised.",
                self.name()
            )),
        }
    }

    fn spare(&self, asked: u8) -> Verdict {
        if let Some(pooled) = &self.volume.pooled {
            let (has, lost) = (pooled.copies.saturating_sub(1), pooled.trouble());
            let seen = self.of_volume(say!(self, "{} keeps {} copies", self.name(), pooled.copies));
            let verdict = match (has >= asked, lost) {
                (false, _) => Verdict::new(
                    Standing::Broken,
                    say!(
                        self,
                        "Of {} {} copies are kept.",
                        self.name(),
                        pooled.copies
                    ),
                ),
                (true, Some(trouble)) => {
                    Verdict::new(Standing::AtRisk, say!(self, "{}: {trouble}.", self.name()))
                }
                (true, None) => Verdict::new(
                    Standing::Kept,
                    say!(
                        self,
                        "Of {} {} copies are kept.",
                        self.name(),
                        pooled.copies
                    ),
                ),
            };
            return verdict.by([seen]);
        }
        self.by_class(|class, _| match class.spare {
            None => Verdict::new(
                Standing::Unchecked,
                say!(
                    self,
                    "{} doesn't say how many drives beneath {} may be lost.",
                    self.array_name(),
                    self.name()
                ),
            ),
            Some(n) if n >= asked => Verdict::new(
                Standing::Kept,
                say!(
                    self,
                    "{n} drives beneath {} may be lost at once.",
                    self.name()
                ),
            ),
            Some(n) => self.broken(say!(
                self,
                "{n} drives beneath {} may be lost at once; {asked} are promised.",
                self.name()
            )),
        })
    }

    pub(super) fn point(&self, every: Span) -> Verdict {
        self.by_class(|class, _| match &class.snapshots {
            None => self.broken(say!(self, "{} takes no snapshots of {}.", self.array_name(), self.name())),
            Some(s) if s.every > every => {
                self.broken(say!(self, "{} takes a snapshot of {} every {} only.", self.array_name(), self.name(), s.every))
            }
            Some(s) if is_tight(s.every, every) => {
                let text = say!(self,
                    "{} takes a snapshot of {} every {}: less than a fifth of what is promised is left for a late one.",
                    self.array_name(), self.name(), s.every
                );
                Verdict::new(Standing::AtRisk, text)
            }
            Some(s) => Verdict::new(Standing::Kept, say!(self, "{} takes a snapshot of {} every {}.", self.array_name(), self.name(), s.every)),
        })
    }

    pub(super) fn keeps(&self, span: Span) -> Verdict {
        self.by_class(|class, _| match class.snapshots.as_ref().map(|s| s.keep) {
            None => self.broken(say!(
                self,
                "{} takes no snapshots of {}.",
                self.array_name(),
                self.name()
            )),
            Some(None) => Verdict::new(
                Standing::Unchecked,
                say!(
                    self,
                    "{} doesn't say for how long it keeps snapshots of {}.",
                    self.array_name(),
                    self.name()
                ),
            ),
            Some(Some(keep)) if keep >= span => Verdict::new(
                Standing::Kept,
                say!(
                    self,
                    "{} keeps snapshots of {} for {keep}.",
                    self.array_name(),
                    self.name()
                ),
            ),
            Some(Some(keep)) => self.broken(say!(
                self,
                "{} keeps snapshots of {} for {keep} only.",
                self.array_name(),
                self.name()
            )),
        })
    }

    /// The site that an array means by its words for a place.
    fn site_of(&self, place: &str) -> Option<SiteId> {
        let site = self.estate.site_named(place).map(|s| s.id);
        site.or_else(|| self.estate.array_named(place).map(|a| a.site))
    }

    pub(super) fn away(&self, away: &Away) -> Verdict {
        self.by_class(|class, _| {
            let (array, volume) = (self.array_name(), self.name());
            let Some(copy) = &class.remote else {
                return self.broken(say!(self, "{array} keeps no copy of {volume} elsewhere."));
            };
            let site = self.site_of(&copy.at);
            let own = self.array.map(|a| a.site);
            if site.is_some() && site == own {
                return self.broken(say!(
                    self,
                    "{array} keeps a copy of {volume} at {}, which is where it is itself.",
                    copy.at
                ));
            }
            if let Some(asked) = away.site.filter(|asked| site != Some(*asked)) {
                let name = self
                    .estate
                    .sites
                    .get(&asked)
                    .map_or_else(|| asked.to_string(), |s| s.name.clone());
                return self.broken(say!(
                    self,
                    "{array} keeps a copy of {volume} at {}, not at {name}.",
                    copy.at
                ));
            }
            let said = say!(
                self,
                "{array} keeps a copy of {volume} at {}, at most {} old",
                copy.at,
                copy.every
            );
            match copy.every {
                every if every > away.age => {
                    self.broken(say!(self, "{said}; {} are promised.", away.age))
                }
                every if is_tight(every, away.age) => Verdict::new(
                    Standing::AtRisk,
                    say!(
                        self,
                        "{said}: less than a fifth of what is promised is left for a late one."
                    ),
                ),
                _ => Verdict::new(Standing::Kept, say!(self, "{said}.")),
            }
        })
    }
}
