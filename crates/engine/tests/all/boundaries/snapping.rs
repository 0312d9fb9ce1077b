//! The part of the tour in which snapshots come and go.

use super::Tour;
use crate::snapshots::{back, forget, named, take};
use zastrugi_core::rooms::snapshots::Which;

impl Tour<'_> {
    /// One is taken of a machine that runs, it goes back to it, and all are deleted.
    pub(super) async fn snapped(&mut self) {
        let (lab, machine) = (self.lab, self.machine());
        self.go(take(machine, "one", |t| t.memory = true)).await;
        let one = named(lab, "m", "one").uuid;
        self.go(back(machine, one, true)).await;
        lab.desk.ask_for_layers(&[machine]).await;
        self.go(forget(machine, Which::All)).await;
    }
}
