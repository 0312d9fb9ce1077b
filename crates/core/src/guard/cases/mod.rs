//! Hosts: from the first missed heartbeat to the proof that one runs nothing.

mod controller;
mod lease;
mod sight;
mod storage;

use super::{Act, Guard, Note, Order, Proof, Running, Ward};
use crate::{
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, PartialEq)]
enum Stage {
    /// Silent, and its lease stands still: what does its controller say?
    Looking,
    CutOff,
    /// The verdict was told and is not known to be written.
    Judged(Act),
    Fencing(Act),
    Waits,
    /// Proved, and not known to be written.
    Proved(Proof),
    Fenced(After),
}

/// What is looked at after a host was fenced.
#[derive(Debug, Clone, Default, PartialEq)]
struct After {
    /// The counts of its leases once every late answer must have come.
    counts: Option<BTreeMap<VolumeId, u64>>,
    /// Since when they move all the same.
    moved: Option<Moment>,
    /// It may have power: its storage was taken away.
    shut_out: bool,
    /// It is alive, and ended what it ran because it was told to.
    told: bool,
}

/// What its controller says.
#[derive(Debug, Clone, Default)]
struct Reading {
    asked: Option<Moment>,
    ask: u64,
    last: Option<Moment>,
    /// Since when it says off, without having said anything else.
    off: Option<Moment>,
    twice: bool,
    on: bool,
    silent: Option<Moment>,
    said: String,
}

/// What became of asking its arrays.
#[derive(Debug, Clone, Default)]
struct Withdrawal {
    /// The question that is open, and since when.
    open: Option<(u64, Moment)>,
    last: Option<Moment>,
    done: bool,
    said: String,
}

#[derive(Debug, Clone)]
struct Case {
    stage: Stage,
    /// Since when it is at this stage.
    at: Moment,
    reading: Reading,
    withdrawal: Withdrawal,
    /// The volume and the number under which its lease tells it to end what it runs, and when that was last written there.
    telling: Option<(VolumeId, u64, Option<Moment>)>,
    /// It was said that others were fenced a moment ago, and that it waits for that.
    paced: bool,
}

/// What is known of one host.
#[derive(Debug, Clone)]
pub(super) struct Watched {
    pub(super) heard: Moment,
    pub(super) boot: Option<u64>,
    watchdog: bool,
    /// What it says that it runs.
    pub(super) running: BTreeSet<MachineId>,
    switched: Option<Moment>,
    /// It was proved off, and something says that it isn't.
    pub(super) doubted: bool,
    asks: u64,
    case: Option<Case>,
}

impl Watched {
    pub(super) fn new(ward: &Ward, now: Moment) -> Self {
        // Whoever takes over goes on with a verdict that was recorded, and reads everything again by itself.
        let resumed = ward.judged.map(|act| Case {
            stage: Stage::Fencing(act),
            at: now,
            reading: Reading::default(),
            withdrawal: Withdrawal::default(),
            telling: None,
            paced: false,
        });
        Watched {
            heard: now,
            boot: None,
            watchdog: false,
            running: BTreeSet::new(),
            switched: ward.switched.map(|ago| now.before(ago)),
            doubted: false,
            asks: 0,
            case: resumed,
        }
    }
    /// Whether a person, or another guard, proved it off meanwhile.
    pub(super) fn meets(&mut self, ward: &Ward) -> bool {
        let fenced = matches!(
            self.case.as_ref().map(|c| &c.stage),
            Some(Stage::Fenced(_) | Stage::Proved(_))
        );
        ward.off && !fenced && self.case.take().is_some()
    }
    pub(super) fn looks_anew(&mut self, now: Moment) {
        self.heard = now;
        if let Some(case) = &mut self.case {
            // How long ago it was told to switch off stays so.
            if case.stage != Stage::Fencing(Act::SwitchOff) {
                case.at = now;
            }
            case.reading = Reading::default();
            case.withdrawal = Withdrawal::default();
        }
    }
    fn enter(&mut self, stage: Stage, now: Moment) {
        match &mut self.case {
            Some(case) => (case.stage, case.at) = (stage, now),
            None => {
                self.case = Some(Case {
                    stage,
                    at: now,
                    reading: Reading::default(),
                    withdrawal: Withdrawal::default(),
                    telling: None,
                    paced: false,
                });
            }
        }
    }
    fn stage(&self) -> Option<(Stage, Moment)> {
        self.case.as_ref().map(|c| (c.stage.clone(), c.at))
    }
    /// Nothing is to be started on it.
    pub(super) fn is_closed(&self) -> bool {
        self.case.is_some()
    }
}

