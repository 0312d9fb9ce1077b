//! Bytes of images on their way from a person to a volume.

use super::{Desk, Viewer};
use bytes::Bytes;
use zastrugi_core::{ids::ImageId, permits::Act, runs::Fault};
use zastrugi_drivers::Fed;

/// Why a piece was not taken.
#[derive(Debug, thiserror::Error)]
pub enum FeedError {
    #[error("your role does not allow this")]
    NotAllowed,
    #[error("the image is gone, or whole already")]
    Over,
    /// So many bytes are there: go on behind them.
    #[error("{0} bytes are there")]
    Elsewhere(u64),
    /// Enough files arrive at this process already.
    #[error("other files are arriving; it goes on in a moment")]
    Busy,
    #[error("{}", .0.said)]
    Device(Fault),
}

impl Desk {
    /// Passes a piece of an image on to its volume; answers how many bytes are there then.
    ///
    /// # Errors
    /// [`FeedError`]; nothing was taken.
    pub async fn feed(
        &self,
        viewer: &Viewer,
        image: ImageId,
        from: u64,
        bytes: Bytes,
    ) -> Result<u64, FeedError> {
        let _room = self
            .shared
            .arriving
            .try_acquire()
            .map_err(|_| FeedError::Busy)?;
        let estate = self.awaited(viewer, image)?;
        match self.shared.drivers.feed(&estate, image, from, bytes).await {
            Ok(Fed::Taken(received)) => Ok(received),
            Ok(Fed::Elsewhere(received)) => Err(FeedError::Elsewhere(received)),
            Err(fault) => Err(FeedError::Device(fault)),
        }
    }

    /// How many bytes of an image are there, as its volume says.
    ///
    /// # Errors
    /// [`FeedError`] when nobody can say.
    pub async fn received(&self, viewer: &Viewer, image: ImageId) -> Result<u64, FeedError> {
        let estate = self.awaited(viewer, image)?;
        let told = self.shared.drivers.received(&estate, image).await;
        told.map_err(FeedError::Device)
    }

    /// A piece of a whole file, as its volume has it.
    ///
    /// # Errors
    /// [`FeedError`] when this person may not have it, or no host reads it.
    pub async fn read_file(
        &self,
        viewer: &Viewer,
        image: ImageId,
        from: u64,
        length: usize,
    ) -> Result<Vec<u8>, FeedError> {
        if !viewer.permits().allow(Act::Machines) {
            return Err(FeedError::NotAllowed);
        }
        let estate = self.shared.estate();
        let read = self.shared.drivers.read_file(&estate, image, from, length);
        read.await.map_err(FeedError::Device)
    }

    fn awaited(
        &self,
        viewer: &Viewer,
        image: ImageId,
    ) -> Result<std::sync::Arc<zastrugi_core::estate::Estate>, FeedError> {
        if !viewer.permits().allow(Act::Images) {
            return Err(FeedError::NotAllowed);
        }
        let estate = self.shared.estate();
        match estate.images.get(&image) {
            Some(i) if !i.ready => Ok(estate),
            _ => Err(FeedError::Over),
        }
    }
}
