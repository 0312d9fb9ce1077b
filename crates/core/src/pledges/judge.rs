//! Whether one clause of one machine holds.

use super::{Demand, Evidence, Lies, Standing, is_tight, lie};
use crate::{
    estate::{
        Array, Away, Consistent, Disk, Estate, Machine, Point, Schedule, Served, Snapshot, Taker,
        Volume,
    },
    ids::{ArrayId, VolumeId},
    moment::{Moment, Span},
    runs::Object,
};
use std::{borrow::Cow, collections::BTreeMap, sync::Arc};

/// What was found of one demand.
#[derive(Debug, Clone)]
pub(super) struct Verdict {
    pub(super) standing: Standing,
    pub(super) since: Option<Moment>,
    pub(super) why: Cow<'static, str>,
    pub(super) evidence: Vec<Evidence>,
    pub(super) until: Option<Moment>,
    /// The array that it rests on.
    pub(super) cause: Option<ArrayId>,
}

/// A text, where words are wanted: most judgements are only counted, and words take ten times as long.
macro_rules! say {
    ($judge:expr, $($words:tt)*) => {
        if $judge.words { format!($($words)*) } else { String::new() }
    };
}
pub(super) use say;

impl Verdict {
    pub(super) fn new(standing: Standing, why: impl Into<Cow<'static, str>>) -> Verdict {
        Verdict {
            standing,
            since: None,
            why: why.into(),
            evidence: Vec::new(),
            until: None,
            cause: None,
        }
    }
    pub(super) fn by(mut self, evidence: impl IntoIterator<Item = Evidence>) -> Verdict {
        self.evidence.extend(evidence);
        self
    }
    pub(super) fn since(self, since: Option<Moment>) -> Verdict {
        Verdict { since, ..self }
    }
    pub(super) fn until(self, until: Option<Moment>) -> Verdict {
        Verdict { until, ..self }
    }
    /// The one that stands better; the evidence of both, the better one's first.
    pub(super) fn or(self, other: Verdict) -> Verdict {
        // What holds for now is more than what nobody knows.
        let rank = |v: &Verdict| match v.standing {
            Standing::Kept => 0,
            Standing::AtRisk => 1,
            Standing::Unchecked => 2,
            Standing::Broken => 3,
        };
        let (mut better, worse) = match rank(&other) < rank(&self) {
            true => (other, self),
            false => (self, other),
        };
        better.until = better.until.into_iter().chain(worse.until).min();
        // Until the last means failed it was kept.
        if better.standing == Standing::Broken {
            better.since = better.since.max(worse.since);
        }
        better.by(worse.evidence)
    }
    /// The one that stands worse, with the evidence of both.
    pub(super) fn and(self, other: Verdict) -> Verdict {
        let (mut worse, better) = match other.standing > self.standing {
            true => (other, self),
            false => (self, other),
        };
        worse.until = worse.until.into_iter().chain(better.until).min();
        // Since the first of them failed it is broken.
        if better.standing == Standing::Broken {
            worse.since = worse.since.into_iter().chain(better.since).min();
        }
        worse.by(better.evidence)
    }
}

/// A machine, and what it lies on.
pub(super) struct Case<'a> {
    pub(super) estate: &'a Estate,
    pub(super) machine: &'a Machine,
    /// The volumes of the disks that anything is promised of.
    volumes: BTreeMap<VolumeId, Option<&'a Arc<Volume>>>,
    pub(super) now: Moment,
    /// Whether it is said why.
    pub(super) words: bool,
}

