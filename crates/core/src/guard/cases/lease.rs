//! A host that is cut off and whose guests are cut off with it: what nobody can tell its agent stands beside its lease, where it
//! reads it with its next renewal. It ends what it runs and says so there.

use super::Stage;
use crate::{
    guard::{Act, Guard, Order, Proof},
    ids::{HostId, VolumeId},
    moment::{Moment, Span},
};

impl Guard {
    /// The volume on which its lease was renewed last, with what it wrote there.
    pub(super) fn last_word(&self, host: HostId) -> Option<(VolumeId, crate::guard::Word)> {
        let all = self.leases.iter();
        let words = all.filter_map(|(v, l)| l.word(host).map(|(word, at)| (at, *v, word)));
        let last = words.max_by_key(|(at, volume, _)| (*at, *volume));
        last.map(|(_, volume, word)| (volume, word))
    }

    /// It has been cut off for a while, and says itself that nobody reaches its guests.
    pub(super) fn may_tell(&mut self, host: HostId, at: Moment, now: Moment) {
        let unlinked = self.last_word(host).is_some_and(|(_, word)| word.unlinked);
        let runs = self
            .plan
            .charges
            .values()
            .any(|c| c.host == host && !c.fallen);
        let long = now.since(at) >= self.times.silent;
        if unlinked && runs && long && !self.most_are_unseen(now) {
            self.judges(host, Act::Tell, now);
        }
    }

    /// Written beside its lease until its lease says that it is done, or that there are links again.
    pub(super) fn told_by_lease(&mut self, host: HostId, stage: &Stage, at: Moment, now: Moment) {
        if *stage == Stage::Judged(Act::Tell) {
            if now.since(at) >= self.times.answer {
                self.judges(host, Act::Tell, now);
            }
            return;
        }
        let Some((newest, last)) = self.last_word(host) else {
            return;
        };
        let (again, alive) = (Span(self.times.again.0 * 2), self.times.alive);
        let Some(case) = self.watched.get_mut(&host).and_then(|w| w.case.as_mut()) else {
            return;
        };
        let telling = case.telling.get_or_insert((newest, last.counter, None));
        let (volume, number, asked) = *telling;
        // Numbers are of one volume: what stands on another one says nothing of this order.
        let there = self.leases.get(&volume);
        let there = there.filter(|l| l.is_alive(host, alive, now));
        let Some((word, _)) = there.and_then(|l| l.word(host)) else {
            case.telling = None;
            return;
        };
        if word.ended == number {
            return self.proves(host, Proof::Lease, now);
        }
        if !word.unlinked {
            case.telling = None;
            return self.cut_off(host, now);
        }
        // An order that lies there for too long is not obeyed any more: another one is given.
        if word.counter > number + OBEYED {
            case.telling = None;
            return;
        }
        if asked.is_none_or(|at| now.since(at) >= again) {
            case.telling = Some((volume, number, Some(now)));
            self.orders.push(Order::Tell {
                host,
                volume,
                number,
            });
        }
    }
}

/// Renewals after which a host obeys an order beside its lease no more.
const OBEYED: u64 = 6;
