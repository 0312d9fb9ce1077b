//! Who decides for a cluster: one at a time, by a lease with a token on a volume. Nobody compares clocks: whoever waits sees
//! the counter stand still on a clock of its own, and whoever holds it stops well before anybody can have seen that.
//!
//! Every change is a compare-and-set of token and counter. A token belongs to one holder; what is written beside the lease
//! names it, and under an older one nothing is taken.

use crate::moment::{Moment, Span};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

/// The lease as it stands on the volume.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Held {
    /// Higher with each change of the holder.
    pub token: u64,
    pub holder: Option<String>,
    /// Grows with each renewal.
    pub counter: u64,
    /// How many hosts the holder hears.
    #[serde(default)]
    pub hears: u64,
}

/// What one who may decide hears: of how many hosts, how many.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Hears {
    pub of: u64,
    pub hosts: u64,
}

impl Hears {
    /// Whether that is enough to tell a failure from its own deafness.
    fn enough(self) -> bool {
        self.hosts * 2 >= self.of
    }
}

/// One who may decide.
#[derive(Debug, Clone)]
pub struct Seat {
    /// The name under which it is a member.
    me: String,
    /// A lease whose counter stands still for so long is free.
    lapse: Span,
    /// So long after sending the last renewal that counted its holder stops.
    stop: Span,
    /// Who only fills in, and is relieved by whoever hears enough.
    stopgap: Option<String>,
    began: Moment,
    seen: Option<(Held, Moment)>,
    held: Option<(Held, Moment)>,
}

impl Seat {
    /// The lease lasts for `lease`; this one waits `patience` times as long before it takes it.
    pub fn new(me: String, lease: Span, patience: u64, now: Moment) -> Seat {
        Seat {
            me,
            lapse: Span(lease.0 * patience),
            stop: Span(lease.0 / 2),
            stopgap: None,
            began: now,
            seen: None,
            held: None,
        }
    }

    /// One that relieves whoever has this name, once it has looked for a lease.
    #[must_use]
    pub fn relieving(self, stopgap: String) -> Seat {
        Seat {
            stopgap: Some(stopgap),
            ..self
        }
    }

    /// What may be written with, while it may.
    pub fn holds(&self, now: Moment) -> Option<&Held> {
        let (held, until) = self.held.as_ref()?;
        (now < *until).then_some(held)
    }
    /// Until when, at most, if it is not renewed.
    pub fn until(&self) -> Option<Moment> {
        self.held.as_ref().map(|(_, until)| *until)
    }

    /// The renewal that is due: what stands there, as far as is known, and what shall.
    pub fn renewal(&self, hears: Hears, now: Moment) -> Option<(Held, Held)> {
        let held = self.holds(now)?;
        let to = Held {
            counter: held.counter + 1,
            hears: hears.hosts,
            ..held.clone()
        };
        Some((held.clone(), to))
    }

    /// Takes in what stands there; answers what it shall be, if this one may take it.
    pub fn read(
        &mut self,
        there: &Held,
        members: &BTreeSet<String>,
        hears: Hears,
        now: Moment,
    ) -> Option<Held> {
        self.held = None;
        if self.seen.as_ref().is_none_or(|(held, _)| held != there) {
            self.seen = Some((there.clone(), now));
        }
        let still = self.seen.as_ref().map(|(_, at)| now.since(*at))?;
        if !members.contains(&self.me) {
            return None;
        }
        // One that began a moment ago hears nobody yet: somebody else may.
        let free = there.holder.is_none() && hears.enough() || still >= self.lapse;
        // Whoever hears less than half is deposed by whoever hears more.
        let deaf = there.hears * 2 < hears.of && hears.enough();
        let fills_in = self.stopgap.is_some() && there.holder == self.stopgap;
        let relieves = fills_in && hears.enough() && now.since(self.began) >= self.lapse;
        (free || deaf || relieves).then(|| Held {
            token: there.token + 1,
            holder: Some(self.me.clone()),
            counter: there.counter + 1,
            hears: hears.hosts,
        })
    }

    /// What was sent then stands there now.
    pub fn stands(&mut self, to: Held, sent: Moment) {
        self.held = Some((to, sent.plus(self.stop)));
        self.seen = None;
    }

    /// Somebody else has it.
    pub fn lost(&mut self) {
        (self.held, self.seen) = (None, None);
    }
}
