//! Guests that hang: no heartbeat, nothing read, written, sent or received. One is restarted where it is, with its last picture
//! kept (rules, section 4).
//!
//! A guest is silent for too long after three times its longest silence so far, 45 s at least, and twice that after each restart.
//! Nothing is judged before its first heartbeat, or before twice the time that guests boot; nothing while a run changes it, or while
//! its host is not heard.

use super::{Guard, Note, Order, Pulse, Refusal, Running};
use crate::{
    ids::{HostId, MachineId},
    moment::{Moment, Span},
};
use std::collections::BTreeSet;

/// Restarts that double the patience; it grows no further.
const DOUBLINGS: u32 = 8;
/// Restarts that fail before it is left to people.
const TRIES: u32 = 5;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Listens,
    /// Told, and not known to be written; since when.
    Judged(Moment),
    /// Its restart was ordered.
    Asked(Moment),
    LeftAlone,
}

/// What was felt of one guest.
#[derive(Debug, Clone)]
pub(super) struct Heart {
    host: HostId,
    generation: u64,
    pulse: Pulse,
    /// When it was first felt under this generation.
    since: Moment,
    beat: Moment,
    moved: Moment,
    /// Between two heartbeats, at most, while its host was heard.
    longest: Span,
    restarts: u32,
    refusals: u32,
    state: State,
}

impl Heart {
    fn new(host: HostId, seen: &Running, pulse: Pulse, now: Moment) -> Self {
        Heart {
            host,
            generation: seen.generation,
            pulse,
            since: now,
            beat: now,
            moved: now,
            longest: Span(0),
            restarts: 0,
            refusals: 0,
            state: State::Listens,
        }
    }
    /// Nobody listened for a while: that was nobody's silence.
    pub(super) fn listens_anew(&mut self, now: Moment) {
        (self.beat, self.moved) = (now, now);
    }
    fn feels(&mut self, pulse: Pulse, now: Moment) {
        if pulse.beats != self.pulse.beats {
            if self.pulse.beats > 0 {
                self.longest = self.longest.max(now.since(self.beat));
            }
            self.beat = now;
        }
        if pulse.moved != self.pulse.moved {
            self.moved = now;
        }
        self.pulse = pulse;
    }
}

impl Guard {
    /// A host says what it feels of its guests.
    pub(super) fn feels(&mut self, host: HostId, running: &[Running], now: Moment) {
        let named: BTreeSet<MachineId> = running.iter().map(|r| r.machine).collect();
        self.hearts.retain(|machine, heart| {
            // One that is being restarted is off for a moment.
            heart.host != host || named.contains(machine) || matches!(heart.state, State::Asked(_))
        });
        for seen in running {
            let Some(pulse) = seen.pulse else {
                self.hearts.remove(&seen.machine);
                continue;
            };
            let fresh = || Heart::new(host, seen, pulse, now);
            let heart = self.hearts.entry(seen.machine).or_insert_with(fresh);
            if seen.generation < heart.generation {
                continue;
            }
            if heart.host != host || heart.generation != seen.generation {
                let (restarts, refusals) = (heart.restarts, heart.refusals);
                *heart = Heart {
                    restarts,
                    refusals,
                    ..fresh()
                };
            } else if seen.held {
                heart.listens_anew(now);
                heart.pulse = pulse;
            } else {
                heart.feels(pulse, now);
            }
        }
    }

    pub(super) fn look_at_guests(&mut self, now: Moment) {
        let times = self.times;
        let mut hang = Vec::new();
        for (machine, heart) in &mut self.hearts {
            let Some(charge) = self.plan.charges.get(machine) else {
                continue;
            };
            // What its host doesn't tell nobody knows.
            let heard = self.watched.get(&heart.host);
            let heard =
                heard.is_some_and(|w| now.since(w.heard).0 * 3 < times.silent.0 && !w.is_closed());
            if !heard || charge.fallen {
                heart.listens_anew(now);
                continue;
            }
            match heart.state {
                State::Listens => {}
                State::Judged(at) if now.since(at) < times.answer => continue,
                State::Judged(_) => {}
                State::Asked(at) if now.since(at) < times.answer => continue,
                State::Asked(_) => heart.state = State::Listens,
                State::LeftAlone => continue,
            }
            let patience = times.hangs.max(Span(heart.longest.0 * 3));
            let patience = Span(patience.0 << heart.restarts.min(DOUBLINGS));
            let boot = charge.boots_in.unwrap_or(Span(times.boot.0 / 5));
            let grown = heart.pulse.beats > 0 && now.since(heart.since) >= Span(boot.0 * 2);
            let (silent, still) = (now.since(heart.beat), now.since(heart.moved));
            if grown && silent >= patience && still >= patience {
                heart.state = State::Judged(now);
                let evidence = format!(
                    "no heartbeat for {silent}, nothing read, written, sent or received for {still}; its longest silence before was {}",
                    heart.longest
                );
                hang.push((*machine, heart.host, evidence));
            }
        }
        for (machine, host, evidence) in hang {
            self.note(Note::Hangs {
                machine,
                host,
                evidence,
            });
        }
    }

    /// It is written that it hangs: it is restarted, if that is still so.
    pub(super) fn guest_recorded(&mut self, machine: MachineId, now: Moment) {
        let Some(heart) = self.hearts.get_mut(&machine) else {
            return;
        };
        let State::Judged(at) = heart.state else {
            return;
        };
        if heart.beat > at || heart.moved > at {
            heart.state = State::Listens;
            return;
        }
        heart.state = State::Asked(now);
        let (host, generation) = (heart.host, heart.generation);
        let boot = self.boot(host);
        self.orders.push(Order::Reset {
            machine,
            host,
            boot,
            generation,
        });
    }

    pub(super) fn was_reset(
        &mut self,
        machine: MachineId,
        result: Result<u64, Refusal>,
        now: Moment,
    ) {
        let Some(heart) = self.hearts.get_mut(&machine) else {
            return;
        };
        let host = heart.host;
        heart.state = State::Listens;
        heart.restarts += 1;
        heart.listens_anew(now);
        let refused = match result {
            Ok(_) => {
                heart.refusals = 0;
                None
            }
            Err(refusal) => {
                heart.refusals += 1;
                if heart.refusals >= TRIES {
                    heart.state = State::LeftAlone;
                }
                Some(refusal.said)
            }
        };
        self.note(Note::Revived {
            machine,
            host,
            refused,
        });
    }
}
