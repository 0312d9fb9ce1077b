//! What a host's controller says, and whether it may be told to switch the host off.

use super::{Reading, Stage};
use crate::{
    guard::{Act, Guard, Note, Order, Power},
    ids::HostId,
    moment::{Moment, Span},
};

impl Guard {
    pub(super) fn stage(&self, host: HostId) -> Option<Stage> {
        self.watched
            .get(&host)?
            .case
            .as_ref()
            .map(|c| c.stage.clone())
    }
    pub(super) fn reading(&self, host: HostId) -> Option<&Reading> {
        self.watched.get(&host)?.case.as_ref().map(|c| &c.reading)
    }
    pub(super) fn says_off(&self, host: HostId) -> bool {
        self.reading(host).is_some_and(|r| r.twice)
    }

    /// Asks its controller, if it is time to.
    pub(super) fn read(&mut self, host: HostId, every: Span, now: Moment) {
        let times = self.times;
        let has = self.plan.wards.get(&host).is_some_and(|w| w.controller);
        let Some(watched) = self.watched.get_mut(&host) else {
            return;
        };
        let Some(case) = &mut watched.case else {
            return;
        };
        let reading = &mut case.reading;
        if !has {
            reading.silent.get_or_insert(now);
            return;
        }
        if reading
            .asked
            .is_some_and(|at| now.since(at) < times.controller)
        {
            return;
        }
        if reading.asked.take().is_some() {
            reading.silent.get_or_insert(now);
            (reading.off, reading.twice) = (None, false);
            "its controller gives no answer".clone_into(&mut reading.said);
        }
        let every = if reading.off.is_some() {
            times.apart
        } else {
            every
        };
        if reading.last.is_some_and(|at| now.since(at) < every) {
            return;
        }
        watched.asks += 1;
        (reading.asked, reading.ask, reading.last) = (Some(now), watched.asks, Some(now));
        let ask = reading.ask;
        self.orders.push(Order::ReadPower { host, ask });
    }

    pub(in crate::guard) fn power(&mut self, host: HostId, ask: u64, said: Power, now: Moment) {
        let Some(ward) = self.plan.wards.get(&host) else {
            return;
        };
        let case = self.watched.get_mut(&host).and_then(|w| w.case.as_mut());
        let Some(reading) = case.map(|c| &mut c.reading) else {
            return;
        };
        let asked = reading.asked.filter(|_| reading.ask == ask);
        // Nobody waits for it any more: it may be of another time.
        let Some(asked) = asked.filter(|at| now.since(*at) < self.times.controller) else {
            return;
        };
        reading.asked = None;
        let strange = |serial: &String| {
            format!(
                "its controller shows the serial {serial}, not {}",
                ward.serial
            )
        };
        let silent = |reading: &mut Reading, why: String| {
            reading.silent.get_or_insert(now);
            (reading.off, reading.on, reading.said) = (None, false, why);
            reading.twice = false;
        };
        match said {
            Power::On { serial } | Power::Off { serial } if serial != ward.serial => {
                silent(reading, strange(&serial));
            }
            Power::On { .. } => {
                (reading.on, reading.off, reading.silent) = (true, None, None);
                reading.twice = false;
                "its controller says that it is on".clone_into(&mut reading.said);
            }
            Power::Off { .. } => {
                // The second one was asked for long enough after the first was answered.
                reading.twice = reading
                    .off
                    .is_some_and(|first| asked.since(first) >= self.times.apart);
                reading.off.get_or_insert(now);
                (reading.on, reading.silent) = (false, None);
                "its controller says that it is off".clone_into(&mut reading.said);
            }
            Power::Silent { why } => {
                silent(reading, format!("its controller does not answer: {why}"));
            }
        }
    }

    pub(in crate::guard) fn switched(&mut self, host: HostId, refused: Option<String>) {
        if let Some(why) = refused
            && self.stage(host) == Some(Stage::Fencing(Act::SwitchOff))
        {
            let words = format!("its controller does not switch it off: {why}");
            self.note(Note::Said { host, words });
        }
    }

    /// Whether its power may be taken away on what is known.
    pub(super) fn may_switch_off(&self, host: HostId, now: Moment) -> bool {
        let rested = self
            .watched
            .get(&host)
            .and_then(|w| w.switched)
            .is_none_or(|at| now.since(at) >= self.times.rest);
        rested && self.may_be_cut(host, now)
    }

    /// Whether what is known is enough to take anything away from it.
    pub(super) fn may_be_cut(&self, host: HostId, now: Moment) -> bool {
        let silent = self
            .watched
            .get(&host)
            .is_some_and(|w| now.since(w.heard) >= self.times.silent);
        silent
            && self.leases_are_readable(host, now)
            && self.lease_still(host, now) >= self.times.patience
            && !self.most_are_unseen(now)
    }
}
