//! What happened to runs.

use super::{Entry, Plan, Urgency};
use crate::{
    ids::{RunId, SiteId},
    moment::{Moment, Span},
    runs::{Run, RunState, StepState, Tally},
};

/// Of runs nothing is stored but what changed: one step, or what is said of the run as a whole.
#[derive(Debug, Clone, PartialEq)]
pub enum RunEvent<A, S> {
    Started {
        run: Box<Run>,
        plan: Box<Plan<A, S>>,
    },
    Stepped {
        run: RunId,
        step: usize,
        state: Box<StepState>,
    },
    /// `what` is worth a line in the Logbook, unless it is empty.
    Moved {
        run: RunId,
        title: String,
        state: RunState,
        ended: Option<Moment>,
        tally: Tally,
        what: String,
    },
    /// A device must do this now: becomes an order.
    Ordered {
        run: RunId,
        step: usize,
        attempt: u32,
        after: Span,
        /// The device that is spoken to, such as `host-7`.
        device: String,
        urgency: Urgency,
        /// Sites at which a process of its own may carry it.
        carried_at: Vec<SiteId>,
    },
}

impl<A, S> RunEvent<A, S> {
    pub fn run(&self) -> RunId {
        match self {
            RunEvent::Started { run, .. } => run.id,
            RunEvent::Stepped { run, .. }
            | RunEvent::Moved { run, .. }
            | RunEvent::Ordered { run, .. } => *run,
        }
    }
    pub fn tell(&self) -> Option<Entry> {
        let text = match self {
            RunEvent::Started { run, .. } => format!("Began: {}", run.title),
            RunEvent::Moved { title, what, .. } if !what.is_empty() => format!("{title}: {what}"),
            RunEvent::Stepped { .. } | RunEvent::Moved { .. } | RunEvent::Ordered { .. } => {
                return None;
            }
        };
        Some(Entry::new("run", text, vec![self.run().to_string()]))
    }
}
