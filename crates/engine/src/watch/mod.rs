//! Observing devices. One process leads; it follows every claimed host and appends what changed.

mod array;
mod balancer;
mod closing;
mod ending;
mod host;
mod keeping;
mod leader;
mod leaving;
mod naming;
mod office;
mod own;
mod pairs;
mod points;
mod records;
mod restocking;
mod scheduled;
mod screens;
mod superseded;
mod switch;
mod tending;
mod term;
mod typical;
mod withdrawing;

pub(crate) use leader::read_loads;
pub(crate) use term::Renewal;

use crate::{runs::pace, scribe::Scribe, shared::Shared};
use std::sync::Arc;
use tokio::task::JoinSet;
use uuid::Uuid;
use zastrugi_core::guard::Times;

/// What the leader is asked to do besides following devices.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Duties {
    /// None: clusters are not guarded.
    pub(crate) guard: Option<Times>,
    /// The machine in which this process runs, where somebody said which.
    pub(crate) own: Option<Uuid>,
}

pub(crate) fn spawn(
    tasks: &mut JoinSet<()>,
    shared: Arc<Shared>,
    scribe: Scribe,
    renewal: &Renewal,
    duties: Duties,
) {
    tasks.spawn(typical::learn(shared.clone()));
    tasks.spawn(pace::keep(shared.clone()));
    tasks.spawn(leader::lead(shared, scribe, renewal.terms.clone(), duties));
}
