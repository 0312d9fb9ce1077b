//! Leases of hosts on a volume, read by counters on the reader's own clock.

use crate::{
    ids::HostId,
    moment::{Moment, Span},
};
use std::collections::BTreeMap;

#[derive(Debug, Clone, Copy)]
struct Seen {
    counter: u64,
    /// When it was first seen at this count.
    at: Moment,
    /// Whether it was seen to change to this count, and not only found at it.
    moved: bool,
}

/// The leases on one volume.
#[derive(Debug, Clone, Default)]
pub(super) struct Leases {
    seen: BTreeMap<HostId, Seen>,
    read: Option<Moment>,
}

impl Leases {
    pub(super) fn read(&mut self, counters: BTreeMap<HostId, u64>, now: Moment) {
        self.read = Some(now);
        for (host, counter) in counters {
            let fresh = |moved| Seen {
                counter,
                at: now,
                moved,
            };
            self.seen
                .entry(host)
                // An answer that was late says nothing new.
                .and_modify(|s| {
                    if counter > s.counter {
                        *s = fresh(true);
                    }
                })
                .or_insert_with(|| fresh(false));
        }
    }
    pub(super) fn knows(&self, host: HostId) -> bool {
        self.seen.contains_key(&host)
    }
    pub(super) fn counter(&self, host: HostId) -> Option<u64> {
        self.seen.get(&host).map(|s| s.counter)
    }
    pub(super) fn is_alive(&self, host: HostId, within: Span, now: Moment) -> bool {
        let seen = self.seen.get(&host);
        seen.is_some_and(|s| s.moved && now.since(s.at) < within)
    }
    /// For how long it has stood still, at least.
    pub(super) fn still(&self, host: HostId, now: Moment) -> Option<Span> {
        self.seen.get(&host).map(|s| now.since(s.at))
    }
    /// Whether what it says of this host means something: it was read lately, and others renew theirs on it.
    pub(super) fn is_readable(&self, of: HostId, within: Span, now: Moment) -> bool {
        let lately = self.read.is_some_and(|at| now.since(at) < within);
        let others = self.seen.iter().filter(|(host, _)| **host != of);
        lately
            && others
                .into_iter()
                .any(|(_, s)| s.moved && now.since(s.at) < within)
    }
}
