//! The part of the tour in which two machines have a disk, and none has it any more.

use super::Tour;
use crate::{
    hardware::spare,
    sharing::{found, make},
};
use zastrugi_core::rooms::{Proposal, hardware::SpareAct, machines, sharing::Ask};

impl Tour<'_> {
    /// While the machine is off, so that nobody holds the reservation.
    pub(super) async fn shared(&mut self) {
        let lab = self.lab;
        self.go(lab.create("k", 1, false)).await;
        let (m, k) = (self.machine(), lab.machine("k"));
        self.go(make(lab, &[m, k])).await;
        let disk = found(lab).unwrap().0;
        self.go(Proposal::Sharing(Ask::End { disk })).await;
        self.go(spare(lab, disk, SpareAct::Delete)).await;
        let typed = "quorum".into();
        self.go(spare(lab, disk, SpareAct::Purge { typed })).await;
        let machines = vec![k];
        let delete = machines::Ask::Delete {
            machines: machines.clone(),
        };
        self.go(Proposal::Machines(delete)).await;
        let typed = "k".into();
        self.go(Proposal::Machines(machines::Ask::Purge { machines, typed }))
            .await;
    }
}
