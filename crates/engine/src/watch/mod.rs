//! Observing devices. One process leads; it follows every claimed host and appends what changed.

mod array;
mod closing;
mod host;
mod keeping;
mod leader;
mod office;
mod screens;
mod switch;
mod tending;
mod term;
mod typical;

pub(crate) use term::Renewal;

use crate::{runs::pace, scribe::Scribe, shared::Shared};
use std::sync::Arc;
use tokio::task::JoinSet;
use zastrugi_core::guard::Times;

pub(crate) fn spawn(
    tasks: &mut JoinSet<()>,
    shared: Arc<Shared>,
    scribe: Scribe,
    renewal: &Renewal,
    guard: Option<Times>,
) {
    tasks.spawn(typical::learn(shared.clone()));
    tasks.spawn(pace::keep(shared.clone()));
    tasks.spawn(leader::lead(shared, scribe, renewal.terms.clone(), guard));
}
