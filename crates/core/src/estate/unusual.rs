//! A copy that is unlike those before it: much more changed than usual at this hour, or what changed packs much worse. Whoever
//! encrypts or deletes what others need does both.

use super::{Estate, Machine, Series, StoredPoint};
use crate::{
    moment::{Moment, Span},
    recurrence::{there, zone},
    units::Bytes,
};
use chrono::Timelike;

/// So far back it is looked what is usual.
const USUAL: Span = Span::days(28);
/// From fewer copies nobody knows what is usual.
const FEWEST: usize = 4;
/// Less is never worth a thought.
const MUCH: Bytes = Bytes::gib(1);
/// Of less than this nobody can say how it packs.
const PACKED: Bytes = Bytes::mib(64);

/// How the newest copy is unlike those before.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Unusual {
    /// So much changed, where so much is usual.
    More { read: Bytes, usual: Bytes },
    /// Of a hundred bytes so many had to be stored, where so many is usual.
    Denser { of_hundred: u64, usual: u64 },
}

impl Unusual {
    /// What is unlike, as the end of a sentence.
    pub fn words(self) -> String {
        match self {
            Unusual::More { read, usual } => {
                format!("{read} changed; at this hour {usual} are usual")
            }
            Unusual::Denser { of_hundred, usual } => format!(
                "of 100 bytes that changed {of_hundred} were new when packed; {usual} are usual"
            ),
        }
    }
}

/// The middle one of figures, by the lower where there are two; none of none.
fn median(all: &mut [u64]) -> Option<u64> {
    all.sort_unstable();
    all.get(all.len().checked_sub(1)? / 2).copied()
}

/// Median, and median absolute deviation (Hampel 1974).
fn spread(all: impl Iterator<Item = u64>) -> Option<(u64, u64)> {
    let mut all: Vec<u64> = all.collect();
    let middle = median(&mut all)?;
    let mut apart: Vec<u64> = all.iter().map(|x| x.abs_diff(middle)).collect();
    Some((middle, median(&mut apart)?))
}

fn density(point: &StoredPoint) -> u64 {
    point.stored.0.saturating_mul(100) / point.read.0.max(1)
}

/// How the newest point is unlike those before it at the same hour of 28 days, by the clock of this zone: more than the median
/// and six median absolute deviations (and a tenth of the median, where all were alike) and than 1 GiB was read, or what was
/// read packs half as well. None also where too few are known. Quick where little changed; O(points) else.
fn unusual<'a>(
    mut points: impl DoubleEndedIterator<Item = &'a StoredPoint>,
    zone_name: &str,
) -> Option<Unusual> {
    let newest = points.next_back()?;
    let (much, packs) = (newest.read > MUCH, newest.stored > PACKED);
    if !much && !packs {
        return None;
    }
    let zone = zone(zone_name).unwrap_or(rrule::Tz::UTC);
    let hour = |at: Moment| there(at, zone).map(|t| t.hour());
    let (from, own) = (newest.taken.before(USUAL), hour(newest.taken));
    // The first one there was read whole.
    points.next();
    let alike: Vec<&StoredPoint> = points
        .rev()
        .take_while(|p| p.taken >= from)
        .filter(|p| hour(p.taken) == own)
        .collect();
    if alike.len() < FEWEST {
        return None;
    }
    let (read, apart) = spread(alike.iter().map(|p| p.read.0))?;
    let slack = apart.saturating_mul(6).max(read / 10);
    if much && newest.read.0 > read.saturating_add(slack) {
        return Some(Unusual::More {
            read: newest.read,
            usual: Bytes(read),
        });
    }
    let (usual, _) = spread(alike.iter().map(|p| density(p)))?;
    let of_hundred = density(newest);
    // What packs to nothing may pack twice as badly and still be next to nothing.
    let denser = packs && usual > 0 && of_hundred > usual.saturating_mul(2).max(10);
    denser.then_some(Unusual::Denser { of_hundred, usual })
}

impl Series {
    /// How the newest point of it is unlike those before, by the clock of this zone.
    pub fn unusual(&self, zone_name: &str) -> Option<Unusual> {
        unusual(self.points.iter(), zone_name)
    }
}

impl Machine {
    /// The same of a replica, by what came over for it.
    pub fn unusual(&self, zone_name: &str) -> Option<Unusual> {
        unusual(self.replicated(), zone_name)
    }
}

impl Estate {
    /// How the newest copy of a machine in a store is unlike those before, by the clock of the job that made it.
    pub fn unusual(&self, series: &Series) -> Option<Unusual> {
        series.unusual(self.zone_of(series.newest()?))
    }
    /// The same of what a replica has.
    pub fn unusual_replica(&self, replica: &Machine) -> Option<Unusual> {
        replica.unusual(self.zone_of(replica.replicated().next_back()?))
    }
    fn zone_of(&self, point: &StoredPoint) -> &str {
        let job = point.job.and_then(|id| self.jobs.get(&id));
        job.map_or("UTC", |j| j.when.zone.as_str())
    }
}
