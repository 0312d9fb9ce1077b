//! A cluster in virtual time around one guard: hosts with leases, watchdogs and clocks of their own, controllers, volumes that
//! keep run leases, a network that loses, delays, repeats and cuts one way, a journal, and a person who acts on what waits.
//! The same seed is the same story.

use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write as _,
    sync::Arc,
};
use zastrugi_core::{
    availability::{HostRow, MachineRow, Table},
    guard::{
        Act, Charge, Guard, Input, Note, Order, Plan, Power, Proof, Refusal, Running, Stamp, Times,
        Ward,
    },
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
};

/// One step of virtual time, in milliseconds.
pub(crate) const STEP: u64 = 250;
const RENEW: u64 = 10_000;
const FREEZE: u64 = 40_000;
const RESET: u64 = 60_000;
const BOOT: u64 = 20_000;
/// From power to the agent.
const COMES_UP: u64 = 40_000;
/// Faults happen until then; after it everything is mended.
const CALM: u64 = 6 * 60_000;
const END: u64 = 17 * 60_000;

/// A wrong guard, to see whether the simulation finds it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Mutation {
    None,
    /// One look at the power is proof.
    OneLook,
    /// A lease counts as run out at half of its time.
    ShortLease,
    /// Silence alone is enough to take the power away, at once.
    NoPatience,
    /// Machines are started elsewhere when the verdict is told, before anything is proved.
    Hasty,
    /// An array that was told counts as one that did it.
    Trusting,
}

impl Mutation {
    fn times(self) -> Times {
        let times = Times::default();
        match self {
            Mutation::None | Mutation::Hasty | Mutation::Trusting => times,
            Mutation::OneLook => Times {
                apart: Span(0),
                ..times
            },
            Mutation::ShortLease => Times {
                lease: Span::secs(20),
                margin: Span(0),
                ..times
            },
            Mutation::NoPatience => Times {
                silent: Span::secs(2),
                alive: Span(0),
                patience: Span(0),
                ..times
            },
        }
    }
}

#[derive(Debug, Clone, Default)]
pub(crate) struct Device {
    pub(crate) power: bool,
    /// Comes up then.
    boots_until: u64,
    pub(crate) stalled_until: u64,
    pub(crate) agent_dead: bool,
    boot: u64,
    /// Thousandths of real time.
    rate: u64,
    pub(crate) watchdog: bool,
    frozen: bool,
    /// When it last sent a renewal that arrived, and when the next is due.
    renewed: u64,
    due: u64,
    guests: BTreeMap<MachineId, (u64, u64)>,
    /// What it hears and says.
    pub(crate) deaf: bool,
    pub(crate) mute: bool,
    pub(crate) paths: [bool; 2],
    pub(crate) bmc_dead: bool,
    /// Takes orders and does nothing.
    pub(crate) bmc_lame: bool,
    /// Says off without being so until then.
    flickers_until: u64,
    /// Whether its volumes lie on an array that can be told, whether that answers, and whether it has shut it out.
    pub(crate) array: bool,
    pub(crate) array_dead: bool,
    pub(crate) shut_out: bool,
}

impl Device {
    fn age(&self, now: u64) -> u64 {
        (now - self.renewed) * self.rate / 1000
    }
    fn up(&self, now: u64) -> bool {
        self.power && now >= self.boots_until && now >= self.stalled_until
    }
    /// Whether its guests write, or may go on to write without anybody looking first.
    fn may_write(&self, now: u64) -> bool {
        self.power && !self.frozen && !self.shut_out && self.age(now) < FREEZE
    }
    fn reaches(&self, volume: usize) -> bool {
        self.paths[volume] && !self.shut_out
    }
    fn down(&mut self) {
        self.guests.clear();
        self.frozen = false;
        self.stalled_until = 0;
    }
    fn comes_up(&mut self, now: u64) {
        self.power = true;
        self.boot += 1;
        (self.renewed, self.due) = (now, now);
        self.boots_until = now + COMES_UP;
        self.down();
    }
}

