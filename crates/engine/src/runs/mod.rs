//! Orders to devices: taken with a lease (`dispatch`), carried out and answered in one transaction with what follows from
//! them (`task`).

mod carriers;
mod dispatch;
mod ends;
pub(crate) mod pace;
mod progress;
mod task;

pub(crate) use carriers::spawn as carry;
pub(crate) use dispatch::spawn;
pub use ends::{Boundary, Ends};
pub(crate) use progress::follow as follow_progress;

use zastrugi_core::moment::Span;

/// How orders are carried out.
#[derive(Debug, Clone)]
pub(crate) struct Way {
    /// How long an order is ours. A call ends in half of it.
    pub(crate) lease: Span,
    pub(crate) ends: Ends,
}
