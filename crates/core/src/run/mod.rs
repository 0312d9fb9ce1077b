//! A plan being carried out. [`Run::advance`] is the state machine of one run and does no waiting; [`turn`] lets it
//! take locks beside the others and is what the engine calls, inside the head lock.
//!
//! ```text
//!            Want           Granted             Succeeded
//! waiting ────────► queued ─────────► running ────────────► done
//!                     ▲ Refused          │  Failed (4 tries)
//!                     └──────────        ├───────► failed ──► Retry → waiting
//!                                        └ NotYet → running, asked again later
//! ```

mod start;
mod state;
mod turn;

pub use start::begin;
pub use state::{Fault, FaultKind, Input, Order, Phase, Run, RunState, StepState, TRIES, backoff};
pub use turn::turn;