impl Guard {
    pub(super) fn heard(
        &mut self,
        host: HostId,
        boot: u64,
        watchdog: bool,
        running: &[Running],
        now: Moment,
    ) {
        let Some(watched) = self.watched.get_mut(&host) else {
            return;
        };
        let same = watched.boot.is_none_or(|b| b == boot);
        let anew = watched.boot.is_some_and(|b| b < boot);
        if watched.boot.is_some_and(|b| boot < b) {
            return;
        }
        watched.heard = now;
        let doubted = std::mem::take(&mut watched.doubted);
        watched.boot = Some(boot);
        watched.watchdog = watchdog;
        watched.running = running.iter().map(|r| r.machine).collect();
        let case = watched.case.take();
        let asked = case.as_ref().is_some_and(|c| c.withdrawal.last.is_some());
        match case.map(|c| c.stage) {
            Some(Stage::Proved(Proof::Storage) | Stage::Fenced(After { shut_out: true, .. }))
                if same =>
            {
                let words = "it is heard again, without its volumes: give them back once nothing old runs on it";
                self.note(Note::Said {
                    host,
                    words: words.into(),
                });
            }
            Some(Stage::Proved(Proof::Lease) | Stage::Fenced(After { told: true, .. })) if same => {
                let words = "it is heard again; it had ended its machines, as its lease told it";
                self.note(Note::Said {
                    host,
                    words: words.into(),
                });
            }
            Some(Stage::Fenced(_) | Stage::Proved(_)) if same => {
                let words = "it is heard again and had not been off: what was proved was wrong";
                self.note(Note::Said {
                    host,
                    words: words.into(),
                });
            }
            Some(Stage::Fenced(_) | Stage::Proved(_)) | None => {}
            Some(
                Stage::Looking
                | Stage::CutOff
                | Stage::Judged(_)
                | Stage::Fencing(_)
                | Stage::Waits,
            ) => {
                if asked {
                    let words = "what its arrays took away is not given back by itself";
                    self.note(Note::Said {
                        host,
                        words: words.into(),
                    });
                }
                self.note(Note::Back { host });
            }
        }
        if doubted {
            self.jobs_follow_plan();
        }
        self.lacks(host, running, now);
        self.not_running(host, running, anew, now);
        self.seen_running(host, running, now);
        self.feels(host, running, now);
    }

    pub(super) fn look_at_hosts(&mut self, now: Moment) {
        let ids: Vec<HostId> = self.plan.wards.keys().copied().collect();
        for host in ids {
            self.look_at(host, now);
        }
    }

    fn look_at(&mut self, host: HostId, now: Moment) {
        let Some(watched) = self.watched.get(&host) else {
            return;
        };
        let silent = now.since(watched.heard) >= self.times.silent;
        let off = self.plan.wards.get(&host).is_none_or(|w| w.off);
        let Some((stage, at)) = watched.stage() else {
            if silent && !off && now.since(self.began) >= self.times.lease {
                self.opens(host, now);
            }
            return;
        };
        match stage {
            Stage::Fenced(after) => self.still_off(host, after, at, now),
            Stage::Proved(proof) => {
                if now.since(at) >= self.times.answer {
                    self.proves(host, proof, now);
                }
            }
            _ if !silent => {}
            Stage::CutOff if self.lease_is_alive(host, now) => self.may_tell(host, at, now),
            Stage::Judged(Act::Tell) | Stage::Fencing(Act::Tell)
                if self.lease_is_alive(host, now) =>
            {
                self.told_by_lease(host, &stage, at, now);
            }
            Stage::CutOff => self.enter(host, Stage::Looking, now),
            _ if self.lease_is_alive(host, now) => self.cut_off(host, now),
            Stage::Looking => self.decides(host, at, now),
            Stage::Judged(act) => {
                if now.since(at) >= self.times.answer {
                    self.judges(host, act, now);
                }
            }
            Stage::Fencing(act) => self.fences(host, act, at, now),
            Stage::Waits => self.waits_on(host, now),
        }
    }

