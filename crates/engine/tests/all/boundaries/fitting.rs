//! The part of the tour in which a machine's disks and cards come and go.

use super::Tour;
use crate::hardware::{add, change, machine, spare};
use zastrugi_core::rooms::hardware::{CardWish, DiskWish, SpareAct};

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
    }
}
