//! Looking into recovery points: folders and files as their guests wrote them.

use super::{Desk, StartError, Viewer};
use tokio::sync::OwnedSemaphorePermit;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Inside, PointAt, Within},
    permits::Act,
    rooms::{Proposal, stores::Ask},
    runs::Fault,
};
use zastrugi_drivers::backup::Stream;

/// Why nobody can look there.
#[derive(Debug, thiserror::Error)]
pub enum InsideError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("others look into recovery points already; try again in a moment")]
    Busy,
    #[error("{}", .0.said)]
    Device(Fault),
    #[error("{0}")]
    Unsaid(StartError),
}

/// A file on its way; as long as it is held, somebody else may have to wait.
#[derive(Debug)]
pub struct Taken {
    pub stream: Stream,
    _room: OwnedSemaphorePermit,
}

impl Desk {
    /// Whether this person may look, and whether there is room for one more who does.
    fn looks(
        &self,
        viewer: &Viewer,
    ) -> Result<(std::sync::Arc<Estate>, OwnedSemaphorePermit), InsideError> {
        if !viewer.permits().allow(Act::Machines) {
            return Err(InsideError::NotAllowed);
        }
        let room = self.shared.looking.clone().try_acquire_owned();
        let room = room.map_err(|_| InsideError::Busy)?;
        Ok((self.shared.estate(), room))
    }

    /// What is on a disk of a point, from 1 on: its partitions, or what is in a folder.
    ///
    /// # Errors
    /// [`InsideError`], as of all that looks into a point.
    pub async fn look_in(
        &self,
        viewer: &Viewer,
        disk: (PointAt, usize),
        folder: Option<&Inside>,
    ) -> Result<Within, InsideError> {
        let (estate, _room) = self.looks(viewer)?;
        let found = self.shared.drivers.look_in(&estate, disk, folder).await;
        found.map_err(InsideError::Device)
    }

    /// A file. That it was read is written before any of it is handed out.
    ///
    /// # Errors
    /// [`InsideError`]; nothing was handed out.
    pub async fn file_in(&self, viewer: &Viewer, at: &Inside) -> Result<Taken, InsideError> {
        let (estate, room) = self.looks(viewer)?;
        let found = self.shared.drivers.file_in(&estate, at).await;
        let stream = found.map_err(InsideError::Device)?;
        let ask = Proposal::Stores(Ask::ReadFile { file: at.clone() });
        let said = self.start(viewer, ask, None, Uuid::new_v4()).await;
        said.map_err(InsideError::Unsaid)?;
        Ok(Taken {
            stream,
            _room: room,
        })
    }
}
