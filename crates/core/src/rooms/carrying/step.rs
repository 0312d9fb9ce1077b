//! What movers do. The machine is not taken for it: it runs, moves and is edited meanwhile, for what is read is a state that stands
//! still; where it is by then, it is read there.

use super::Event;
use crate::{
    estate::{Disk, Estate, MachineState, PointAt},
    finding::{Finding, Rule},
    ids::{HostId, JobId, MachineId, SeriesId, SiteId, StoreId, VolumeId},
    moment::{Moment, Span},
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
    Copy {
        machine: MachineId,
        via: HostId,
        /// The point has its identity too.
        snapshot: Uuid,
        store: StoreId,
        series: SeriesId,
        /// As it was computed.
        bytes: Bytes,
        time: Span,
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<JobId>,
        /// Until then the point is wanted.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        ends: Option<Moment>,
        /// Only these of its disks, by their keys; none: all.
        #[serde(default, skip_serializing_if = "Vec::is_empty")]
        only: Vec<Uuid>,
        /// All of them is read, whatever is known of what changed.
        #[serde(default, skip_serializing_if = "std::ops::Not::not")]
        whole: bool,
        /// Whose points are of the same instant.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        group: Option<Uuid>,
    },
    /// Disks of a point come to the volume of a machine, and lie there for it.
    Bring {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        delivery: Uuid,
        point: PointAt,
        /// By their keys in the point.
        disks: Vec<Uuid>,
        time: Span,
    },
    /// What was brought becomes what its disks hold, all at once.
    Place {
        machine: MachineId,
        via: HostId,
        volume: VolumeId,
        delivery: Uuid,
        point: PointAt,
        disks: Vec<Placed>,
    },
}

/// Where a disk of a point goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Placed {
    /// Its key in the point.
    pub from: Uuid,
    pub onto: Disk,
    /// One more than the machine had.
    pub new: bool,
}

impl Step {
    pub fn machine(&self) -> MachineId {
        match self {
            Step::Copy { machine, .. } | Step::Bring { machine, .. } | Step::Place { machine, .. } => *machine,
        }
    }
    pub fn store(&self) -> StoreId {
        match self {
            Step::Copy { store, .. } => *store,
            Step::Bring { point, .. } | Step::Place { point, .. } => point.store,
        }
    }
    pub fn via(&self) -> HostId {
        match self {
            Step::Copy { via, .. } | Step::Bring { via, .. } | Step::Place { via, .. } => *via,
        }
    }
}

impl Work for Step {
    type Event = Event;

    fn group(&self) -> &'static str {
        match self {
            Step::Copy { .. } => "copy to a store",
            Step::Bring { .. } => "bring from a store",
            Step::Place { .. } => "put what was brought in place",
        }
    }

    fn length(&self) -> Length {
        match self {
            Step::Copy { time, .. } | Step::Bring { time, .. } => Length::Computed(*time),
            Step::Place { .. } => Length::Call(Span::secs(1)),
        }
    }

    fn pause(&self) -> Span {
        Span::millis(500)
    }

    fn goes_on(&self) -> bool {
        match self {
            // A mover carries on by itself until it is told to stop.
            Step::Copy { .. } | Step::Bring { .. } => true,
            Step::Place { .. } => false,
        }
    }

    fn carried_at(&self, estate: &Estate) -> Vec<SiteId> {
        match self {
            // At the end where the hosts are.
            Step::Copy { machine, .. } | Step::Bring { machine, .. } => {
                let machine = estate.machines.get(machine);
                machine.and_then(|m| estate.site_of(m)).into_iter().collect()
            }
            Step::Place { .. } => vec![],
        }
    }

    fn device(&self, estate: &Estate) -> Option<Object> {
        match self {
            Step::Copy { machine, via, .. } => {
                let at = estate.machines.get(machine).and_then(|m| m.host);
                Some(Object::Host(at.unwrap_or(*via)))
            }
            Step::Bring { via, .. } | Step::Place { via, .. } => Some(Object::Host(*via)),
        }
    }

    fn urgency(&self) -> Urgency {
        Urgency::Ordinary
    }

    fn about(&self) -> Vec<Object> {
        let job = match self {
            Step::Copy { job, .. } => job.map(Object::Job),
            Step::Bring { .. } | Step::Place { .. } => None,
        };
        let both = [Object::Machine(self.machine()), Object::Store(self.store())];
        both.into_iter().chain(job).collect()
    }

    fn locks(&self) -> Vec<Lock> {
        let store = Lock::shared(Object::Store(self.store()));
        match self {
            Step::Copy { .. } => vec![store],
            Step::Bring { volume, .. } => vec![store, Lock::shared(Object::Volume(*volume))],
            Step::Place { machine, via, .. } => {
                vec![Lock::exclusive(Object::Machine(*machine)), Lock::shared(Object::Host(*via))]
            }
        }
    }

    fn premise(&self, view: &View) -> Premise {
        let machine = self.machine();
        match self {
            Step::Copy { snapshot, store, .. } => {
                let there = Premise::exist(view, &[Object::Machine(machine), Object::Store(*store)]);
                there.and(|| taken(view, machine, *snapshot))
            }
            Step::Bring { via, volume, point, .. } => {
                let there = Premise::exist(view, &[Object::Host(*via), Object::Volume(*volume)]);
                there.and(|| Premise::live(view, machine)).and(|| match point.found(&view.estate) {
                    Ok(_) => Premise::Holds,
                    Err(gone) => gone.into(),
                })
            }
            Step::Place { via, disks, .. } => {
                let there = Premise::exist(view, &[Object::Host(*via)]);
                there.and(|| Premise::live(view, machine)).and(|| placeable(view, machine, disks))
            }
        }
    }

    fn record(&self) -> Option<Event> {
        None
    }

    fn undo(&self, _estate: &Estate, _left: Left) -> Option<Event> {
        None
    }
}

/// Over what it has nothing is put while it is on.
fn placeable(view: &View, machine: MachineId, disks: &[Placed]) -> Premise {
    let Some(m) = view.estate.machines.get(&machine) else { return Premise::Holds };
    let name = &m.name;
    let mut over = disks.iter().filter(|d| !d.new).peekable();
    if over.peek().is_some() && !m.is_off() {
        return Finding::stop(Rule::State, name, format!("{name} is on; its disks can't be put back now.")).into();
    }
    match over.any(|d| m.disk(d.onto.key).is_none()) {
        true => Finding::stop(Rule::Exists, name, format!("{name} has one of these disks no more.")).into(),
        false => Premise::Holds,
    }
}

fn taken(view: &View, machine: MachineId, snapshot: Uuid) -> Premise {
    let machine = view.estate.machines.get(&machine).filter(|m| m.state != MachineState::Planned);
    match machine.map(|m| (m, m.snapshots.get(snapshot))) {
        Some((_, Some(_))) => Premise::exist(view, &[]),
        Some((m, None)) => Finding::stop(Rule::Exists, &m.name, "The state that was to be copied is gone.").into(),
        None => Finding::stop(Rule::Exists, "machine", "The machine is gone.").into(),
    }
}
