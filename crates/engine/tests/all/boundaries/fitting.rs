//! The part of the tour in which a machine's disks and cards come and go.

use super::Tour;
use crate::{
    hardware::{add, change, machine, spare},
    refreshing::bring,
    snapshots::{forget, named, take},
};
use zastrugi_core::rooms::{
    hardware::{CardWish, DiskWish, SpareAct},
    snapshots::Which,
};

impl Tour<'_> {
    /// It is given a disk and a card; the disk is detached, attached, deleted, brought back, deleted and removed.
    pub(super) async fn fitted(&mut self) {
        let (lab, m) = (self.lab, self.machine());
        let more = vec![CardWish::Add { network: None }];
        self.go(change(m, vec![add(1)], more)).await;
        let disk = machine(lab, "m").disks.last().unwrap().key;
        self.go(change(m, vec![DiskWish::Detach { disk }], vec![]))
            .await;
        self.go(change(m, vec![DiskWish::Attach { disk }], vec![]))
            .await;
        self.go(change(m, vec![DiskWish::Delete { disk }], vec![]))
            .await;
        self.go(spare(lab, disk, SpareAct::Restore)).await;
        self.go(spare(lab, disk, SpareAct::Delete)).await;
        let typed = "m".into();
        self.go(spare(lab, disk, SpareAct::Purge { typed })).await;
        self.brought().await;
    }

    /// A disk as a snapshot has it comes as one more, and goes again.
    async fn brought(&mut self) {
        let (lab, m) = (self.lab, self.machine());
        self.go(take(m, "dusk", |_| {})).await;
        let dusk = named(lab, "m", "dusk").uuid;
        self.go(bring(lab, ("m", Some(dusk)), "m", None)).await;
        let disk = machine(lab, "m").disks.last().unwrap().key;
        self.go(change(m, vec![DiskWish::Delete { disk }], vec![]))
            .await;
        let typed = "m".into();
        self.go(spare(lab, disk, SpareAct::Purge { typed })).await;
        self.go(forget(m, Which::These(vec![dusk]))).await;
    }
}
