//! The part of the tour in which a machine is backed up, a snapshot of it is copied too, and the store is forgotten.

use super::Tour;
use crate::{
    backups::{back_up, copy, forget_store, make_store},
    packages::small,
    snapshots::{forget, named, take},
};
use zastrugi_core::rooms::{Proposal, machines, snapshots::Which};

impl Tour<'_> {
    pub(super) async fn backed_up(&mut self) {
        let lab = self.lab;
        self.go(small(lab, "frail", 1)).await;
        let frail = lab.machine("frail");
        self.go(make_store(lab, "").await).await;
        self.go(back_up(lab, "frail")).await;
        self.go(take(frail, "one", |t| t.memory = false)).await;
        let one = named(lab, "frail", "one").uuid;
        self.go(copy(lab, "frail", one)).await;
        lab.desk.ask_for_layers(&[frail]).await;
        self.go(forget(frail, Which::All)).await;
        self.go(forget_store(lab)).await;
        let machines = vec![frail];
        self.go(Proposal::Machines(machines::Ask::Delete {
            machines: machines.clone(),
        }))
        .await;
        self.go(Proposal::Machines(machines::Ask::Purge {
            machines,
            typed: "frail".into(),
        }))
        .await;
    }
}
