//! Hosts that are alive and can't serve some of their machines: a volume that they don't reach while others do, or uplinks without
//! a link (rules, section 4).
//!
//! A machine without its volume stands still, and only its host can say that it will write no more: it is ended there, under the
//! generation of its run lease, and starts elsewhere once its host said that it is. A machine without networks runs; it is moved
//! away by whoever can move machines, and never ended for it.

use super::{Guard, Note, Order, Refusal, Running, restart::Job};
use crate::{
    availability::{Effort, Restart, fail},
    estate::Lack,
    ids::{HostId, MachineId},
    moment::{Moment, Span},
};
use std::collections::{BTreeMap, BTreeSet};

/// Questions to end a machine before that is left to people.
const TRIES: u32 = 3;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum State {
    Watches,
    /// Told, and not known to be written; since when.
    Told(Moment),
    /// Written: what is to be done is done.
    Acts,
}

/// What one host's machines lack.
#[derive(Debug, Clone)]
pub(super) struct Lacking {
    since: Moment,
    state: State,
    /// Generations of their run leases.
    machines: BTreeMap<MachineId, u64>,
    /// When it was last looked who finds a place elsewhere.
    looked: Option<Moment>,
}

/// A machine that its host was asked to end.
#[derive(Debug, Clone, Copy)]
pub(super) struct Ending {
    host: HostId,
    lack: Lack,
    generation: u64,
    /// When last, how often, and whether no answer came since.
    at: Moment,
    tries: u32,
    open: bool,
}

impl Lacking {
    fn new(now: Moment) -> Self {
        Lacking {
            since: now,
            state: State::Watches,
            machines: BTreeMap::new(),
            looked: None,
        }
    }
    /// Nobody looked for a while: what lasted meanwhile is not known.
    pub(super) fn looks_anew(&mut self, now: Moment) {
        if self.state == State::Watches {
            self.since = now;
        }
    }
}

impl Guard {
    /// A host says what its machines can't reach.
    pub(super) fn lacks(&mut self, host: HostId, running: &[Running], now: Moment) {
        let mut seen: BTreeMap<Lack, BTreeMap<MachineId, u64>> = BTreeMap::new();
        for machine in running {
            if let Some(lack) = machine.lacks {
                let of = seen.entry(lack).or_default();
                of.insert(machine.machine, machine.generation);
            }
        }
        self.lacking
            .retain(|(of, lack), _| *of != host || seen.contains_key(lack));
        for (lack, machines) in seen {
            let fresh = || Lacking::new(now);
            let lacking = self.lacking.entry((host, lack)).or_insert_with(fresh);
            lacking.machines = machines;
        }
        // What was asked is answered, whatever came back meanwhile.
        let (answer, all) = (self.times.answer, &self.lacking);
        self.ending.retain(|machine, e| {
            let lacks = all.get(&(e.host, e.lack));
            let still = lacks.is_some_and(|l| l.machines.contains_key(machine));
            e.host != host || still || e.open && now.since(e.at) < answer
        });
    }

    pub(super) fn look_at_lacking(&mut self, now: Moment) {
        let all: Vec<(HostId, Lack)> = self.lacking.keys().copied().collect();
        for (host, lack) in all {
            let lately = self
                .watched
                .get(&host)
                .is_some_and(|w| now.since(w.heard).0 * 3 < self.times.silent.0 && !w.is_closed());
            let Some(lacking) = self.lacking.get_mut(&(host, lack)) else {
                continue;
            };
            // What its host doesn't tell nobody knows.
            if !lately {
                lacking.looks_anew(now);
                continue;
            }
            let state = lacking.state;
            match state {
                State::Watches if self.is_due(host, lack, now) => self.tells(host, lack, now),
                State::Told(at) if now.since(at) >= self.times.answer => {
                    self.tells(host, lack, now);
                }
                State::Watches | State::Told(_) => {}
                State::Acts => match lack {
                    Lack::Volume { .. } => self.ends(host, lack, now),
                    Lack::Networks => {}
                },
            }
        }
    }

    /// Whether it has lasted for long enough, and others fare better.
    fn is_due(&self, host: HostId, lack: Lack, now: Moment) -> bool {
        let Some(lacking) = self.lacking.get(&(host, lack)) else {
            return false;
        };
        let lasted = now.since(lacking.since);
        let charged = |m: &MachineId| self.plan.charges.get(m).is_some_and(|c| !c.fallen);
        match lack {
            Lack::Volume { volume, gone } => {
                let patience = if gone {
                    self.times.gone
                } else {
                    Span(self.times.failover.0 / 2 * 3)
                };
                // Others went on to renew their leases on it: it is this host that doesn't reach it.
                let on_it = self.leases.get(&volume);
                let others = on_it.is_some_and(|l| {
                    l.others_renew(host, lacking.since)
                        && l.is_readable(host, self.times.readable, now)
                });
                let any = lacking.machines.keys().any(charged);
                lasted >= patience && others && any && !self.most_are_unseen(now)
            }
            Lack::Networks => lasted >= self.times.silent && self.others_have_networks(host, now),
        }
    }

    fn others_have_networks(&self, host: HostId, now: Moment) -> bool {
        let mut others = self.watched.iter().filter(|(id, w)| {
            **id != host && now.since(w.heard) < self.times.silent && !w.is_closed()
        });
        others.any(|(id, _)| !self.lacking.contains_key(&(*id, Lack::Networks)))
    }

