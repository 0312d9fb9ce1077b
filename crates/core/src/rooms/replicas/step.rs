//! What movers do between two sites. The original is not taken for it: what is read is a state that stands still.

use super::Event;
use crate::{
    estate::{Disk, Estate, MachineState, Memory, Way},
    finding::{Finding, Rule},
    ids::{HostId, JobId, MachineId, SiteId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    units::Bytes,
    view::View,
};
use serde::{Deserialize, Serialize};
use std::net::IpAddr;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, strum::VariantNames)]
#[strum(serialize_all = "snake_case")]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// What changed since the last point goes over, and becomes the next point at once.
    Follow {
        machine: MachineId,
        /// Where it is read, if the machine is off by then.
        via: HostId,
        /// The point has its identity too.
        snapshot: Uuid,
        way: Way,
        replica: MachineId,
        /// Where it arrives.
        to: HostId,
        volume: VolumeId,
        delivery: Uuid,
        /// All disks that the replica has then.
        disks: Vec<Onto>,
        /// As it was computed.
        bytes: Bytes,
        time: Span,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<JobId>,
        /// Both sides are compared, whatever is known of what changed.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        whole: bool,
        /// Whose points are of the same instant.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        group: Option<Uuid>,
    },
    /// Both sides say what they hold of what the last copy touched, and it is the same.
    Compare {
        machine: MachineId,
        /// Where it is read, if the machine is off by then.
        via: HostId,
        snapshot: Uuid,
        way: Way,
        replica: MachineId,
        to: HostId,
        time: Span,
    },
    /// No device: from now on these shall be off, whatever becomes of their hosts.
    Rest { machines: Vec<MachineId> },
    /// No device: all of these go on at the other site, and what they were is their replicas.
    Over {
        way: Way,
        members: Vec<Member>,
        /// Whatever became of the originals.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        forced: bool,
    },
    /// No device: what it holds by this snapshot is its first point.
    Regard { replica: MachineId, snapshot: Uuid },
    /// Its host there knows what it is now.
    Settle(Box<Settle>),
}

/// One that goes on with what its replica has.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Member {
    pub machine: MachineId,
    pub replica: MachineId,
    /// What its body at this side is called then.
    pub behind: String,
    /// The point that the replica must stand on.
    pub point: Uuid,
}

/// What a host is told of a machine that changed places with another.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Settle {
    pub machine: MachineId,
    pub via: HostId,
    pub name: String,
    pub vcpus: u32,
    pub vcpus_max: u32,
    pub memory: Memory,
    /// Of each of its cards, in their order.
    pub addresses: Vec<Vec<IpAddr>>,
    /// From this point on it can be told what changed.
    pub mark: Option<Uuid>,
    /// It shall be on there from now on; none: it stays off.
    pub starts: Option<HostId>,
}

