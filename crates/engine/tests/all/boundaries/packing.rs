//! The part of the tour in which a disk is packed into a file and written from it again.

use super::Tour;
use crate::packages::{pack, small};
use zastrugi_core::rooms::{
    Proposal, images, machines,
    packages::{self, Pack, Write},
};

impl Tour<'_> {
    pub(super) async fn packed(&mut self) {
        let lab = self.lab;
        self.go(small(lab, "tiny", 1)).await;
        let tiny = lab.estate().machine_named("tiny").unwrap().clone();
        let disk = tiny.disks[0].key;
        self.go(Proposal::Packages(packages::Ask::Pack(Pack {
            disk: Some(disk),
            ..pack(lab, "tiny", "tiny.gz")
        })))
        .await;
        let image = lab.estate().image_named("tiny.gz").unwrap().id;
        self.go(Proposal::Packages(packages::Ask::Write(Write {
            machine: tiny.id,
            disk,
            image: Some(image),
            typed: "tiny".into(),
        })))
        .await;
        self.go(Proposal::Images(images::Ask::Remove { image }))
            .await;
        let machines = vec![tiny.id];
        self.go(Proposal::Machines(machines::Ask::Delete {
            machines: machines.clone(),
        }))
        .await;
        self.go(Proposal::Machines(machines::Ask::Purge {
            machines,
            typed: "tiny".into(),
        }))
        .await;
    }
}