    fn tells(&mut self, host: HostId, lack: Lack, now: Moment) {
        let Some(lacking) = self.lacking.get_mut(&(host, lack)) else {
            return;
        };
        lacking.state = State::Told(now);
        let (since, n) = (lacking.since, lacking.machines.len());
        let lasted = now.since(since);
        let stand = match n {
            1 => "1 machine there stands still".to_owned(),
            n => format!("{n} machines there stand still"),
        };
        let evidence = match lack {
            Lack::Volume { gone: true, .. } => {
                format!(
                    "its array offers it no more, for {lasted} now, and others reach it; {stand}"
                )
            }
            Lack::Volume { gone: false, .. } => {
                format!("nothing answers on its paths for {lasted}, and others reach it; {stand}")
            }
            Lack::Networks => format!(
                "none of the uplinks beneath the networks of {n} of its machines has a link, for {lasted} now"
            ),
        };
        self.note(Note::Lacks {
            host,
            since,
            lack,
            evidence,
        });
    }

    pub(super) fn lack_recorded(&mut self, host: HostId, lack: Lack) {
        if let Some(lacking) = self.lacking.get_mut(&(host, lack)) {
            lacking.state = State::Acts;
        }
    }

    /// Those that another host can take are ended where they stand still.
    fn ends(&mut self, host: HostId, lack: Lack, now: Moment) {
        let (answer, again) = (self.times.answer, Span(self.times.again.0 * 5));
        let Some(lacking) = self.lacking.get_mut(&(host, lack)) else {
            return;
        };
        if lacking.looked.is_some_and(|at| now.since(at) < again) {
            return;
        }
        lacking.looked = Some(now);
        let free = |m: &MachineId| {
            let waits = self.ending.get(m).is_some_and(|e| {
                e.host == host && (e.tries >= TRIES || e.open && now.since(e.at) < answer)
            });
            let charge = self.plan.charges.get(m);
            !waits && charge.is_some_and(|c| !c.fallen) && !self.jobs.contains_key(m)
        };
        let all = lacking.machines.iter().map(|(m, g)| (*m, *g));
        let all: BTreeMap<MachineId, u64> = all.filter(|(m, _)| free(m)).collect();
        if all.is_empty() {
            return;
        }
        let reach_it_neither = self.hosts_that_lack(lack);
        let placed = self.find_place_elsewhere(&reach_it_neither, &all.keys().copied().collect());
        let boot = self.boot(host);
        for (machine, generation) in all {
            if !placed.contains(&machine) {
                continue;
            }
            let before = self.ending.get(&machine).filter(|e| e.host == host);
            let ending = Ending {
                host,
                lack,
                generation,
                at: now,
                tries: before.map_or(0, |e| e.tries) + 1,
                open: true,
            };
            self.ending.insert(machine, ending);
            self.orders.push(Order::End {
                machine,
                host,
                boot,
                generation,
            });
        }
    }

    /// Every host on which somebody lacks the same, whatever its target says there.
    fn hosts_that_lack(&self, lack: Lack) -> BTreeSet<HostId> {
        let same = |other: &Lack| match (other, lack) {
            (Lack::Volume { volume: a, .. }, Lack::Volume { volume: b, .. }) => *a == b,
            (Lack::Networks, Lack::Networks) => true,
            (Lack::Volume { .. }, Lack::Networks) | (Lack::Networks, Lack::Volume { .. }) => false,
        };
        let all = self.lacking.keys().filter(|(_, other)| same(other));
        all.map(|(host, _)| *host).collect()
    }

    /// Which of them hosts other than these can take now.
    fn find_place_elsewhere(
        &self,
        but: &BTreeSet<HostId>,
        machines: &BTreeSet<MachineId>,
    ) -> BTreeSet<MachineId> {
        let mut table = self.table_now();
        // Its last row is no host.
        let nowhere = table.hosts.len().checked_sub(1);
        for row in &mut table.hosts {
            if row.id.is_some_and(|id| but.contains(&id)) {
                row.closed = Some("it does not reach it".into());
            }
        }
        for row in &mut table.machines {
            if row.id.is_some_and(|id| machines.contains(&id)) {
                (row.at, row.restart) = (nowhere, Restart::Yes);
            }
        }
        let found = fail(&table, &[], Effort::QUICK);
        let placed = found.restarted.iter();
        placed
            .filter_map(|(n, _)| table.machines.get(*n)?.id)
            .filter(|id| machines.contains(id))
            .collect()
    }

    /// Its host said that a machine is ended there, or didn't.
    pub(super) fn ended(
        &mut self,
        machine: MachineId,
        host: HostId,
        result: Result<(), Refusal>,
        now: Moment,
    ) {
        let Some(ending) = self.ending.get_mut(&machine).filter(|e| e.host == host) else {
            return;
        };
        ending.open = false;
        let (lack, generation) = (ending.lack, ending.generation);
        let last = ending.tries >= TRIES;
        let from = host;
        let refused = match result {
            Ok(()) => None,
            Err(refusal) if last => Some(refusal.said),
            Err(_) => return,
        };
        if refused.is_none() {
            self.ending.remove(&machine);
            let mut reach_it_neither = self.hosts_that_lack(lack);
            reach_it_neither.insert(host);
            if let Some(lacking) = self.lacking.get_mut(&(host, lack)) {
                lacking.machines.remove(&machine);
            }
            if let Some(watched) = self.watched.get_mut(&host) {
                watched.running.remove(&machine);
            }
            if let Some(charge) = self.plan.charges.get_mut(&machine) {
                charge.fallen = true;
                charge.generation = charge.generation.max(generation);
                let job = Job::but_not_there(charge, reach_it_neither, now);
                self.jobs.entry(machine).or_insert(job);
            }
        }
        self.note(Note::Ended {
            machine,
            from,
            refused,
        });
    }
}