    fn enter(&mut self, host: HostId, stage: Stage, now: Moment) {
        if let Some(watched) = self.watched.get_mut(&host) {
            watched.enter(stage, now);
        }
    }

    fn opens(&mut self, host: HostId, now: Moment) {
        if self.lease_is_alive(host, now) {
            return self.cut_off(host, now);
        }
        self.enter(host, Stage::Looking, now);
        self.read(host, self.times.again, now);
    }

    fn cut_off(&mut self, host: HostId, now: Moment) {
        let since = self.watched.get(&host).map_or(now, |w| w.heard);
        self.enter(host, Stage::CutOff, now);
        self.note(Note::CutOff { host, since });
    }

    /// What is known now, put to a verdict if it is enough for one.
    fn decides(&mut self, host: HostId, at: Moment, now: Moment) {
        self.read(host, self.times.again, now);
        let Some(reading) = self.reading(host) else {
            return;
        };
        let stuck = now.since(at) >= self.times.lease;
        let mute = reading
            .silent
            .is_some_and(|since| now.since(since) >= self.times.controller);
        if reading.twice {
            self.judges(host, Act::Prove, now);
        } else if reading.on && self.may_switch_off(host, now) {
            self.judges(host, Act::SwitchOff, now);
        } else if mute && self.can_be_shut_out(host) && !stuck {
            // Until its lease has stood still for long enough, it is looked at.
            if self.may_shut_out(host, now) {
                self.judges(host, Act::Withdraw, now);
            }
        } else if mute && !self.most_are_unseen(now) {
            let armed = self.watched.get(&host).is_some_and(|w| w.watchdog);
            let act = if armed {
                Act::AwaitWatchdog
            } else {
                Act::AskPerson
            };
            self.judges(host, act, now);
        } else if stuck {
            self.judges(host, Act::AskPerson, now);
        }
    }

    /// Until a person acts, or things become such that nobody need.
    fn waits_on(&mut self, host: HostId, now: Moment) {
        self.read(host, Span(self.times.again.0 * 5), now);
        let Some((watched, reading)) = self.watched.get(&host).zip(self.reading(host)) else {
            return;
        };
        if watched.doubted {
            return;
        }
        let mute = reading
            .silent
            .is_some_and(|since| now.since(since) >= self.times.controller);
        let armed =
            watched.watchdog && self.leases_are_readable(host, now) && !self.most_are_unseen(now);
        if reading.twice {
            self.proves(host, Proof::Controller, now);
        } else if reading.on && self.may_switch_off(host, now) {
            self.judges(host, Act::SwitchOff, now);
        } else if mute && self.may_shut_out_again(host, now) {
            self.judges(host, Act::Withdraw, now);
        } else if mute && armed {
            self.judges(host, Act::AwaitWatchdog, now);
        }
    }