/// A disk of the replica.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Onto {
    /// The disk of the original, by its key.
    pub original: Uuid,
    pub disk: Disk,
    /// It did not have it before.
    pub new: bool,
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Follow { .. } => "replicate what changed",
            Step::Compare { .. } => "compare both sides",
            Step::Rest { .. } => "they shall be off",
            Step::Over { .. } => "go on at the other site",
            Step::Regard { .. } => "follow again",
            Step::Settle { .. } => "tell its host what it is",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Follow { time, .. } | Step::Compare { time, .. } => Length::Computed(*time),
            Step::Rest { .. } | Step::Over { .. } | Step::Regard { .. } => Length::Computed(Span(0)),
            Step::Settle { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(500)
    }

    fn may_be_left(&self) -> bool {
        matches!(self, Step::Settle { .. })
    }

    fn goes_on(&self) -> bool {
        // A mover carries on by itself until it is told to stop.
        matches!(self, Step::Follow { .. } | Step::Compare { .. })
    }

    fn carried_at(&self, estate: &Estate) -> Vec<SiteId> {
        match self {
            Step::Follow { way, .. } => {
                let road = estate.road(*way);
                road.map_or_else(Vec::new, |r| vec![r.from.site, r.to.site])
            }
            Step::Compare { .. } | Step::Rest { .. } | Step::Over { .. } | Step::Regard { .. } | Step::Settle { .. } => vec![],
        }
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        match self {
            Step::Follow { to, .. } | Step::Compare { to, .. } => Some(Object::Host(*to)),
            Step::Settle(settle) => Some(Object::Host(settle.via)),
            Step::Rest { .. } | Step::Over { .. } | Step::Regard { .. } => None,
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        match self {
            Step::Follow { machine, replica, way, job, .. } => {
                let all = [Object::Machine(*machine), Object::Machine(*replica), Object::Pair(way.pair)];
                all.into_iter().chain(job.map(Object::Job)).collect()
            }
            Step::Compare { machine, replica, way, .. } => vec![Object::Machine(*machine), Object::Machine(*replica), Object::Pair(way.pair)],
            Step::Rest { machines } => machines.iter().copied().map(Object::Machine).collect(),
            Step::Over { way, members, .. } => {
                let both = members.iter().flat_map(|m| [m.machine, m.replica]);
                both.map(Object::Machine).chain([Object::Pair(way.pair)]).collect()
            }
            Step::Regard { replica, .. } => vec![Object::Machine(*replica)],
            Step::Settle(settle) => vec![Object::Machine(settle.machine), Object::Host(settle.via)],
        }
    }

    fn locks(&self) -> Vec<Lock> {
        let alone = |id: &MachineId| Lock::exclusive(Object::Machine(*id));
        match self {
            Step::Follow { replica, .. } | Step::Compare { replica, .. } => vec![alone(replica)],
            Step::Rest { machines } => machines.iter().map(alone).collect(),
            Step::Over { members, .. } => members.iter().flat_map(|m| [&m.machine, &m.replica]).map(alone).collect(),
            Step::Regard { replica, .. } => vec![alone(replica)],
            Step::Settle(settle) => vec![alone(&settle.machine), Lock::shared(Object::Host(settle.via))],
        }
    }

    fn premise(&self, view: &View) -> Premise {
        match self {
            Step::Follow { machine, snapshot, replica, to, volume, .. } => {
                let there = Premise::exist(view, &[Object::Host(*to), Object::Volume(*volume)]);
                there.and(|| taken(view, *machine, *snapshot)).and(|| follows(view, *machine, *replica))
            }
            Step::Compare { machine, snapshot, replica, to, .. } => {
                let there = Premise::exist(view, &[Object::Host(*to)]);
                there.and(|| taken(view, *machine, *snapshot)).and(|| follows(view, *machine, *replica))
            }
            Step::Rest { .. } => Premise::Holds,
            Step::Over { members, forced, .. } => over(view, members, *forced),
            Step::Regard { replica, snapshot } => taken(view, *replica, *snapshot),
            Step::Settle(settle) => Premise::exist(view, &[Object::Host(settle.via)]).and(|| Premise::live(view, settle.machine)),
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}

/// Each is off, and its replica holds that point and nothing else; or all of it is so already.
fn over(view: &View, members: &[Member], forced: bool) -> Premise {
    let all = &view.estate.machines;
    let done = |m: &Member| all.get(&m.replica).is_some_and(|r| r.replica.as_ref().map(|of| of.of) == all.get(&m.machine).map(|w| w.uuid) && r.name == m.behind);
    if members.iter().all(done) {
        return Premise::Reached("They are there already.".into());
    }
    for m in members {
        let (Some(machine), Some(replica)) = (all.get(&m.machine), all.get(&m.replica)) else {
            return Finding::stop(Rule::Exists, "machine", "The machine, or its replica, is gone.").into();
        };
        let (name, at) = (&machine.name, &replica.name);
        let wrong = match replica.snapshots.rests_on {
            _ if !machine.is_off() && !forced => Some(format!("{name} is on.")),
            _ if !replica.is_off() => Some(format!("{at} is on.")),
            Some(point) if point == m.point => None,
            Some(_) | None => Some(format!("{at} does not hold what {name} is to go on from.")),
        };
        if let Some(text) = wrong {
            return Finding::stop(Rule::State, name, text).into();
        }
    }
    Premise::Holds
}

fn taken(view: &View, machine: MachineId, snapshot: Uuid) -> Premise {
    let machine = view.estate.machines.get(&machine);
    match machine.map(|m| (m, m.snapshots.get(snapshot))) {
        Some((_, Some(_))) => Premise::Holds,
        Some((m, None)) => Finding::stop(Rule::Exists, &m.name, "The state that was to be replicated is gone.").into(),
        None => Finding::stop(Rule::Exists, "machine", "The machine is gone.").into(),
    }
}

/// The replica is one of this machine, made, and off.
fn follows(view: &View, machine: MachineId, replica: MachineId) -> Premise {
    let all = &view.estate.machines;
    let own = all.get(&replica).filter(|m| m.deleted.is_none());
    let of = all.get(&machine).map(|m| m.uuid);
    match own {
        None => Finding::stop(Rule::Exists, "replica", "The replica is gone.").into(),
        Some(m) if m.replica.as_ref().map(|r| r.of) != of => {
            Finding::stop(Rule::State, &m.name, format!("{} follows it no more.", m.name)).into()
        }
        Some(m) if m.state == MachineState::Planned => Finding::stop(Rule::State, &m.name, format!("{} is not made yet.", m.name)).into(),
        Some(m) if !m.is_off() => Finding::stop(Rule::State, &m.name, format!("{} is on.", m.name)).into(),
        Some(_) => Premise::Holds,
    }
}
