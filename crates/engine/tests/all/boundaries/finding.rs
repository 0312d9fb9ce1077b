//! The part of the tour in which records lie on a volume that no machine is held for.

use super::Tour;
use crate::records::found;
use zastrugi_core::rooms::{Proposal, machines, records::Ask};

impl Tour<'_> {
    /// While the machine is off: one that nobody knows becomes a machine, a second one of its own is taken away.
    pub(super) async fn found(&mut self) {
        let lab = self.lab;
        assert!(lab.standins.world.lays("m", "slab", Some("payroll")));
        let record = found(lab, "slab", "payroll").await;
        self.go(Proposal::Records(Ask::Register(record))).await;
        let home = lab.estate().machines[&self.machine()].disks[0].volume;
        let other = if home == lab.volume_named("slab").id {
            "quay"
        } else {
            "slab"
        };
        assert!(lab.standins.world.lays("m", other, None));
        let record = found(lab, other, "m").await;
        self.go(Proposal::Records(Ask::Forget(record))).await;
        let machines = vec![lab.machine("payroll")];
        let delete = machines::Ask::Delete {
            machines: machines.clone(),
        };
        self.go(Proposal::Machines(delete)).await;
        let typed = "payroll".into();
        self.go(Proposal::Machines(machines::Ask::Purge { machines, typed }))
            .await;
    }
}