#[derive(Debug, Clone, Default)]
struct Disk {
    stalled_until: u64,
    counters: BTreeMap<HostId, u64>,
    /// When each was last renewed.
    changed: BTreeMap<HostId, u64>,
}

#[derive(Debug, Clone, Copy)]
struct Lease {
    holder: Option<HostId>,
    generation: u64,
}

/// What the journal knows; the plan is made from it.
#[derive(Debug, Clone, Default)]
struct Journal {
    off: BTreeSet<HostId>,
    judged: BTreeMap<HostId, Act>,
    switched: BTreeMap<HostId, u64>,
    at: BTreeMap<MachineId, (HostId, u64, bool)>,
    boots: BTreeMap<HostId, u64>,
    revision: u64,
    answers_from: u64,
}

#[derive(Debug, Clone)]
enum Message {
    Told(Input),
    Ordered(Order),
    Written(Note),
}

pub(crate) struct Sim {
    rng: u64,
    pub(crate) now: u64,
    guard: Guard,
    mutation: Mutation,
    hosts: BTreeMap<HostId, Device>,
    disks: Vec<Disk>,
    leases: BTreeMap<MachineId, Lease>,
    tiers: BTreeMap<MachineId, u8>,
    journal: Journal,
    messages: BTreeMap<(u64, u64), Message>,
    number: u64,
    loss: u64,
    guard_sleeps_until: u64,
    heard: BTreeMap<HostId, u64>,
    began: u64,
    fenced_on_word: Vec<u64>,
    people: BTreeMap<HostId, u64>,
    pub(crate) steps: u64,
    pub(crate) story: Vec<(u64, String)>,
    pub(crate) broken: Vec<String>,
    pub(crate) switched_off: usize,
    pub(crate) shut_out: usize,
    pub(crate) restarted: usize,
    pub(crate) given_up: BTreeSet<MachineId>,
}

impl Sim {
    /// Hosts in order, clocks that agree, and nothing that happens by itself.
    pub(crate) fn still(hosts: u64) -> Sim {
        let mut sim = Sim::of(1, Mutation::None, hosts);
        for device in sim.hosts.values_mut() {
            (device.rate, device.watchdog, device.array) = (1000, true, false);
        }
        sim
    }
    /// Lets so many seconds pass.
    pub(crate) fn play(&mut self, seconds: u64) {
        let until = self.now + seconds * 1000;
        while self.now < until {
            self.step();
        }
    }
    pub(crate) fn tier(&self, tier: u8) -> Vec<MachineId> {
        let all = self.tiers.iter().filter(|(_, t)| **t == tier);
        all.map(|(m, _)| *m).collect()
    }
    pub(crate) fn host(&mut self, n: u64) -> &mut Device {
        self.hosts.get_mut(&HostId(n)).unwrap()
    }
    pub(crate) fn cut(&mut self, n: u64) {
        let device = self.host(n);
        device.power = false;
        device.down();
    }
    pub(crate) fn stall(&mut self, volume: usize, seconds: u64) {
        self.disks[volume].stalled_until = self.now + seconds * 1000;
    }
    /// When something was first said since then, in seconds after it.
    pub(crate) fn said(&self, since: u64, what: &str) -> Option<f64> {
        let after = self.story.iter().filter(|(at, _)| *at >= since);
        let found = after.into_iter().find(|(_, said)| said.contains(what))?;
        Some((found.0 - since) as f64 / 1000.0)
    }

