//! The part of the tour in which an image is sent to a volume and removed again.

use super::Tour;
use crate::lab::eventually;
use zastrugi_core::{
    rooms::{Proposal, images, images::AddImage},
    units::Bytes,
};

impl Tour<'_> {
    pub(super) async fn image(&mut self) {
        let lab = self.lab;
        let file = zastrugi_formats::iso9660::write("TIDE_3", &[("payload", &[7; 4096])]).unwrap();
        let run = lab
            .start(Proposal::Images(images::Ask::Add(AddImage {
                holds: Default::default(),
                name: "tide 3".into(),
                volume: Some(lab.volume_named("slab").id),
                size: Bytes(file.len() as u64),
                mark: "a mark".into(),
                label: Ok("TIDE_3".into()),
                expected: "".into(),
            })))
            .await;
        let image = lab.estate().image_named("tide 3").unwrap().id;
        let awaited = || {
            let view = lab.desk.look();
            view.runs.get(run).is_some_and(|r| r.tally.done == 1)
        };
        eventually("room is held", awaited).await;
        let fed = lab.desk.feed(&lab.admin, image, 0, file.into()).await;
        fed.unwrap();
        self.end(run).await;
        self.go(Proposal::Images(images::Ask::Remove { image }))
            .await;
    }
}
