//! What movers do between two sites. The original is not taken for it: what is read is a state that stands still.

use super::Event;
use crate::{
    estate::{Disk, Estate, MachineState, Way},
    finding::{Finding, Rule},
    ids::{HostId, JobId, MachineId, SiteId, VolumeId},
    moment::Span,
    road::{Left, Length, Premise, Urgency, Work},
    runs::{Lock, Object},
    units::Bytes,
    view::View,
};
use serde::{Deserialize, Serialize};
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

impl Step {
    pub fn way(&self) -> Way {
        let Step::Follow { way, .. } = self;
        *way
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        "replicate what changed"
    }

    fn length(&self) -> Length {
        let Step::Follow { time, .. } = self;
        Length::Computed(*time)
    }

    fn pause(&self) -> Span {
        Span::millis(500)
    }

    fn goes_on(&self) -> bool {
        // A mover carries on by itself until it is told to stop.
        true
    }

    fn carried_at(&self, estate: &Estate) -> Vec<SiteId> {
        let road = estate.road(self.way());
        road.map_or_else(Vec::new, |r| vec![r.from.site, r.to.site])
    }

    fn device(&self, _estate: &Estate) -> Option<Object> {
        let Step::Follow { to, .. } = self;
        Some(Object::Host(*to))
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let Step::Follow { machine, replica, way, job, .. } = self;
        let all = [Object::Machine(*machine), Object::Machine(*replica), Object::Pair(way.pair)];
        all.into_iter().chain(job.map(Object::Job)).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        let Step::Follow { replica, .. } = self;
        vec![Lock::exclusive(Object::Machine(*replica))]
    }

    fn premise(&self, view: &View) -> Premise {
        let Step::Follow { machine, snapshot, replica, to, volume, .. } = self;
        let there = Premise::exist(view, &[Object::Host(*to), Object::Volume(*volume)]);
        there.and(|| taken(view, *machine, *snapshot)).and(|| follows(view, *machine, *replica))
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
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
