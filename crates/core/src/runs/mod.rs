//! What is being changed: open runs, the state of each of their steps, and what steps hold. Beside the estate, which says
//! what *is*. [`Runs`] keeps an index by object, so that nobody scans runs to know who holds what.

mod fault;
mod holds;
mod object;
mod pace;
mod run;

pub use fault::{Fault, FaultKind};
pub use holds::{Needs, Runs};
pub use object::{Lock, Object};
pub use pace::{GUEST_ANSWERS, LANES, Pace};

/// How far steps under way say they are.
pub type Progress = imbl::OrdMap<(crate::ids::RunId, usize), String>;

pub use run::{Phase, Run, RunState, StepState, Tail, Tally};
