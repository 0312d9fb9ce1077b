//! A host whose controller is no help: the arrays beneath its volumes take away what it reaches. It may have power and run;
//! nothing that it writes gets through any more.

use super::{Proof, Withdrawal};
use crate::{
    guard::{Act, Guard, Order},
    ids::HostId,
    moment::{Moment, Span},
};

impl Guard {
    fn withdrawal(&mut self, host: HostId) -> Option<&mut Withdrawal> {
        let case = self.watched.get_mut(&host)?.case.as_mut()?;
        Some(&mut case.withdrawal)
    }
    pub(super) fn can_be_shut_out(&self, host: HostId) -> bool {
        self.plan.wards.get(&host).is_some_and(|w| w.storage)
    }

    /// Whether its storage may be taken away on what is known: it takes the same patience as its power.
    pub(super) fn may_shut_out(&self, host: HostId, now: Moment) -> bool {
        self.can_be_shut_out(host) && self.may_be_cut(host, now)
    }
    /// Of one that waits for a person: not what was tried a moment ago.
    pub(super) fn may_shut_out_again(&self, host: HostId, now: Moment) -> bool {
        let case = self.watched.get(&host).and_then(|w| w.case.as_ref());
        let last = case.and_then(|c| c.withdrawal.last);
        last.is_none_or(|at| now.since(at) >= self.times.rest) && self.may_shut_out(host, now)
    }

    pub(super) fn shuts_out(&mut self, host: HostId, at: Moment, now: Moment) {
        let done = self.withdrawal(host).is_some_and(|w| w.done);
        let armed = self.watched.get(&host).is_some_and(|w| w.watchdog);
        let run_out = self.lease_still(host, now) >= self.times.lease.plus(self.times.margin);
        let readable = self.leases_are_readable(host, now) && !self.most_are_unseen(now);
        if done {
            self.proves(host, Proof::Storage, now);
        } else if armed && run_out && readable {
            self.proves(host, Proof::Watchdog, now);
        } else if now.since(at) >= self.times.stuck {
            self.gives_way(host, Act::Withdraw, now);
        } else if self.may_shut_out(host, now) {
            self.withdraws(host, now);
        }
    }

    /// Asks its arrays, if it is time to.
    fn withdraws(&mut self, host: HostId, now: Moment) {
        let (answer, again) = (self.times.answer, Span(self.times.again.0 * 2));
        let Some(watched) = self.watched.get_mut(&host) else {
            return;
        };
        let Some(case) = &mut watched.case else {
            return;
        };
        let withdrawal = &mut case.withdrawal;
        if withdrawal
            .open
            .is_some_and(|(_, at)| now.since(at) < answer)
        {
            return;
        }
        if withdrawal.open.take().is_some() {
            "they give no answer".clone_into(&mut withdrawal.said);
        }
        if withdrawal.last.is_some_and(|at| now.since(at) < again) {
            return;
        }
        watched.asks += 1;
        let ask = watched.asks;
        (withdrawal.open, withdrawal.last) = (Some((ask, now)), Some(now));
        self.orders.push(Order::Withdraw { host, ask });
    }

    pub(in crate::guard) fn withdrawn(&mut self, host: HostId, ask: u64, refused: Option<String>) {
        let Some(withdrawal) = self.withdrawal(host) else {
            return;
        };
        if withdrawal.open.is_none_or(|(open, _)| open != ask) {
            return;
        }
        withdrawal.open = None;
        match refused {
            None => withdrawal.done = true,
            Some(why) => withdrawal.said = why,
        }
    }
}
