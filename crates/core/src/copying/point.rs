//! A recovery point in a store as something that machines and disks are made of.

use super::{Original, Whence};
use crate::{
    estate::{
        Disk, Estate, Firmware, Goal, Kept, KeptDisk, PointAt, Provisioning, Road, StoredPoint,
    },
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{StoreId, VolumeId},
    moment::{Moment, Span},
    units::{Bytes, Rate, round},
    view::View,
};

/// What is reckoned with until something was measured: a line of 1 Gbit/s that others use too.
const ASSUMED: Rate = Rate(50 << 20);

/// How fast bytes get from a store or to it, and whether that was measured.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Line {
    pub rate: Rate,
    pub measured: bool,
    /// It carries more, and no more is taken of it.
    pub capped: bool,
}

impl Line {
    /// As fast as the last copy of anything got there.
    pub fn to(estate: &Estate, store: StoreId) -> Line {
        let all = estate.series_in(store).filter_map(|s| s.newest());
        Line::as_fast_as(all.max_by_key(|p| p.taken))
    }

    /// The same of what goes over a pair, within what may be taken of the line at any hour.
    pub fn over(estate: &Estate, road: Road<'_>) -> Line {
        let all = estate.replicas_over(road.pair.id);
        let here = all.filter(|m| estate.site_of(m) == Some(road.to.site));
        let newest = here.filter_map(|m| m.replicated().next_back());
        let line = Line::as_fast_as(newest.max_by_key(|p| p.taken));
        match road.from.cap.least() {
            Some(cap) if cap < line.rate => Line {
                rate: cap,
                capped: true,
                ..line
            },
            _ => line,
        }
    }

    /// From one volume of a site to another, where nobody measured it.
    pub fn within() -> Line {
        Line::as_fast_as(None)
    }

    /// To wherever a job copies; as if nothing were known where that is gone.
    pub fn of(estate: &Estate, goal: Goal) -> Line {
        match goal {
            Goal::Store(store) => Line::to(estate, store),
            Goal::Over(way) => estate
                .road(way)
                .map_or_else(|| Line::as_fast_as(None), |road| Line::over(estate, road)),
        }
    }

    fn as_fast_as(last: Option<&StoredPoint>) -> Line {
        let rate = last.and_then(StoredPoint::rate).filter(|r| r.0 > 0);
        Line {
            rate: rate.unwrap_or(ASSUMED),
            measured: rate.is_some(),
            capped: false,
        }
    }

    pub fn time(self, bytes: Bytes) -> Span {
        Span::millis(round(bytes.as_f64() / (self.rate.0.max(1) as f64) * 1000.0))
    }

    /// How long that is, and what it rests on.
    pub fn because(self, bytes: Bytes) -> String {
        let (time, rate) = (self.time(bytes), self.rate);
        if self.capped {
            return format!("about {time} at the {rate} that may be taken of the line");
        }
        match self.measured {
            true => format!("about {time} at the {rate} that was measured last"),
            false => format!("about {time} if {rate} get there; nothing was measured yet"),
        }
    }
}

/// What a point has, if its store told lately.
///
/// # Errors
/// That it is gone, that its store did not tell or that nobody asked, as a finding without a field.
pub fn kept(view: &View, at: PointAt, now: Moment) -> Result<&Kept, Finding> {
    let (store, _) = at.found(&view.estate)?;
    let name = &store.name;
    let stop = |rule, text: String| Err(Finding::stop(rule, name, text));
    match view.evidence.fresh(&Probe::Point(at), now) {
        Some(Answer::Point(kept)) => Ok(kept),
        Some(Answer::Refused { why }) => {
            let why = why.trim_end_matches('.');
            stop(Rule::Content, format!("The point can't be read: {why}."))
        }
        Some(Answer::Silent { why }) => {
            let why = why.trim_end_matches('.');
            let text = format!("{name} does not say what the point has: {why}.");
            stop(Rule::Reachable, text)
        }
        _ => stop(
            Rule::Reachable,
            format!("{name} was not asked yet what the point has."),
        ),
    }
}

pub(super) fn resolve(view: &View, at: PointAt, now: Moment) -> Result<Original, Finding> {
    let kept = kept(view, at, now)?;
    let line = Line::to(&view.estate, at.store);
    let disk = |d: &KeptDisk| Disk {
        key: d.key,
        size: d.size,
        provisioning: Provisioning::Thin,
        volume: VolumeId(0),
    };
    Ok(Original {
        from: Whence::Store(line),
        disks: kept.disks.iter().map(disk).collect(),
        bytes: kept.held(),
        known: true,
        thick: Bytes::ZERO,
        words: at.words(&view.estate),
        running: false,
        shared: vec![],
        firmware: Some(Box::new(Firmware {
            kind: kept.firmware,
            chip: None,
        })),
    })
}
