//! Pictures that steps took as evidence are kept in the database, as those are that hosts kept.

use futures::future::BoxFuture;
use uuid::Uuid;
use zastrugi_core::runs::{Fault, FaultKind};
use zastrugi_drivers::{Album, Shot};
use zastrugi_store::{EVIDENCE, Picture, Pictures, StoreError};

pub(crate) struct Kept(pub(crate) Pictures);

impl Kept {
    async fn put(&self, shot: Shot, png: Vec<u8>) -> Result<Uuid, StoreError> {
        let picture = Picture {
            id: Uuid::new_v4(),
            machine: shot.machine,
            mark: format!("{EVIDENCE}{}", shot.mark),
            at: shot.at,
            why: shot.why,
        };
        match self.0.keep(&picture, &png).await? {
            true => Ok(picture.id),
            // An attempt before this one kept it.
            false => Ok(self.0.marked(&picture.mark).await?.unwrap_or(picture.id)),
        }
    }
}

impl Album for Kept {
    fn keep(&self, shot: Shot, png: Vec<u8>) -> BoxFuture<'_, Result<Uuid, Fault>> {
        Box::pin(async move {
            self.put(shot, png).await.map_err(|e| {
                let remedy = "Look at the database; the step is tried again.";
                Fault::new(FaultKind::Ours, e.to_string(), remedy)
            })
        })
    }
}
