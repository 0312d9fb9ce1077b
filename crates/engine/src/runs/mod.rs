//! Orders to devices: taken with a lease (`dispatch`), carried out and answered in one transaction with what follows from
//! them (`task`).

mod dispatch;
mod progress;
mod task;

pub(crate) use dispatch::spawn;
pub(crate) use progress::follow as follow_progress;

use crate::Boundary;
use zastrugi_core::moment::Span;

/// How orders are carried out.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Way {
    /// How long an order is ours. A call ends in half of it.
    pub(crate) lease: Span,
    pub(crate) die_at: Option<Boundary>,
}

impl Way {
    /// Kills this process, as a power cut would, if this is where it shall die.
    fn boundary(self, here: Boundary) {
        if self.die_at == Some(here) {
            let me = std::process::id().to_string();
            drop(
                std::process::Command::new("kill")
                    .args(["-9", &me])
                    .status(),
            );
        }
    }
}
