//! The part of the tour in which a machine grows while it runs, and snapshots of it come and go.

use super::Tour;
use crate::sizing::{edit, memory, takes};
use crate::snapshots::{back, forget, named, take};
use zastrugi_core::rooms::{edits::Set, machines::PowerAct, snapshots::Which};

impl Tour<'_> {
    /// It is given memory while it runs; a snapshot is taken of it, it goes back to it, and all are deleted.
    pub(super) async fn snapped(&mut self) {
        let (lab, machine) = (self.lab, self.machine());
        let more = vec![Set::Memory(memory(2, 3, 4))];
        self.power(PowerAct::Off).await;
        self.go(edit(lab, vec![Set::Memory(memory(2, 2, 4))])).await;
        self.power(PowerAct::On { host: None }).await;
        takes(lab, true).await;
        self.go(edit(lab, more)).await;
        self.go(take(machine, "one", |t| t.memory = true)).await;
        let one = named(lab, "m", "one").uuid;
        self.go(back(machine, one, true)).await;
        lab.desk.ask_for_layers(&[machine]).await;
        self.go(forget(machine, Which::All)).await;
    }
}
