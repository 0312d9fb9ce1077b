//! The part of the tour in which a version is made, machines are made from it, and it is removed again.

use super::Tour;
use crate::{
    spares,
    templates::{copies, make, of, template},
};
use zastrugi_core::rooms::{
    Proposal, machines,
    spares::Ask::End,
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
        self.kept_ready().await;
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

    /// A pool makes its spare by itself, and throws it away when none is wanted.
    async fn kept_ready(&mut self) {
        let lab = self.lab;
        for (spare, title) in [(1, "Make 1 spares of pool"), (0, "Throw away 1 of pool")] {
            self.go(spares::keep(lab, |k| k.spare = spare)).await;
            let run = lab.by_itself(title).await;
            self.end(run).await;
        }
        let pool = *lab.estate().spare_pools.keys().next().unwrap();
        self.go(Proposal::Spares(End { pool })).await;
    }
}
