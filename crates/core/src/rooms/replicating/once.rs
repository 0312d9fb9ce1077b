//! One machine is brought up to date by itself, while it runs or once it is off: what a job does, without a job's run.

use super::{
    Draft, Step,
    due::{self, Going},
    place::{self, Free, Place},
};
use crate::{
    copying::Line,
    estate::{Job, Machine, Road},
    ids::{HostId, draw_uuid},
    moment::Span,
    rooms::snapshots::{self, Quiet},
    units::Bytes,
};
use std::sync::Arc;
use uuid::Uuid;

/// How it is copied, and where to.
pub(crate) struct Once {
    pub machine: Arc<Machine>,
    place: Place,
    /// What goes over now.
    pub bytes: Bytes,
    via: HostId,
}

/// What was planned of one copy.
pub(crate) struct Brought {
    /// The state that was copied; the point has its identity too.
    pub snapshot: Uuid,
    pub via: HostId,
    /// Where it arrives.
    pub to: HostId,
    pub marked: usize,
    pub followed: usize,
}

impl Once {
    /// # Errors
    /// Why it can't be copied now, in words.
    pub(crate) fn of(draft: &mut Draft<'_>, (job, road): (&Job, Road<'_>), machine: &Arc<Machine>, free: &mut Free) -> Result<Once, String> {
        let via = draft.at_home(machine, "machines").ok_or_else(|| "No host reaches its disks now.".to_owned())?;
        let Going { bytes, .. } = due::going(draft, job, road, machine.clone());
        let place = place::of(draft, (job, road), machine, bytes, free)?;
        Ok(Once { machine: machine.clone(), place, bytes, via })
    }

    /// Where it arrives.
    pub(crate) fn to(&self) -> HostId {
        self.place.to
    }

    /// A mark, named so, and what is copied of it. A copy of a machine that is off takes what was written since the one before.
    pub(crate) fn brought(&self, draft: &mut Draft<'_>, (job, road): (&Job, Road<'_>), (name, quiet, bytes): (&str, Quiet, Bytes), after: &[usize]) -> Brought {
        let name_of = &self.machine.name;
        let number = draft.number();
        let snapshot = draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs());
        let take = snapshots::Step::Take {
            machine: self.machine.id,
            via: self.via,
            snapshot,
            name: name.to_owned(),
            note: String::new(),
            quiet,
            memory: false,
            ends: None,
            time: Span::secs(1),
        };
        let marked = draft.step(Step::Snap(take), format!("Mark {name_of}"), after, None);
        let line = Line::over(draft.estate(), road);
        let follow = due::follow(draft, (job, road, &line), (&self.machine, &self.place), (self.via, snapshot), (bytes, false, None));
        let followed = draft.step(Step::Replica(follow), format!("Bring {} up to date", self.place.replica.name), &[marked], None);
        Brought { snapshot, via: self.via, to: self.place.to, marked, followed }
    }
}
