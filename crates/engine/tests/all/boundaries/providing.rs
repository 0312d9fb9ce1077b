//! A machine on a volume that is made for it.

use super::Tour;
use zastrugi_core::rooms::{Proposal, machines, storage};

impl Tour<'_> {
    pub(super) async fn provided(&mut self) {
        let lab = self.lab;
        let ask = crate::providing::provide(lab, "wharf", false);
        self.free(&ask).await;
        self.go(ask).await;
        let machine = lab.machine("wharf");
        assert!(lab.volume_named("wharf-volume").ready);
        self.go(Proposal::Machines(machines::Ask::Delete {
            machines: vec![machine],
        }))
        .await;
        self.go(Proposal::Machines(machines::Ask::Purge {
            machines: vec![machine],
            typed: "wharf".into(),
        }))
        .await;
        let volume = lab.volume_named("wharf-volume").id;
        self.go(Proposal::Storage(storage::Ask::GiveVolume { volume }))
            .await;
    }
}
