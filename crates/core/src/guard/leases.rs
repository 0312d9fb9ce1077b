//! Leases of hosts on a volume, read by counters on the reader's own clock.

use crate::{
    ids::HostId,
    moment::{Moment, Span},
};
use std::collections::BTreeMap;

#[derive(Debug, Clone, Copy)]
struct Seen {
    counter: u64,
    /// What the host wrote beside it.
    word: Word,
    /// When it was first seen at this count.
    at: Moment,
    /// Whether it was seen to change to this count, and not only found at it.
    moved: bool,
}

/// A host's lease, as whoever reaches the volume reads it.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Word {
    /// Grows with each renewal.
    pub counter: u64,
    /// None of the uplinks of its guests has a link.
    pub unlinked: bool,
    /// It ended all that it ran because it was told so by its lease on this volume, under this number.
    pub ended: u64,
}

/// The leases on one volume.
#[derive(Debug, Clone, Default)]
pub(super) struct Leases {
    seen: BTreeMap<HostId, Seen>,
    read: Option<Moment>,
}

impl Leases {
    pub(super) fn read(&mut self, words: BTreeMap<HostId, Word>, now: Moment) {
        self.read = Some(now);
        for (host, word) in words {
            let counter = word.counter;
            let fresh = |moved| Seen {
                counter,
                word,
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
    /// What a host wrote, and when that was new.
    pub(super) fn word(&self, host: HostId) -> Option<(Word, Moment)> {
        self.seen.get(&host).map(|s| (s.word, s.at))
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
    /// Whether others than this host were seen to renew theirs since then.
    pub(super) fn others_renew(&self, but: HostId, since: Moment) -> bool {
        let mut others = self.seen.iter().filter(|(host, _)| **host != but);
        others.any(|(_, s)| s.moved && s.at.0 > since.0)
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
