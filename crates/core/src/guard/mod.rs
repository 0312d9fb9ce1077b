//! High availability: who has failed, how that is proved, and what is started where (rules, section 4; safety). Nobody else
//! decides any of it. Start at [`Guard::advance`].
//!
//! A guard watches one cluster. It is told what was seen and what came of its orders, and answers with new orders; it has
//! no clock, no memory outside itself and no devices, so that the leader of the engine and a keeper use the same, and the
//! simulation can try it in virtual time. Every `now` is the reader's own monotonic clock: clocks are never compared, a lease
//! is alive when its counter was seen to change.
//!
//! ```text
//! heard ─► silent 15 s ─┬─ lease alive ─► cut off: its machines go on, or, where that says that they have no links, it is told
//!                       │                 through it to end them, and they start elsewhere once it says that it did
//!                       └─ lease still ─► its controller is read
//!                              ├─ off, twice ──────────────► proved ─┐
//!                              ├─ on ──► judged ─► switched off ─────┤
//!                              ├─ silent ► its arrays shut it out ───┼─► fenced ─► machines start elsewhere
//!                              ├─ no array to tell, watchdog armed ──┤
//!                              └─ none of that ────────► a person ───┘
//! heard, and some of its machines lack ─┬─ their volume, which others reach ─► ended there ─► start elsewhere
//!                                       └─ their networks ─► moved away, by whoever can
//! ```

mod cases;
mod lacking;
mod leases;
mod order;
mod plan;
mod pulse;
mod restart;
mod seat;
mod times;
mod told;

pub use crate::estate::Act;
pub use leases::Word;
pub use order::{Input, Note, Order, Power, Proof, Pulse, Refusal, Running};
pub use plan::{Charge, Plan, Stamp, Ward};
pub use seat::{Hears, Held, Seat};
pub use times::Times;
pub use told::{Line, Told};

use crate::{
    estate::Lack,
    ids::{HostId, MachineId, VolumeId},
    moment::{Moment, Span},
};
use cases::Watched;
use lacking::{Ending, Lacking};
use leases::Leases;
use pulse::Heart;
use restart::Job;
use std::collections::{BTreeMap, BTreeSet, VecDeque};

/// The watch over one cluster.
#[derive(Debug, Clone)]
pub struct Guard {
    times: Times,
    /// When it began to look; nobody is judged anew before one full lease has passed since.
    began: Moment,
    /// When it last looked.
    last: Moment,
    plan: Plan,
    watched: BTreeMap<HostId, Watched>,
    leases: BTreeMap<VolumeId, Leases>,
    jobs: BTreeMap<MachineId, Job>,
    /// When more than half of the hosts were last gone at once, or something of that was not over.
    dark: Option<Moment>,
    hearts: BTreeMap<MachineId, Heart>,
    /// Hosts that are alive and can't serve some of their machines, by what those lack.
    lacking: BTreeMap<(HostId, Lack), Lacking>,
    ending: BTreeMap<MachineId, Ending>,
    /// When hosts were fenced on nothing but their controller's word.
    on_word: VecDeque<Moment>,
    /// When each tier's first machine was asked to start.
    tiers: BTreeMap<u8, Moment>,
    orders: Vec<Order>,
}

impl Guard {
    /// One that knows nothing yet and holds every host unknown.
    pub fn new(times: Times, now: Moment) -> Self {
        Guard {
            times,
            began: now,
            last: now,
            plan: Plan::default(),
            watched: BTreeMap::new(),
            leases: BTreeMap::new(),
            jobs: BTreeMap::new(),
            dark: None,
            hearts: BTreeMap::new(),
            lacking: BTreeMap::new(),
            ending: BTreeMap::new(),
            on_word: VecDeque::new(),
            tiers: BTreeMap::new(),
            orders: Vec::new(),
        }
    }

    /// Takes in what was seen or answered, and says what shall be done.
    pub fn advance(&mut self, input: Input, now: Moment) -> Vec<Order> {
        self.wakes(now);
        match input {
            Input::Plan(plan) => self.planned(*plan, now),
            Input::Heard {
                host,
                boot,
                watchdog,
                running,
            } => self.heard(host, boot, watchdog, &running, now),
            Input::Leases { volume, leases } => {
                self.leases.entry(volume).or_default().read(leases, now);
            }
            Input::Power { host, ask, said } => self.power(host, ask, said, now),
            Input::Withdrawn { host, ask, refused } => self.withdrawn(host, ask, refused),
            Input::Switched { host, refused } => self.switched(host, refused),
            Input::Recorded { host, fenced } => self.recorded(host, fenced, now),
            Input::Started {
                machine,
                host,
                result,
            } => self.started(machine, host, result, now),
            Input::GuestRecorded { machine } => self.guest_recorded(machine, now),
            Input::WasReset { machine, result } => self.was_reset(machine, result, now),
            Input::LackRecorded { host, lack } => self.lack_recorded(host, lack),
            Input::Ended {
                machine,
                host,
                result,
            } => self.ended(machine, host, result, now),
            Input::Permitted => self.permitted(),
            Input::Declared { host } => self.declared(host, now),
            Input::Tick => {}
        }
        self.darkens(now);
        self.look_at_hosts(now);
        self.look_at_lacking(now);
        self.look_at_machines(now);
        self.look_at_guests(now);
        std::mem::take(&mut self.orders)
    }

    /// A newer plan takes the place of the one it has; an older one never does.
    fn planned(&mut self, plan: Plan, now: Moment) {
        if plan.stamp < self.plan.stamp {
            return;
        }
        if self.plan.wards.is_empty() {
            self.on_word = plan.on_word.iter().map(|ago| now.before(*ago)).collect();
        }
        self.watched.retain(|id, _| plan.wards.contains_key(id));
        let mut proved = Vec::new();
        for (id, ward) in &plan.wards {
            let watched = self
                .watched
                .entry(*id)
                .or_insert_with(|| Watched::new(ward, now));
            proved.extend(watched.meets(ward).then_some(*id));
        }
        self.plan = plan;
        self.darkens(now);
        self.jobs_follow_plan();
        // Whatever was about to start there is off too.
        proved.into_iter().for_each(|host| self.fall(host));
    }

    /// Whether more than half of the hosts are gone, or came back without what they ran; and until all of it runs again, and a
    /// whole lease was quiet.
    fn darkens(&mut self, now: Moment) {
        let charges = self.plan.charges.values();
        let fell: BTreeSet<HostId> = charges.filter(|c| c.fallen).map(|c| c.host).collect();
        let judges = now.since(self.began) >= self.times.lease;
        let most = fell.len() * 2 > self.plan.wards.len();
        let still = self.dark.is_some() && (!fell.is_empty() || !self.jobs.is_empty());
        if most || still || judges && self.most_are_unseen(now) {
            self.dark = Some(now);
        } else if self
            .dark
            .is_some_and(|at| now.since(at) >= self.times.lease)
        {
            self.dark = None;
        }
    }

    /// Whoever slept heard nobody, and must not take that for everybody's silence: it looks anew.
    fn wakes(&mut self, now: Moment) {
        let slept = now.since(self.last) >= Span(self.times.silent.0 / 2);
        self.last = now;
        if slept {
            self.began = now;
            self.watched.values_mut().for_each(|w| w.looks_anew(now));
            self.hearts.values_mut().for_each(|h| h.listens_anew(now));
            self.lacking.values_mut().for_each(|l| l.looks_anew(now));
        }
    }

    fn note(&mut self, note: Note) {
        self.orders.push(Order::Record(note));
    }
}