    fn fences(&mut self, host: HostId, act: Act, at: Moment, now: Moment) {
        let slow = Span(self.times.again.0 * 5);
        let every = if act == Act::SwitchOff {
            self.times.again
        } else {
            slow
        };
        self.read(host, every, now);
        if self.says_off(host) {
            return self.proves(host, Proof::Controller, now);
        }
        let switched = self.watched.get(&host).and_then(|w| w.switched);
        match act {
            // Its lease is not renewed any more: it is another case now.
            Act::Tell => self.enter(host, Stage::Looking, now),
            // Its controller took its word back.
            Act::Prove => {
                if self
                    .reading(host)
                    .is_some_and(|r| r.on || r.silent.is_some())
                {
                    self.enter(host, Stage::Looking, now);
                }
            }
            Act::SwitchOff if switched.is_none_or(|s| s < at) && self.may_switch_off(host, now) => {
                self.switches_off(host, now);
            }
            Act::SwitchOff => {
                if now.since(at) >= self.times.stuck {
                    self.gives_way(host, act, now);
                }
            }
            Act::Withdraw => self.shuts_out(host, at, now),
            Act::AwaitWatchdog => {
                let run_out =
                    self.lease_still(host, now) >= self.times.lease.plus(self.times.margin);
                if run_out && self.leases_are_readable(host, now) && !self.most_are_unseen(now) {
                    self.proves(host, Proof::Watchdog, now);
                } else if now.since(at) >= Span(self.times.lease.0 * 4) {
                    self.waits(host, "its lease can't be read", now);
                }
            }
            Act::AskPerson => {
                let why = self.why_a_person(host, now);
                self.waits(host, &why, now);
            }
        }
    }

    /// Told once; from then on it is only read.
    fn switches_off(&mut self, host: HostId, now: Moment) {
        if let Some(watched) = self.watched.get_mut(&host) {
            watched.switched = Some(now);
            if let Some(case) = &mut watched.case {
                case.at = now;
                case.reading = Reading::default();
            }
        }
        self.orders.push(Order::SwitchOff { host });
    }

    /// That did not do it: the next means.
    fn gives_way(&mut self, host: HostId, act: Act, now: Moment) {
        let case = self.watched.get(&host).and_then(|w| w.case.as_ref());
        let (told, said) = match act {
            Act::Withdraw => {
                let said = case.map(|c| c.withdrawal.said.as_str()).unwrap_or_default();
                ("its arrays were told to let it reach nothing", said)
            }
            Act::Prove | Act::SwitchOff | Act::Tell | Act::AwaitWatchdog | Act::AskPerson => {
                let said = case.map(|c| c.reading.said.as_str()).unwrap_or_default();
                ("its controller was told to switch it off", said)
            }
        };
        let words = format!("{told}, and that did not help: {said}");
        self.note(Note::Said { host, words });
        if act != Act::Withdraw && self.can_be_shut_out(host) {
            self.enter(host, Stage::Fencing(Act::Withdraw), now);
        } else if self.watched.get(&host).is_some_and(|w| w.watchdog) {
            self.enter(host, Stage::Fencing(Act::AwaitWatchdog), now);
        } else {
            let why = self.why_a_person(host, now);
            self.waits(host, &why, now);
        }
    }

    fn why_a_person(&self, host: HostId, now: Moment) -> String {
        if self.most_are_unseen(now) {
            return "more than half of the hosts can't be seen at once".into();
        }
        let said = self.reading(host).map_or("", |r| r.said.as_str());
        match said {
            "" => {
                "it has no controller and no array that could be told, and no armed watchdog".into()
            }
            said => format!("{said}, and no watchdog of it is armed"),
        }
    }

    fn waits(&mut self, host: HostId, why: &str, now: Moment) {
        self.enter(host, Stage::Waits, now);
        self.note(Note::Waits {
            host,
            why: why.to_owned(),
        });
    }

    fn judges(&mut self, host: HostId, act: Act, now: Moment) {
        self.enter(host, Stage::Judged(act), now);
        let evidence = self.evidence(host, now);
        let since = self.watched.get(&host).map_or(now, |w| w.heard);
        self.note(Note::Judged {
            host,
            since,
            evidence,
            act,
        });
    }

    fn evidence(&self, host: HostId, now: Moment) -> String {
        let heard = self
            .watched
            .get(&host)
            .map_or(Span(0), |w| now.since(w.heard));
        let lease = match self.leases_of(host).next() {
            None => "no lease of it was ever seen".to_owned(),
            Some(_) if self.lease_is_alive(host, now) => match self.last_word(host) {
                Some((_, word)) if word.unlinked => {
                    "its lease is renewed, and says that its machines have no link".to_owned()
                }
                _ => "its lease is renewed".to_owned(),
            },
            Some(_) if self.leases_are_readable(host, now) => {
                format!("its lease stands still for {}", self.lease_still(host, now))
            }
            Some(_) => "its lease can't be read".to_owned(),
        };
        let said = self.reading(host).map_or("", |r| r.said.as_str());
        let said = match said {
            "" => String::new(),
            said => format!("; {said}"),
        };
        format!("not heard for {heard}; {lease}{said}")
    }

