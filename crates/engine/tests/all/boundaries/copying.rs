//! The part of the tour in which a version is made, machines are made from it, and it is removed again.

use super::Tour;
use crate::templates::{copies, make, of, template};
use zastrugi_core::rooms::{
    Proposal, machines,
    templates::{Ask, Remove},
};

impl Tour<'_> {
    /// A version of the machine; a machine that lies on it and is made whole; one that is a copy in full; all are removed.
    pub(super) async fn copied(&mut self) {
        let (lab, m) = (self.lab, self.machine());
        self.go(make(m, "base", None)).await;
        let source = of(lab, "base");
        self.go(copies(lab, "thin", 1, source, true)).await;
        self.go(copies(lab, "full", 1, source, false)).await;
        let machines = vec![lab.machine("thin")];
        self.go(Proposal::Templates(Ask::Whole { machines })).await;
        self.go(Proposal::Templates(Ask::Remove(Remove {
            template: template(lab, "base").id,
            versions: vec![1],
            typed: "base".into(),
        })))
        .await;
        let machines = vec![lab.machine("thin"), lab.machine("full")];
        self.go(Proposal::Machines(machines::Ask::Delete {
            machines: machines.clone(),
        }))
        .await;
        self.go(Proposal::Machines(machines::Ask::Purge {
            machines,
            typed: "2".into(),
        }))
        .await;
    }
}