    pub(crate) fn new(seed: u64, mutation: Mutation) -> Sim {
        Sim::of(
            seed,
            mutation,
            2 + seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) / 7 % 4,
        )
    }

    fn of(seed: u64, mutation: Mutation, hosts: u64) -> Sim {
        let mut sim = Sim {
            rng: seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) | 1,
            now: 100_000,
            guard: Guard::new(mutation.times(), Moment(100_000)),
            mutation,
            hosts: BTreeMap::new(),
            disks: vec![Disk::default(); 2],
            leases: BTreeMap::new(),
            tiers: BTreeMap::new(),
            journal: Journal::default(),
            messages: BTreeMap::new(),
            number: 0,
            loss: 0,
            guard_sleeps_until: 0,
            heard: BTreeMap::new(),
            began: 100_000,
            fenced_on_word: vec![],
            people: BTreeMap::new(),
            steps: 0,
            story: vec![],
            broken: vec![],
            switched_off: 0,
            shut_out: 0,
            restarted: 0,
            given_up: BTreeSet::new(),
        };
        for n in 1..=hosts {
            let device = Device {
                power: true,
                rate: 900 + sim.below(201),
                watchdog: sim.below(4) > 0,
                renewed: sim.now,
                due: sim.now + sim.below(RENEW),
                boot: 1,
                paths: [true, true],
                array: sim.below(2) == 0,
                ..Device::default()
            };
            sim.hosts.insert(HostId(n), device);
            for m in 0..1 + sim.below(3) {
                sim.put(MachineId(n * 10 + m), HostId(n));
            }
        }
        sim.plan();
        sim
    }

    pub(crate) fn put(&mut self, machine: MachineId, host: HostId) {
        let tier = u8::try_from(1 + self.below(3)).unwrap_or(1);
        self.tiers.insert(machine, tier);
        let lease = Lease {
            holder: Some(host),
            generation: 1,
        };
        self.leases.insert(machine, lease);
        self.journal.at.insert(machine, (host, 1, false));
        if let Some(device) = self.hosts.get_mut(&host) {
            device.guests.insert(machine, (1, 0));
        }
    }

    fn below(&mut self, n: u64) -> u64 {
        self.rng ^= self.rng << 13;
        self.rng ^= self.rng >> 7;
        self.rng ^= self.rng << 17;
        self.rng % n.max(1)
    }
    fn say(&mut self, what: String) {
        self.story.push((self.now, what));
    }
    fn breaks(&mut self, what: String) {
        self.say(format!("BROKEN: {what}"));
        self.broken.push(what);
    }

    /// Runs to the end, or until something is broken.
    pub(crate) fn run(&mut self) {
        let begin = self.now;
        while self.now < begin + END && self.broken.is_empty() {
            let calm = self.now - begin >= CALM;
            if self.now - begin == CALM {
                self.mend();
            }
            if !calm && self.now - begin > 70_000 && self.below(60) == 0 {
                self.break_something();
            }
            self.step();
        }
        self.all_back();
    }

    pub(crate) fn told(&self) -> String {
        let mut text = String::new();
        let from = self.story.len().saturating_sub(90);
        for (at, what) in &self.story[from..] {
            let _ = writeln!(text, "{:>8.2} s  {what}", (*at as f64 - 100_000.0) / 1000.0);
        }
        text
    }

    fn step(&mut self) {
        self.now += STEP;
        self.steps += 1;
        let ids: Vec<HostId> = self.hosts.keys().copied().collect();
        for host in ids {
            self.lives(host);
        }
        while let Some((key, message)) = self.messages.pop_first() {
            if key.0 > self.now {
                self.messages.insert(key, message);
                break;
            }
            self.arrives(message);
        }
        if self.now.is_multiple_of(1000) && self.now >= self.guard_sleeps_until {
            self.tell(Input::Tick);
        }
        self.person();
    }

    fn lives(&mut self, host: HostId) {
        let (now, stalled) = (
            self.now,
            [self.disks[0].stalled_until, self.disks[1].stalled_until],
        );
        let Some(device) = self.hosts.get_mut(&host) else {
            return;
        };
        if !device.power || now < device.boots_until {
            return;
        }
        // The hardware's own clock goes on whatever hangs.
        if device.watchdog && device.age(now) >= RESET {
            device.comes_up(now);
            return self.say(format!("{host}: its watchdog resets it"));
        }
        if now < device.stalled_until {
            return;
        }
        if device.age(now) >= FREEZE && !device.frozen {
            device.frozen = true;
            self.story.push((now, format!("{host} freezes its guests")));
        }
        if now >= device.due {
            device.due = now + RENEW * 1000 / device.rate;
            let reached: Vec<usize> = (0..2)
                .filter(|v| device.reaches(*v) && stalled[*v] <= now)
                .collect();
            for volume in &reached {
                *self.disks[*volume].counters.entry(host).or_insert(0) += 1;
                self.disks[*volume].changed.insert(host, now);
            }
            if reached.is_empty() {
                device.due = now + 1000;
            } else {
                device.renewed = now;
                device.frozen = false;
                // Before guests go on it is looked who holds their leases.
                let leases = &self.leases;
                device.guests.retain(|m, (g, _)| {
                    leases[m].holder == Some(host) && leases[m].generation == *g
                });
            }
        }
        if now.is_multiple_of(1000) && !device.agent_dead && !device.mute {
            self.beats(host);
        }
    }

    fn beats(&mut self, host: HostId) {
        let now = self.now;
        let device = &self.hosts[&host];
        let running = device.guests.iter().map(|(m, (g, since))| Running {
            machine: *m,
            generation: *g,
            answers: now - since >= BOOT,
            pulse: None,
            held: false,
        });
        let beat = Input::Heard {
            host,
            boot: device.boot,
            watchdog: device.watchdog,
            running: running.collect(),
        };
        let paths = [0, 1].map(|v| device.reaches(v));
        self.send(Message::Told(beat), 1500);
        for (n, disk) in self.disks.clone().into_iter().enumerate() {
            if paths[n] && disk.stalled_until <= now {
                let volume = VolumeId(n as u64);
                let counters = disk.counters;
                self.send(Message::Told(Input::Leases { volume, counters }), 1500);
            }
        }
    }

    /// Over the network: lost, late, twice, out of order.
    fn send(&mut self, message: Message, late: u64) {
        let copies = 1 + u64::from(self.below(20) == 0);
        for _ in 0..copies {
            if self.below(100) >= self.loss {
                let at = self.now + 1 + self.below(late);
                self.number += 1;
                self.messages.insert((at, self.number), message.clone());
            }
        }
    }

    fn tell(&mut self, input: Input) {
        if self.now < self.guard_sleeps_until {
            return;
        }
        let orders = self
            .guard
            .advance(input, Moment(i64::try_from(self.now).unwrap_or(0)));
        for order in orders {
            self.order(order);
        }
    }

    fn order(&mut self, order: Order) {
        match order {
            Order::Record(note) => {
                if self.mutation == Mutation::Hasty
                    && let Note::Judged { host, .. } = &note
                {
                    self.hasty(*host);
                }
                let at = self.now.max(self.journal.answers_from) + 1 + self.below(400);
                self.number += 1;
                self.messages
                    .insert((at, self.number), Message::Written(note));
            }
            Order::SwitchOff { host } => {
                self.may_switch(host);
                self.send(Message::Ordered(order), 800);
            }
            Order::Withdraw { host, ask } => {
                self.may_cut(host, "shut out");
                self.say(format!("the guard has {host} shut out"));
                self.shut_out += 1;
                if self.mutation == Mutation::Trusting {
                    let refused = None;
                    self.tell(Input::Withdrawn { host, ask, refused });
                }
                self.send(Message::Ordered(order), 800);
            }
            Order::Reset { .. } => {
                self.breaks("nobody tells how guests do, and one is reset".into())
            }
            Order::ReadPower { .. } | Order::Start { .. } => {
                self.send(Message::Ordered(order), 800)
            }
        }
    }

    fn hasty(&mut self, host: HostId) {
        for (machine, (at, generation, _)) in self.journal.at.clone() {
            let other = self.hosts.keys().copied().find(|h| *h != host);
            if let Some(other) = other.filter(|_| at == host) {
                let order = Order::Start {
                    machine,
                    host: other,
                    boot: self.hosts[&other].boot,
                    generation: generation + 1,
                    fenced: vec![(host, generation)],
                };
                self.send(Message::Ordered(order), 800);
            }
        }
    }

    /// The limits on taking a host's power away.
    fn may_switch(&mut self, host: HostId) {
        self.switched_off += 1;
        self.say(format!("the guard has {host} switched off"));
        if let Some(last) = self.journal.switched.insert(host, self.now)
            && self.now - last < 600_000
        {
            self.breaks(format!("{host} was switched off twice within ten minutes"));
        }
        self.may_cut(host, "switched off");
    }

    /// The limits on taking anything away from a host.
    fn may_cut(&mut self, host: HostId, how: &str) {
        if self.silence(host) < 15_000 {
            let ago = self.silence(host);
            self.breaks(format!("{host} was heard {ago} ms ago and is {how}"));
        }
        let there: Vec<HostId> = self
            .hosts
            .keys()
            .copied()
            .filter(|h| !self.journal.off.contains(h))
            .collect();
        let unseen = there.iter().filter(|h| self.silence(**h) >= 15_000).count();
        if unseen * 2 > there.len() {
            let all = there.len();
            self.breaks(format!(
                "{host} is {how} while {unseen} of {all} are unseen"
            ));
        }
    }

    fn silence(&self, host: HostId) -> u64 {
        self.now - self.heard.get(&host).copied().unwrap_or(self.began)
    }

    fn arrives(&mut self, message: Message) {
        match message {
            Message::Told(input) => {
                if self.now >= self.guard_sleeps_until {
                    self.notes_beat(&input);
                    self.tell(input);
                }
            }
            Message::Ordered(Order::ReadPower { host, ask }) => self.reads(host, ask),
            Message::Ordered(Order::SwitchOff { host }) => self.switches(host),
            Message::Ordered(Order::Withdraw { host, ask }) => self.withdraws(host, ask),
            Message::Ordered(Order::Start {
                machine,
                host,
                boot,
                generation,
                fenced,
            }) if boot == self.hosts[&host].boot => {
                self.starts(machine, host, generation, &fenced);
            }
            Message::Ordered(Order::Start { .. }) => {}
            Message::Ordered(Order::Record(_) | Order::Reset { .. }) => {}
            Message::Written(note) => self.written(note),
        }
    }

    /// What the journal learns from a report.
    fn notes_beat(&mut self, input: &Input) {
        let Input::Heard {
            host,
            boot,
            running,
            ..
        } = input
        else {
            return;
        };
        let known = self.journal.boots.entry(*host).or_insert(*boot);
        if *boot < *known {
            return;
        }
        let restarted = *boot > *known;
        *known = *boot;
        self.heard.insert(*host, self.now);
        let mut changed = self.journal.off.remove(host);
        changed |= self.journal.judged.remove(host).is_some();
        for seen in running {
            let at = self
                .journal
                .at
                .entry(seen.machine)
                .or_insert((*host, 0, false));
            let now = (*host, seen.generation, false);
            if seen.generation >= at.1 && *at != now {
                *at = now;
                changed = true;
            }
        }
        if restarted {
            for (machine, at) in &mut self.journal.at {
                if at.0 == *host && !at.2 && !running.iter().any(|r| r.machine == *machine) {
                    at.2 = true;
                    changed = true;
                }
            }
        }
        if changed {
            self.plan();
        }
    }

    fn reads(&mut self, host: HostId, ask: u64) {
        let device = &self.hosts[&host];
        if device.bmc_dead {
            return;
        }
        let serial = host.to_string();
        let off = !device.power || self.now < device.flickers_until;
        let said = if off {
            Power::Off { serial }
        } else {
            Power::On { serial }
        };
        self.send(Message::Told(Input::Power { host, ask, said }), 800);
    }

    fn switches(&mut self, host: HostId) {
        let Some(device) = self.hosts.get_mut(&host).filter(|d| !d.bmc_dead) else {
            return;
        };
        if !device.bmc_lame {
            device.power = false;
            device.down();
        }
        let input = Input::Switched {
            host,
            refused: None,
        };
        self.send(Message::Told(input), 800);
    }

    fn withdraws(&mut self, host: HostId, ask: u64) {
        let Some(device) = self.hosts.get_mut(&host).filter(|d| !d.array_dead) else {
            return;
        };
        device.shut_out = true;
        self.say(format!("{host} is shut out"));
        let refused = None;
        self.send(Message::Told(Input::Withdrawn { host, ask, refused }), 800);
    }

    fn starts(
        &mut self,
        machine: MachineId,
        host: HostId,
        generation: u64,
        fenced: &[(HostId, u64)],
    ) {
        let device = &self.hosts[&host];
        let reaches = (0..2).any(|v| device.reaches(v)) && !device.frozen;
        if !device.up(self.now) || device.agent_dead || device.deaf || !reaches {
            return;
        }
        let lease = self.leases[&machine];
        let proved = lease
            .holder
            .filter(|h| fenced.contains(&(*h, lease.generation)));
        // One that runs it already says so.
        let again = lease.holder == Some(host) && device.guests.contains_key(&machine);
        let free = lease.holder.is_none() || proved.is_some();
        let result = if again {
            Ok(lease.generation)
        } else if free && generation > lease.generation {
            if let Some(old) = proved {
                let before = &self.hosts[&old];
                let runs = before
                    .guests
                    .get(&machine)
                    .is_some_and(|(g, _)| *g == lease.generation);
                if runs && before.may_write(self.now) {
                    self.breaks(format!(
                        "{machine} is started on {host} while {old} may write its disk"
                    ));
                }
            }
            let lease = Lease {
                holder: Some(host),
                generation,
            };
            self.leases.insert(machine, lease);
            let since = self.now;
            if let Some(device) = self.hosts.get_mut(&host) {
                device.guests.insert(machine, (generation, since));
            }
            self.restarted += 1;
            self.say(format!("{machine} starts on {host} under {generation}"));
            Ok(generation)
        } else {
            let said = format!("{:?} holds it at {}", lease.holder, lease.generation);
            Err(Refusal { said, open: false })
        };
        let input = Input::Started {
            machine,
            host,
            result,
        };
        if !self.hosts[&host].mute {
            self.send(Message::Told(input), 800);
        }
    }

    fn written(&mut self, note: Note) {
        self.say(format!("written: {note:?}"));
        let recorded = match note {
            Note::Judged { host, act, .. } => {
                self.journal.judged.insert(host, act);
                Some((host, false))
            }
            Note::Fenced { host, proof } => {
                self.fenced(host, &proof);
                Some((host, true))
            }
            Note::Back { host } => {
                self.journal.judged.remove(&host);
                None
            }
            Note::Starts { machine, to, .. } => {
                let generation = self.leases[&machine].generation;
                let at = self.journal.at.entry(machine).or_insert((to, 0, false));
                if generation > at.1 {
                    *at = (to, generation, false);
                }
                None
            }
            Note::Waits { host, .. } | Note::Doubted { host, .. } => {
                let when = self.now + 60_000 + self.below(60_000);
                self.people.entry(host).or_insert(when);
                None
            }
            Note::NotStarted {
                machine,
                last: true,
                ..
            } => {
                self.given_up.insert(machine);
                None
            }
            Note::CutOff { .. }
            | Note::Said { .. }
            | Note::Up { .. }
            | Note::NotStarted { .. }
            | Note::Hangs { .. }
            | Note::Revived { .. }
            | Note::Left { .. } => None,
        };
        self.plan();
        if let Some((host, fenced)) = recorded {
            self.tell(Input::Recorded { host, fenced });
        }
    }

    fn fenced(&mut self, host: HostId, proof: &Proof) {
        self.journal.judged.remove(&host);
        self.journal.off.insert(host);
        for at in self.journal.at.values_mut().filter(|at| at.0 == host) {
            at.2 = true;
        }
        // One whose lease has run out is proved by that too.
        let renewed = self.disks.iter().filter_map(|d| d.changed.get(&host)).max();
        let on_word = renewed.is_none_or(|at| self.now - at < 88_000);
        if *proof == Proof::Controller && on_word && self.mutation == Mutation::None {
            self.fenced_on_word.push(self.now);
            let lately = self
                .fenced_on_word
                .iter()
                .filter(|at| self.now - **at < 59_000)
                .count();
            if lately > (self.hosts.len() / 4).max(1) {
                self.breaks(format!(
                    "{lately} hosts are fenced on controllers' word within a minute"
                ));
            }
        }
    }

    pub(crate) fn plan(&mut self) {
        self.journal.revision += 1;
        let wards = self.hosts.iter().map(|(id, device)| {
            let ward = Ward {
                storage: device.array,
                name: id.to_string(),
                serial: id.to_string(),
                controller: true,
                off: self.journal.off.contains(id),
                judged: self.journal.judged.get(id).copied(),
                switched: self.journal.switched.get(id).map(|at| Span(self.now - at)),
            };
            (*id, ward)
        });
        let charges = self
            .journal
            .at
            .iter()
            .map(|(id, (host, generation, fallen))| {
                let charge = Charge {
                    name: id.to_string(),
                    host: *host,
                    generation: *generation,
                    fallen: *fallen,
                    tier: self.tiers[id],
                    after: None,
                    boots_in: Some(Span(BOOT)),
                };
                (*id, charge)
            });
        let plan = Plan {
            stamp: Stamp(1, self.journal.revision),
            wards: wards.collect(),
            charges: charges.collect(),
            table: self.table(),
            on_word: self
                .fenced_on_word
                .iter()
                .map(|at| Span(self.now - at))
                .collect(),
        };
        self.tell(Input::Plan(Box::new(plan)));
    }

    fn table(&self) -> Table {
        let place: Vec<HostId> = self.hosts.keys().copied().collect();
        let hosts = place.iter().map(|id| HostRow {
            id: Some(*id),
            name: id.to_string(),
            room: [100; 5],
            closed: self
                .journal
                .off
                .contains(id)
                .then(|| "it is off".to_owned())
                .or(self.hosts[id]
                    .shut_out
                    .then(|| "it reaches nothing".to_owned())),
            ..HostRow::default()
        });
        let machines = self.journal.at.iter().map(|(id, (host, ..))| MachineRow {
            id: Some(*id),
            name: id.to_string(),
            needs: [5; 5],
            kept: 5,
            tier: self.tiers[id],
            at: place.iter().position(|h| h == host),
            only: None::<Arc<Vec<bool>>>,
            ..MachineRow::default()
        });
        Table {
            hosts: hosts.collect(),
            machines: machines.collect(),
            groups: vec![],
            boot: None,
        }
    }

    /// Looks, pulls the plug where it must, and vouches for it.
    fn person(&mut self) {
        let due: Vec<HostId> = self
            .people
            .iter()
            .filter(|(_, at)| **at <= self.now)
            .map(|(h, _)| *h)
            .collect();
        for host in due {
            self.people.remove(&host);
            if self.silence(host) < 15_000 {
                continue;
            }
            if let Some(device) = self.hosts.get_mut(&host) {
                device.power = false;
                device.down();
            }
            self.say(format!(
                "a person pulls the plug of {host} and vouches for it"
            ));
            self.tell(Input::Declared { host });
        }
    }

    fn break_something(&mut self) {
        let n = self.hosts.len() as u64;
        let host = HostId(1 + self.below(n));
        let (now, for_long, kind) = (self.now, 1000 * (1 + self.below(120)), self.below(16));
        let disk = usize::from(self.below(2) == 1);
        if kind == 10 {
            // A flicker that two looks see through.
            let until = now + 500 + self.below(2400);
            if let Some(device) = self.hosts.get_mut(&host) {
                device.flickers_until = until;
            }
            return self.say(format!("the controller of {host} says off for a moment"));
        }
        let Some(device) = self.hosts.get_mut(&host) else {
            return;
        };
        let what = match kind {
            0 | 1 => {
                device.power = false;
                device.down();
                "loses its power"
            }
            2 => {
                device.power = false;
                device.down();
                device.bmc_dead = true;
                "loses its power, and its controller with it"
            }
            3 | 4 => {
                device.stalled_until = now + for_long;
                "hangs"
            }
            5 => {
                device.agent_dead = !device.agent_dead;
                "its agent dies, or comes back"
            }
            6 => {
                device.mute = !device.mute;
                "is not heard, or is again"
            }
            7 => {
                device.deaf = !device.deaf;
                "hears nothing, or does again"
            }
            8 => {
                device.paths[disk] = !device.paths[disk];
                "loses a path, or has it back"
            }
            9 => {
                (device.bmc_dead, device.bmc_lame) = (for_long.is_multiple_of(2), !device.bmc_lame);
                "its controller misbehaves, or not"
            }
            15 => {
                device.array_dead = !device.array_dead;
                "its array answers nothing, or does again"
            }
            11 => {
                device.deaf = true;
                device.mute = true;
                "is cut off from the guard"
            }
            12 if !device.power => {
                device.comes_up(now);
                "comes back"
            }
            12 => "goes on",
            13 => return self.break_storage_or_journal(disk, for_long),
            _ => return self.break_guard(for_long),
        };
        self.say(format!("{host} {what}"));
    }

    fn break_storage_or_journal(&mut self, disk: usize, for_long: u64) {
        if for_long.is_multiple_of(2) {
            self.disks[disk].stalled_until = self.now + for_long.min(50_000);
            return self.say(format!("volume {disk} stalls for {for_long} ms"));
        }
        self.journal.answers_from = self.now + for_long / 2;
        self.say(format!(
            "the journal answers nothing for {} ms",
            for_long / 2
        ));
    }

    fn break_guard(&mut self, for_long: u64) {
        match self.below(3) {
            0 => {
                self.loss = if self.loss == 0 { 30 } else { 0 };
                self.say(format!("{} % of what is sent is lost", self.loss));
            }
            1 => {
                self.guard_sleeps_until = self.now + for_long;
                self.say(format!("the guard sleeps for {for_long} ms"));
            }
            _ => self.another_guard(),
        }
    }

    /// The guard dies; another one takes over with nothing but the journal. What was on its way to the journal is lost.
    fn another_guard(&mut self) {
        self.say("another guard takes over".into());
        self.messages
            .retain(|_, m| !matches!(m, Message::Written(_)));
        self.guard = Guard::new(
            self.mutation.times(),
            Moment(i64::try_from(self.now).unwrap_or(0)),
        );
        self.began = self.now;
        self.heard.clear();
        self.plan();
    }

    fn mend(&mut self) {
        self.say("everything is mended".into());
        let now = self.now;
        for device in self.hosts.values_mut() {
            if !device.power {
                device.comes_up(now);
            }
            device.stalled_until = device.stalled_until.min(now);
            (device.agent_dead, device.mute, device.deaf) = (false, false, false);
            (device.bmc_dead, device.bmc_lame, device.paths) = (false, false, [true, true]);
            (device.array_dead, device.shut_out) = (false, false);
        }
        for disk in &mut self.disks {
            disk.stalled_until = 0;
        }
        (
            self.loss,
            self.guard_sleeps_until,
            self.journal.answers_from,
        ) = (0, 0, 0);
        self.people.clear();
    }

    fn all_back(&mut self) {
        if !self.broken.is_empty() {
            return;
        }
        let machines: Vec<MachineId> = self.tiers.keys().copied().collect();
        for machine in machines {
            let lease = self.leases[&machine];
            let on: Vec<HostId> = self
                .hosts
                .iter()
                .filter(|(h, d)| {
                    let runs = d
                        .guests
                        .get(&machine)
                        .is_some_and(|(g, _)| *g == lease.generation);
                    d.power && !d.frozen && runs && lease.holder == Some(**h)
                })
                .map(|(h, _)| *h)
                .collect();
            if on.len() != 1 && !self.given_up.contains(&machine) {
                self.breaks(format!(
                    "{machine} runs on {on:?} long after everything was mended"
                ));
            }
        }
    }
}
