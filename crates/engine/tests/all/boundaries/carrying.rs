//! The part of the tour in which a machine is backed up, a snapshot of it is copied too, both come back, and the store is forgotten.

use super::Tour;
use crate::{
    backups::{back_up, copy, forget_store, make_store},
    jobs::{begin, keep, label},
    opened::{key_of, open_store, read_again},
    packages::small,
    proving::{must, prove},
    restoring::{beside, disks_to, newest, put_back},
    snapshots::{forget, named, take},
    together::together,
};
use zastrugi_core::moment::Span;
use zastrugi_core::rooms::{
    Proposal, jobs,
    machines::{self, PowerAct},
    snapshots::Which,
};

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
        self.go(keep(lab, "FREQ=DAILY;BYHOUR=3;BYMINUTE=0", "last 1"))
            .await;
        self.go(label(lab, "frail")).await;
        for _ in 0..3 {
            self.go(begin(lab)).await;
        }
        let job = *lab.estate().jobs.keys().next().unwrap();
        self.go(Proposal::Jobs(jobs::Ask::Remove { job })).await;
        let at = newest(lab, "frail");
        let power = |act| {
            Proposal::Machines(machines::Ask::Power {
                machines: vec![frail],
                act,
            })
        };
        self.go(power(PowerAct::On { host: None })).await;
        self.go(put_back(lab, "frail", at, true).await).await;
        self.go(power(PowerAct::Off)).await;
        self.go(disks_to(lab, "frail", at).await).await;
        self.go(beside(lab, "frail-then", at).await).await;
        self.go(must(lab, "frail", "tcp 22")).await;
        self.go(prove(lab, at, Span::mins(2)).await).await;
        assert_eq!(
            lab.standins.world.deliveries(),
            0,
            "nothing that was brought is left"
        );
        let then = lab.machine("frail-then");
        self.go(together(&[frail, then])).await;
        for id in [frail, then] {
            lab.desk.ask_for_layers(&[id]).await;
            self.go(forget(id, Which::All)).await;
        }
        self.go(read_again(lab, None)).await;
        let key = key_of(lab).await;
        self.go(forget_store(lab)).await;
        self.go(open_store(lab, "", &key).await).await;
        self.go(forget_store(lab)).await;
        let machines = vec![frail, lab.machine("frail-then")];
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
