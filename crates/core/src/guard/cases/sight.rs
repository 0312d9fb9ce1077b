//! What leases say of a host, and what the other hosts' silence says of ourselves.

use super::Stage;
use crate::{
    guard::Guard,
    ids::{HostId, VolumeId},
    moment::{Moment, Span},
};

impl Guard {
    pub(super) fn leases_of(&self, host: HostId) -> impl Iterator<Item = (VolumeId, u64)> + '_ {
        let all = self.leases.iter();
        all.filter_map(move |(volume, l)| Some((*volume, l.counter(host)?)))
    }
    pub(super) fn lease_is_alive(&self, host: HostId, now: Moment) -> bool {
        self.leases
            .values()
            .any(|l| l.is_alive(host, self.times.alive, now))
    }
    /// Every lease that it has can be read: else it may be renewed where nobody looks.
    pub(super) fn leases_are_readable(&self, host: HostId, now: Moment) -> bool {
        let mut known = self.leases.values().filter(|l| l.knows(host)).peekable();
        known.peek().is_some() && known.all(|l| l.is_readable(host, self.times.readable, now))
    }
    /// For how long none of its leases has moved.
    pub(super) fn lease_still(&self, host: HostId, now: Moment) -> Span {
        let still = self.leases.values().filter_map(|l| l.still(host, now));
        still.min().unwrap_or_default()
    }
    /// More than half of the hosts that should be there are not: it may be we who are cut off.
    pub(in crate::guard) fn most_are_unseen(&self, now: Moment) -> bool {
        let there = self.plan.wards.iter().filter(|(_, w)| !w.off);
        let (mut all, mut unseen) = (0, 0);
        for (host, _) in there {
            let watched = self.watched.get(host);
            if watched.is_some_and(|w| {
                matches!(w.case.as_ref().map(|c| &c.stage), Some(Stage::Fenced(_)))
            }) {
                continue;
            }
            all += 1;
            unseen += usize::from(watched.is_none_or(|w| now.since(w.heard) >= self.times.silent));
        }
        unseen * 2 > all
    }
}
