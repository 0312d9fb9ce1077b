//! The part of the tour in which somebody changes at an array how it takes snapshots, and it is set back.

use super::Tour;
use crate::storage::class;
use zastrugi_core::{
    ids::VolumeId,
    rooms::{Proposal, arrays::Ask},
};

impl Tour<'_> {
    pub(super) async fn set_back(&mut self, volume: VolumeId) {
        let lab = self.lab;
        // It is read whenever it is signed in on anew.
        for every in ["PT1H", "P7D"] {
            lab.standins.world.class("shelf", "main", class(every));
            self.go(lab.other_access("first-light").await).await;
        }
        let array = lab.estate().array_named("shelf").unwrap().id;
        self.go(Proposal::Arrays(Ask::SetBack { array, volume }))
            .await;
    }
}
