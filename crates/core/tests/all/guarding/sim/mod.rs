//! A cluster in virtual time around one guard, and the one before it: hosts with leases, watchdogs and clocks of their own,
//! controllers, volumes that keep run leases, a network that loses, delays, repeats and cuts one way, a journal, and a person who acts on what waits.
//! The same seed is the same story.

mod device;
mod faults;
mod journal;
mod orders;

use device::Device;
use journal::Journal;
use std::{
    collections::{BTreeMap, BTreeSet},
    fmt::Write as _,
    sync::Arc,
};
use zastrugi_core::{
    availability::{HostRow, MachineRow, Table},
    estate::Lack,
    guard::{
        Act, Charge, Guard, Input, Note, Order, Plan, Power, Proof, Refusal, Running, Stamp, Times,
        Ward, Word,
    },
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
};

/// So long whoever is deposed may order on: half of the time after which its seat is free.
const DEPOSED: u64 = 7_500;
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
    /// A machine whose host was told to end it counts as ended.
    Unconfirmed,
    /// A host whose lease tells it to end what it runs counts as one that did.
    Unheard,
    /// Whoever was deposed goes on, and what it writes is taken.
    Lingering,
}

impl Mutation {
    fn times(self) -> Times {
        let times = Times::default();
        match self {
            Mutation::None
            | Mutation::Hasty
            | Mutation::Trusting
            | Mutation::Unconfirmed
            | Mutation::Unheard
            | Mutation::Lingering => times,
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
struct Disk {
    stalled_until: u64,
    leases: BTreeMap<HostId, Word>,
    /// What stands beside them for each host.
    told: BTreeMap<HostId, u64>,
    /// When each was last renewed.
    changed: BTreeMap<HostId, u64>,
}

#[derive(Debug, Clone, Copy)]
struct Lease {
    holder: Option<HostId>,
    generation: u64,
}

#[derive(Debug, Clone)]
enum Message {
    Told(Input),
    /// A report, with its number, and whom the host ended since its boot.
    Beat(u64, Input, BTreeSet<MachineId>),
    Ordered(Order),
    Written(Note),
}

pub(crate) struct Sim {
    rng: u64,
    pub(crate) now: u64,
    guard: Guard,
    /// The one before, until it knows that it decides no more: what it writes is not taken, what it orders arrives.
    old: Option<(Guard, u64)>,
    mutation: Mutation,
    hosts: BTreeMap<HostId, Device>,
    disks: Vec<Disk>,
    leases: BTreeMap<MachineId, Lease>,
    pub(crate) tiers: BTreeMap<MachineId, u8>,
    /// Machines that another site may take over.
    pub(crate) shared: BTreeSet<MachineId>,
    journal: Journal,
    messages: BTreeMap<(u64, u64), Message>,
    number: u64,
    loss: u64,
    guard_sleeps_until: u64,
    heard: BTreeMap<HostId, u64>,
    /// The same, of whoever guarded before too.
    heard_ever: BTreeMap<HostId, u64>,
    /// Whether what is ordered now is ordered by the one before.
    by_the_old: bool,
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
    /// Machines that hosts were told to end.
    pub(crate) ended_before: usize,
    pub(crate) told_by_lease: usize,
}

/// The volume that a machine is on.
fn disk_of(machine: MachineId) -> usize {
    usize::from(machine.0 % 2 == 1)
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
    /// Switches a host on again.
    pub(crate) fn switch_on(&mut self, n: u64) {
        let now = self.now;
        self.host(n).comes_up(now);
    }
    /// Somebody says that nothing was taken over elsewhere; the journal knows it too.
    pub(crate) fn permit(&mut self) {
        self.journal.unsure.clear();
        self.tell(Input::Permitted);
        self.plan();
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
            old: None,
            mutation,
            hosts: BTreeMap::new(),
            disks: vec![Disk::default(); 2],
            leases: BTreeMap::new(),
            tiers: BTreeMap::new(),
            shared: BTreeSet::new(),
            journal: Journal::default(),
            messages: BTreeMap::new(),
            number: 0,
            loss: 0,
            guard_sleeps_until: 0,
            heard: BTreeMap::new(),
            heard_ever: BTreeMap::new(),
            by_the_old: false,
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
            ended_before: 0,
            told_by_lease: 0,
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
        // Counters of one volume say nothing of another's.
        for host in 1..=hosts {
            let word = Word {
                counter: 1 + sim.below(20),
                ..Word::default()
            };
            sim.disks[0].leases.insert(HostId(host), word);
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
        let now = Moment(i64::try_from(self.now).unwrap_or(0));
        let late = match &mut self.old {
            Some((old, until)) if self.now < *until && !matches!(input, Input::Plan(_)) => {
                old.advance(input.clone(), now)
            }
            _ => vec![],
        };
        let orders = self.guard.advance(input, now);
        for order in orders {
            self.order(order);
        }
        self.by_the_old = true;
        for order in late {
            if !matches!(order, Order::Record(_)) || self.mutation == Mutation::Lingering {
                self.order(order);
            }
        }
        self.by_the_old = false;
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
