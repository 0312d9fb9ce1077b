//! Machines: those that fell are started elsewhere, the most important first.

use super::{Charge, Guard, Note, Order, Refusal, Running};
use crate::{
    availability::{Effort, HostRow, Restart, Table, fail},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
};
use std::{
    cmp::Reverse,
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Boots at once on a host, and starts that may fail before a person is asked (rules, section 4).
const BOOTS_AT_ONCE: usize = 4;
const TRIES: u32 = 5;
const UNSURE: &str = "another site may run it";
/// Questions without an answer before another host is tried.
const SAME_AGAIN: u32 = 3;

#[derive(Debug, Clone, PartialEq)]
enum State {
    Waiting,
    Asked {
        at: Moment,
        open: u32,
    },
    Boots {
        at: Moment,
        late: bool,
    },
    Up,
    /// Five hosts did not start it.
    GivenUp,
}

/// A machine that is brought back.
#[derive(Debug, Clone)]
pub(super) struct Job {
    from: HostId,
    /// Where it shall start, or was started.
    to: Option<HostId>,
    /// Hosts that may hold its run lease, at which generation, and are proved off.
    held: Vec<(HostId, u64)>,
    /// Of the run lease that it takes next, or took.
    generation: u64,
    tries: u32,
    /// Hosts that did not start it, and since when the last one didn't.
    bad: BTreeSet<HostId>,
    failed: Moment,
    /// Who was asked to start it, under which generation, in which boot: any of them may hold the run lease.
    asked: Vec<(HostId, u64, u64)>,
    state: State,
    /// The other site may run it by now: nobody starts it here before that is denied.
    unsure: bool,
    /// Why no host can take it; looked at again with the next plan.
    left: String,
    /// What was said of that last.
    told: String,
}

impl Job {
    fn of(charge: &Charge) -> Self {
        Job {
            from: charge.host,
            to: None,
            held: vec![(charge.host, charge.generation)],
            generation: charge.generation + 1,
            tries: 0,
            bad: BTreeSet::new(),
            failed: Moment(0),
            asked: Vec::new(),
            state: State::Waiting,
            unsure: false,
            left: String::new(),
            told: String::new(),
        }
    }
    /// One that was ended where it could not go on; its host did not fail.
    pub(super) fn but_not_there(charge: &Charge, bad: BTreeSet<HostId>, now: Moment) -> Self {
        Job {
            bad,
            failed: now,
            ..Job::of(charge)
        }
    }
    fn settled(&self) -> bool {
        match self.state {
            State::Up | State::GivenUp | State::Boots { late: true, .. } => true,
            // Nobody can take it: nobody waits for it.
            State::Waiting => !self.left.is_empty(),
            State::Asked { .. } | State::Boots { .. } => false,
        }
    }
    /// The host went down in this boot or before: whatever it was asked to start by then, it may hold only the lease of.
    fn off(&mut self, host: HostId, boot: u64) {
        let taken = self
            .asked
            .iter()
            .filter(|(h, _, b)| *h == host && *b <= boot);
        for (_, generation, _) in taken {
            if !self.held.contains(&(host, *generation)) {
                self.held.push((host, *generation));
            }
        }
        let highest = self.held.iter().map(|(_, g)| g + 1).max();
        self.generation = self.generation.max(highest.unwrap_or(0));
    }
    fn is_on(&self, host: HostId) -> bool {
        matches!(self.state, State::Asked { .. } | State::Boots { .. }) && self.to == Some(host)
    }
}

impl Guard {
    /// What fell is brought back; what nobody wants any more, or runs already, is let go.
    pub(super) fn jobs_follow_plan(&mut self) {
        let charges = &self.plan.charges;
        self.jobs.retain(|machine, job| {
            charges
                .get(machine)
                .is_some_and(|c| c.fallen || job.state != State::Up && job.state != State::GivenUp)
        });
        for (machine, charge) in charges {
            match self.jobs.get_mut(machine) {
                None if charge.fallen
                    && !self.watched.get(&charge.host).is_some_and(|w| w.doubted) =>
                {
                    let unsure = charge.unsure || charge.shared && self.dark.is_some();
                    let job = Job {
                        unsure,
                        ..Job::of(charge)
                    };
                    self.jobs.insert(*machine, job);
                }
                None => {}
                // Somebody else started it.
                Some(job)
                    if !charge.fallen
                        && charge.generation >= job.generation
                        && job.state == State::Waiting =>
                {
                    job.state = State::Up;
                }
                Some(job) if job.state == State::Waiting => {
                    (job.to, job.left) = (None, String::new())
                }
                Some(_) => {}
            }
        }
    }

    /// A host is fenced: all that ran there, or was about to, is off.
    pub(super) fn fall(&mut self, host: HostId) {
        for charge in self.plan.charges.values_mut().filter(|c| c.host == host) {
            charge.fallen = true;
        }
        let boot = self.boot(host);
        for job in self.jobs.values_mut() {
            job.off(host, boot);
            if job.is_on(host) {
                (job.state, job.to) = (State::Waiting, None);
            }
        }
        self.jobs_follow_plan();
    }

    /// A proof was wrong: what was not started yet stays where it is.
    pub(super) fn unfall(&mut self, host: HostId) {
        self.jobs
            .retain(|_, job| job.from != host || job.state != State::Waiting);
    }

    /// What was started on a host and isn't named by it: it went down in between, or the machine did.
    pub(super) fn not_running(
        &mut self,
        host: HostId,
        running: &[Running],
        anew: bool,
        now: Moment,
    ) {
        let (answer, boot) = (self.times.answer, self.boot(host));
        for (machine, job) in &mut self.jobs {
            let old = matches!(job.state, State::Boots { at, .. } if now.since(at) >= answer);
            let named = running.iter().any(|r| r.machine == *machine);
            let went_down = anew && job.asked.iter().any(|(h, _, b)| *h == host && *b < boot);
            if anew {
                job.off(host, boot.saturating_sub(1));
            }
            if !named && job.is_on(host) && (went_down || old) {
                (job.state, job.to) = (State::Waiting, None);
            }
        }
    }

    /// A host says what it runs.
    pub(super) fn seen_running(&mut self, host: HostId, running: &[Running], now: Moment) {
        for seen in running {
            let Some(job) = self.jobs.get_mut(&seen.machine) else {
                continue;
            };
            if seen.generation < job.generation {
                // It never stopped: there is nothing to bring back.
                if job.from == host && job.state == State::Waiting {
                    self.jobs.remove(&seen.machine);
                }
                continue;
            }
            job.generation = seen.generation;
            let since = match job.state {
                State::Asked { at, .. } | State::Boots { at, .. } => at,
                State::Waiting | State::GivenUp => now,
                State::Up => continue,
            };
            let late = matches!(job.state, State::Boots { late: true, .. });
            job.to = Some(host);
            if !seen.answers {
                job.state = State::Boots { at: since, late };
                continue;
            }
            job.state = State::Up;
            let (machine, from, took) = (seen.machine, job.from, now.since(since));
            self.note(Note::Up {
                machine,
                from,
                on: host,
                took,
            });
        }
    }

    pub(super) fn started(
        &mut self,
        machine: MachineId,
        host: HostId,
        result: Result<u64, Refusal>,
        now: Moment,
    ) {
        let Some(job) = self.jobs.get_mut(&machine) else {
            return;
        };
        let State::Asked { at, open } = job.state else {
            return;
        };
        if job.to != Some(host) {
            return;
        }
        let from = job.from;
        match result {
            Ok(generation) => {
                job.generation = generation;
                job.state = State::Boots { at, late: false };
                self.note(Note::Starts {
                    machine,
                    from,
                    to: host,
                });
            }
            Err(no) if no.open && open + 1 < SAME_AGAIN => {
                job.state = State::Asked {
                    at: now,
                    open: open + 1,
                };
                let order = self.start(machine);
                self.orders.extend(order);
            }
            Err(no) => self.not_started(machine, host, no.said, now),
        }
    }

    fn not_started(&mut self, machine: MachineId, host: HostId, why: String, now: Moment) {
        let Some(job) = self.jobs.get_mut(&machine) else {
            return;
        };
        job.bad.insert(host);
        job.failed = now;
        job.tries += 1;
        job.to = None;
        let last = job.tries >= TRIES;
        job.state = if last { State::GivenUp } else { State::Waiting };
        let from = job.from;
        self.note(Note::NotStarted {
            machine,
            from,
            on: host,
            why,
            last,
        });
    }

    pub(super) fn boot(&self, host: HostId) -> u64 {
        self.watched.get(&host).and_then(|w| w.boot).unwrap_or(0)
    }

    fn start(&self, machine: MachineId) -> Option<Order> {
        let job = self.jobs.get(&machine)?;
        let (host, _, boot) = *job.asked.last()?;
        Some(Order::Start {
            machine,
            host,
            boot,
            generation: job.generation,
            fenced: job.held.clone(),
        })
    }

    pub(super) fn look_at_machines(&mut self, now: Moment) {
        if self.jobs.is_empty() {
            self.tiers.clear();
            return;
        }
        self.grow_old(now);
        self.find_places();
        let open = self.open_tier(now);
        let mut order: Vec<_> = self
            .jobs
            .iter()
            .filter(|(_, j)| j.state == State::Waiting && j.to.is_some())
            .map(|(m, _)| *m)
            .collect();
        order.sort_by_key(|m| self.rank(*m));
        for machine in order {
            let tier = self.plan.charges.get(&machine).map_or(u8::MAX, |c| c.tier);
            if tier <= open && self.may_start(machine) {
                self.tiers.entry(tier).or_insert(now);
                let to = self.jobs.get(&machine).and_then(|j| j.to);
                let boot = to.map_or(0, |to| self.boot(to));
                if let Some(job) = self.jobs.get_mut(&machine) {
                    job.state = State::Asked { at: now, open: 0 };
                    job.asked.extend(to.map(|to| (to, job.generation, boot)));
                }
                let order = self.start(machine);
                self.orders.extend(order);
            }
        }
    }

    /// Answers that don't come, and boots that take too long to wait for.
    fn grow_old(&mut self, now: Moment) {
        let mut unanswered = Vec::new();
        for (machine, job) in &mut self.jobs {
            let boots = self.plan.charges.get(machine).and_then(|c| c.boots_in);
            let limit = boots.map_or(self.times.boot, |b| Span(b.0 * 3));
            match &mut job.state {
                State::Asked { at, .. } if now.since(*at) >= self.times.answer => {
                    unanswered.extend(job.to.map(|to| (*machine, to)));
                }
                State::Boots { at, late } if now.since(*at) >= limit => *late = true,
                // What did not work on any host is tried again after a while.
                State::Waiting
                    if !job.bad.is_empty()
                        && !job.left.is_empty()
                        && now.since(job.failed) >= self.times.lease =>
                {
                    job.bad.clear();
                    job.left.clear();
                }
                State::Waiting
                | State::Asked { .. }
                | State::Boots { .. }
                | State::Up
                | State::GivenUp => {}
            }
        }
        for (machine, host) in unanswered {
            let said = "it gave no answer".to_owned();
            self.started(machine, host, Err(Refusal { said, open: true }), now);
        }
    }

    /// Tiers in order: how far down they are open. A tier waits for those before it, and not for ever.
    fn open_tier(&self, now: Moment) -> u8 {
        let tier_of = |m: &MachineId| self.plan.charges.get(m).map_or(u8::MAX, |c| c.tier);
        let mut tiers: BTreeMap<u8, bool> = BTreeMap::new();
        for (machine, job) in &self.jobs {
            *tiers.entry(tier_of(machine)).or_insert(true) &= job.settled();
        }
        for (tier, settled) in &tiers {
            let began = self.tiers.get(tier);
            let over = began.is_some_and(|at| now.since(*at) >= self.times.boot);
            if !settled && !over {
                return *tier;
            }
        }
        u8::MAX
    }

    fn may_start(&self, machine: MachineId) -> bool {
        let Some((job, charge)) = self.jobs.get(&machine).zip(self.plan.charges.get(&machine))
        else {
            return false;
        };
        let Some(to) = job.to else { return false };
        let here = self
            .jobs
            .values()
            .filter(|j| j.is_on(to) && !j.settled())
            .count();
        let waits = charge
            .after
            .is_some_and(|first| self.jobs.get(&first).is_some_and(|j| !j.settled()));
        // A host that says that it runs it has not lost it, whatever was proved.
        let runs = self
            .watched
            .get(&job.from)
            .is_some_and(|w| w.running.contains(&machine) && !w.is_closed());
        here < BOOTS_AT_ONCE && !waits && !runs
    }

    /// By tier, then who waits for whom, then the largest.
    fn rank(&self, machine: MachineId) -> (u8, usize, Reverse<u64>, MachineId) {
        let charge = self.plan.charges.get(&machine);
        let mut depth = 0;
        let mut at = charge.and_then(|c| c.after);
        while let Some(next) = at.filter(|_| depth < self.jobs.len()) {
            depth += 1;
            at = self.plan.charges.get(&next).and_then(|c| c.after);
        }
        let kept = self
            .plan
            .table
            .machines
            .iter()
            .find(|r| r.id == Some(machine))
            .map_or(0, |r| r.kept);
        (
            charge.map_or(u8::MAX, |c| c.tier),
            depth,
            Reverse(kept),
            machine,
        )
    }

    /// The other site, a witness or a person says that it was not taken over there.
    pub(super) fn permitted(&mut self) {
        self.dark = None;
        for job in self.jobs.values_mut().filter(|j| j.unsure) {
            (job.unsure, job.left) = (false, String::new());
        }
    }

    /// What another site may run by now waits, and that is said once.
    fn doubt_shared(&mut self) {
        let mut notes = Vec::new();
        for (machine, job) in &mut self.jobs {
            if !job.unsure || job.state != State::Waiting {
                continue;
            }
            UNSURE.clone_into(&mut job.left);
            job.to = None;
            if job.told != UNSURE {
                UNSURE.clone_into(&mut job.told);
                notes.push((*machine, job.from));
            }
        }
        for (machine, from) in notes {
            self.note(Note::Unsure { machine, from });
        }
    }

    /// Where each machine that has no place yet goes: the failure matrix's own search, on the cluster as it is now.
    fn find_places(&mut self) {
        self.doubt_shared();
        let homeless = |j: &Job| j.state == State::Waiting && j.to.is_none() && j.left.is_empty();
        if !self.jobs.values().any(homeless) {
            return;
        }
        let table = self.table_now();
        let found = fail(&table, &[], Effort::QUICK);
        let id = |n: usize| table.machines.get(n).and_then(|m| m.id);
        for (machine, host) in &found.restarted {
            let job = id(*machine).and_then(|m| self.jobs.get_mut(&m));
            if let Some(job) = job.filter(|j| j.state == State::Waiting && !j.unsure) {
                job.to = table.hosts[*host].id;
            }
        }
        let left = found.not_restarted.iter().chain(&found.lost);
        for one in left {
            let Some(machine) = id(one.machine) else {
                continue;
            };
            let Some(job) = self.jobs.get_mut(&machine).filter(|j| homeless(j)) else {
                continue;
            };
            job.left.clone_from(&one.why);
            if job.told == one.why {
                continue;
            }
            job.told.clone_from(&one.why);
            let (from, why) = (job.from, one.why.clone());
            self.note(Note::Left { machine, from, why });
        }
        for job in self.jobs.values_mut().filter(|j| homeless(j)) {
            "nothing is known of it that would place it".clone_into(&mut job.left);
        }
    }

    /// The plan's table as things stand: closed hosts take nothing, what was started elsewhere is there, and what waits for
    /// a place is on no host.
    pub(super) fn table_now(&self) -> Table {
        let mut table = self.plan.table.clone();
        let place: BTreeMap<HostId, usize> = table
            .hosts
            .iter()
            .enumerate()
            .filter_map(|(n, h)| Some((h.id?, n)))
            .collect();
        for row in &mut table.hosts {
            row.gone = false;
            let watched = row.id.and_then(|id| self.watched.get(&id));
            if row.closed.is_none() && watched.is_none_or(super::cases::Watched::is_closed) {
                row.closed = Some("it has failed".into());
            }
        }
        let nowhere = table.hosts.len();
        table.hosts.push(HostRow {
            closed: Some("no host".into()),
            gone: true,
            ..HostRow::default()
        });
        for row in &mut table.machines {
            if let Some(only) = &row.only {
                row.only = Some(Arc::new(only.iter().copied().chain([false]).collect()));
            }
            let Some(job) = row.id.and_then(|id| self.jobs.get(&id)) else {
                continue;
            };
            row.restart = Restart::Yes;
            row.at = match job.state {
                State::Waiting if job.unsure => None,
                State::Waiting => Some(nowhere),
                State::GivenUp => None,
                State::Asked { .. } | State::Boots { .. } | State::Up => {
                    job.to.and_then(|h| place.get(&h)).copied()
                }
            };
            if !job.bad.is_empty() {
                let may = |n: usize, id: Option<HostId>| {
                    let before = row.only.as_ref().is_none_or(|only| only[n]);
                    before && id.is_none_or(|id| !job.bad.contains(&id))
                };
                let all = table
                    .hosts
                    .iter()
                    .enumerate()
                    .map(|(n, h)| may(n, h.id))
                    .collect();
                row.only = Some(Arc::new(all));
            }
        }
        table
    }
}