    fn proves(&mut self, host: HostId, proof: Proof, now: Moment) {
        let run_out = self.leases_are_readable(host, now)
            && self.lease_still(host, now) >= self.times.lease.plus(self.times.margin);
        let on_word = proof == Proof::Controller && !run_out;
        let again = matches!(self.stage(host), Some(Stage::Proved(_)));
        if on_word && !again {
            while self
                .on_word
                .front()
                .is_some_and(|at| now.since(*at) >= self.times.wave)
            {
                self.on_word.pop_front();
            }
            if self.on_word.len() >= (self.plan.wards.len() / 4).max(1) {
                return self.is_paced(host);
            }
            self.on_word.push_back(now);
        }
        self.enter(host, Stage::Proved(proof.clone()), now);
        self.note(Note::Fenced { host, proof });
    }

    /// Others were fenced a moment ago on their controllers' word: a controller's word for many at once is doubted.
    fn is_paced(&mut self, host: HostId) {
        let case = self.watched.get_mut(&host).and_then(|w| w.case.as_mut());
        if case.is_some_and(|c| !std::mem::replace(&mut c.paced, true)) {
            let words = format!(
                "it waits, for {} at most: so many hosts were fenced on their controllers' word alone a moment ago",
                self.times.wave
            );
            self.note(Note::Said { host, words });
        }
    }

    /// It is off. Where a lease of it is renewed all the same and it isn't heard, as one that was switched on would be,
    /// another host was switched off, or none.
    fn still_off(&mut self, host: HostId, mut after: After, at: Moment, now: Moment) {
        // One that only ended its machines goes on to renew.
        if after.told {
            return;
        }
        let counts: BTreeMap<_, _> = self.leases_of(host).collect();
        match &after.counts {
            None if now.since(at) >= self.times.alive => after.counts = Some(counts),
            None => return,
            Some(known) => {
                if !counts
                    .iter()
                    .any(|(v, n)| known.get(v).is_some_and(|k| n > k))
                {
                    return;
                }
                let since = *after.moved.get_or_insert(now);
                if now.since(since) >= self.times.silent {
                    return self.doubts(host, now);
                }
            }
        }
        if let Some(case) = self.watched.get_mut(&host).and_then(|w| w.case.as_mut()) {
            case.stage = Stage::Fenced(after);
        }
    }

    fn doubts(&mut self, host: HostId, now: Moment) {
        self.unfall(host);
        self.enter(host, Stage::Waits, now);
        if let Some(watched) = self.watched.get_mut(&host) {
            watched.doubted = true;
        }
        let why =
            "its lease is renewed although it was proved off: the controller may be another host's";
        self.note(Note::Doubted {
            host,
            why: why.into(),
        });
    }

    pub(super) fn recorded(&mut self, host: HostId, fenced: bool, now: Moment) {
        match (self.stage(host), fenced) {
            (Some(Stage::Judged(act)), false) => self.enter(host, Stage::Fencing(act), now),
            (Some(Stage::Proved(proof)), true) => {
                let after = After {
                    shut_out: proof == Proof::Storage,
                    told: proof == Proof::Lease,
                    ..After::default()
                };
                self.enter(host, Stage::Fenced(after), now);
                self.fall(host);
            }
            _ => {}
        }
    }

    pub(super) fn declared(&mut self, host: HostId, now: Moment) {
        let silent = self
            .watched
            .get(&host)
            .is_some_and(|w| now.since(w.heard) >= self.times.silent);
        if let Some(watched) = self.watched.get_mut(&host).filter(|_| silent) {
            watched.doubted = false;
            self.proves(host, Proof::Person, now);
        }
    }
}
