//! The part of the tour in which a machine grows while it runs, and snapshots of it come and go.

use super::Tour;
use crate::schedules;
use crate::sizing::{edit, memory, takes};
use crate::snapshots::{back, forget, named, take};
use zastrugi_core::rooms::{
    Proposal, edits::Set, machines::PowerAct, schedules::Ask, snapshots::Which,
};

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
        self.scheduled().await;
    }

    /// One is taken by a schedule, which is then removed.
    async fn scheduled(&mut self) {
        let (lab, machine) = (self.lab, self.machine());
        let label = Set::Label {
            key: "env".into(),
            value: "prod".into(),
        };
        self.go(edit(lab, vec![label])).await;
        self.go(schedules::keep()).await;
        let run = lab.by_itself("Take snapshots often").await;
        self.end(run).await;
        let schedule = *lab.estate().schedules.keys().next().unwrap();
        self.go(Proposal::Schedules(Ask::Remove { schedule })).await;
        lab.desk.ask_for_layers(&[machine]).await;
        self.go(forget(machine, Which::All)).await;
    }
}