impl<'a> Case<'a> {
    pub(super) fn of(
        estate: &'a Estate,
        machine: &'a Machine,
        now: Moment,
        words: bool,
    ) -> Case<'a> {
        let covered = machine.disks.iter().filter(|d| !machine.excepts(d.key));
        let volumes = covered
            .map(|d| (d.volume, estate.volumes.get(&d.volume)))
            .collect();
        Case {
            estate,
            machine,
            volumes,
            now,
            words,
        }
    }

    fn lies<'b>(&'b self, volume: &'b Volume) -> Lies<'b> {
        Lies::on(self.estate, volume).saying(self.words)
    }

    pub(super) fn judge(&self, demand: &Demand) -> Verdict {
        if self.volumes.is_empty() && !matches!(demand, Demand::Tier(_)) {
            return Verdict::new(
                Standing::Unchecked,
                "It has no disk that this could be promised of.",
            );
        }
        match demand {
            Demand::Storage(offers) => self.each(|v| self.lies(v).offers(offers)),
            Demand::Point(point) => self.point(point),
            Demand::Kept(span) => self.kept(*span),
            Demand::Remote(away) => self.remote(away),
            Demand::Proved(every) => self.proved(*every),
            Demand::Back(span) => self.back(*span),
            Demand::Tier(tier) => self.tier(*tier),
        }
    }

    /// The worst over all volumes that it lies on.
    fn each(&self, judge: impl Fn(&Volume) -> Verdict) -> Verdict {
        let one = |v: &Option<&Arc<Volume>>| match v {
            Some(v) => judge(v),
            None => Verdict::new(
                Standing::Unchecked,
                "Nothing is known of the volume that it lies on.",
            ),
        };
        let all = self.volumes.values().map(one);
        all.reduce(Verdict::and)
            .unwrap_or_else(|| Verdict::new(Standing::Unchecked, ""))
    }

    fn served(&self) -> impl Iterator<Item = (&Arc<Volume>, &Arc<Array>, &Served)> {
        self.volumes
            .values()
            .flatten()
            .filter_map(|v| lie::served(self.estate, v).map(|(a, s)| (*v, a, s)))
    }

    fn point(&self, point: &Point) -> Verdict {
        let array = || self.by_array(point);
        let snapshots = || self.by_snapshots(point);
        match point.taker {
            Taker::Array => array(),
            Taker::Snapshot => snapshots(),
            Taker::Any => array().or(snapshots()).or(self.by_backups(point)),
        }
    }

    /// By what the arrays take by themselves; all of its disks at one moment.
    fn by_array(&self, point: &Point) -> Verdict {
        if point.quiet {
            return Verdict::new(
                Standing::Broken,
                "What an array takes is as after a power cut: no file system stands still for it.",
            );
        }
        let each = self.each(|v| self.lies(v).point(point.every));
        let groups = self
            .served()
            .map(|(_, a, s)| s.group.as_ref().map(|g| (a.id, g)));
        let groups: Vec<_> = groups.collect();
        let torn = self.volumes.len() > 1
            && (groups.iter().any(Option::is_none) || groups.windows(2).any(|w| w[0] != w[1]));
        match matches!(each.standing, Standing::Kept | Standing::AtRisk) && torn {
            true => {
                let text = "Its disks lie on several volumes that are not taken at one moment: they are in no common consistency group.";
                Verdict::new(Standing::Broken, text).by(each.evidence)
            }
            false => each,
        }
    }

    /// The schedules that take snapshots of it, paused ones not.
    fn schedules(&self) -> Vec<&Arc<Schedule>> {
        if self.machine.is_node() || self.estate.schedules.is_empty() {
            return Vec::new();
        }
        let labels: Vec<String> = self.machine.label_words().collect();
        let live = self.estate.schedules.values().filter(|s| !s.paused);
        live.filter(|s| labels.contains(&s.label)).collect()
    }

    /// Whether a snapshot holds every disk that is promised of.
    fn holds(&self, snapshot: &Snapshot) -> bool {
        let covered = |(n, d): (usize, &Disk)| {
            self.machine.excepts(d.key) || snapshot.disks.is_none_or(|m| n < m)
        };
        self.machine.disks.iter().enumerate().all(covered)
    }

    fn by_snapshots(&self, point: &Point) -> Verdict {
        let counts =
            |s: &&Snapshot| self.holds(s) && !(point.quiet && s.consistent == Consistent::Crash);
        let newest = self
            .machine
            .snapshots
            .all
            .iter()
            .filter(counts)
            .max_by_key(|s| s.taken);
        let schedules = self.schedules();
        let next = schedules.iter().map(|s| s.next().max(self.now)).min();
        let of = Some(Object::Machine(self.machine.id));
        let seen = newest.map(|s| Evidence {
            text: say!(self, "Snapshot {}, {}", s.name, s.consistent.word()),
            at: Some(s.taken),
            of,
        });
        let due = schedules.iter().map(|s| Evidence {
            text: say!(self, "Schedule {} takes one every {}", s.name, s.every),
            at: s.last,
            of: Some(Object::Schedule(s.id)),
        });
        let evidence: Vec<Evidence> = seen.into_iter().chain(due).collect();
        let Some(newest) = newest else {
            let why: Cow<'static, str> = match (schedules.first(), point.quiet) {
                _ if self.machine.is_node() => {
                    "No snapshot is taken of machines that share disks.".into()
                }
                (Some(s), _) if self.machine.snapshots.is_empty() => say!(
                    self,
                    "No snapshot was taken yet; {} takes the first.",
                    s.name
                )
                .into(),
                (_, true) if !self.machine.snapshots.is_empty() => {
                    "No snapshot was taken for which its file systems stood still.".into()
                }
                _ => "There is no snapshot of it, and no schedule takes one.".into(),
            };
            return Verdict::new(Standing::Broken, why).by(evidence);
        };
        let ends = newest.taken.plus(point.every);
        let age = self.now.since(newest.taken);
        let every = schedules.iter().map(|s| s.every).min();
        let verdict = if ends <= self.now {
            Verdict::new(
                Standing::Broken,
                say!(self, "The newest snapshot is {age} old."),
            )
            .since(Some(ends))
        } else if next.is_none_or(|next| next > ends) {
            let when = match next {
                Some(next) => say!(self, "the next is due in {}", next.since(self.now)),
                None => "no schedule takes another".to_owned(),
            };
            Verdict::new(
                Standing::AtRisk,
                say!(self, "The newest snapshot is {age} old, and {when}."),
            )
            .until(Some(ends))
        } else if let Some(every) = every.filter(|e| is_tight(*e, point.every)) {
            let text = say!(
                self,
                "A snapshot is taken every {every}: less than a fifth of what is promised is left for a late one."
            );
            Verdict::new(Standing::AtRisk, text).until(Some(ends))
        } else {
            Verdict::new(
                Standing::Kept,
                say!(self, "The newest snapshot is {age} old."),
            )
            .until(Some(ends))
        };
        verdict.by(evidence)
    }

    fn kept(&self, span: Span) -> Verdict {
        let array = self.each(|v| self.lies(v).keeps(span));
        let longest = self.schedules().into_iter().max_by_key(|s| s.keeps);
        let schedule = longest.map(|s| {
            let standing = match s.keeps >= span {
                // One that took nothing yet keeps nothing yet.
                true if s.last.is_none() => Standing::Unchecked,
                true => Standing::Kept,
                false => Standing::Broken,
            };
            let seen = Evidence {
                text: say!(self, "Schedule {} keeps each for {}", s.name, s.keeps),
                at: s.last,
                of: Some(Object::Schedule(s.id)),
            };
            Verdict::new(
                standing,
                say!(self, "{} keeps each snapshot for {}.", s.name, s.keeps),
            )
            .by([seen])
        });
        let best = match schedule {
            Some(schedule) => schedule.or(array),
            None => array,
        };
        match self.kept_in_copies(span) {
            Some(stores) => best.or(stores),
            None => best,
        }
    }

    fn remote(&self, away: &Away) -> Verdict {
        let arrays = self.each(|v| self.lies(v).away(away));
        match self.away_in_copies(away) {
            Some(stores) => arrays.or(stores),
            None => arrays,
        }
    }

    fn tier(&self, tier: u8) -> Verdict {
        let m = self.machine;
        let seen = |text: String| Evidence {
            text,
            at: None,
            of: Some(Object::Machine(m.id)),
        };
        if !m.restarts {
            let text = "It is not started elsewhere when its host fails.";
            return Verdict::new(Standing::Broken, text)
                .by([seen("Somebody asked that it has no place elsewhere".into())]);
        }
        let standing = if m.tier <= tier {
            Standing::Kept
        } else {
            Standing::Broken
        };
        Verdict::new(standing, say!(self, "It restarts in tier {}.", m.tier))
            .by([seen(say!(self, "Tier {}", m.tier))])
    }
}
