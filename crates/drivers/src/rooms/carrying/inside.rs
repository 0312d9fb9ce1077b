//! What lies on the disks of a recovery point: looked at and read out, never changed.

use crate::{
    Drivers,
    backup::{Look, Stream},
    perform::premise,
    rooms::stores::fault,
};
use zastrugi_core::{
    estate::{Estate, Folder, Inside, Partition, PointAt},
    runs::Fault,
    units::Bytes,
};

impl Drivers {
    /// A disk of a point, from 1 on, with what its store is called.
    async fn look(
        &self,
        estate: &Estate,
        (at, disk): (PointAt, usize),
    ) -> Result<(Look, String), Fault> {
        let (store, manifest, name) = self.manifest_of(estate, at).await?;
        let disk = disk
            .checked_sub(1)
            .and_then(|n| manifest.disks.into_iter().nth(n));
        let disk = disk.ok_or_else(|| premise("This recovery point has no such disk."))?;
        Ok((Look { store, disk }, name))
    }

    /// The sizes of its disks.
    ///
    /// # Errors
    /// [`Fault`] where the store can't be read or the point is gone.
    pub async fn disks_in(&self, estate: &Estate, at: PointAt) -> Result<Vec<Bytes>, Fault> {
        let (_, manifest, _) = self.manifest_of(estate, at).await?;
        Ok(manifest.disks.iter().map(|d| Bytes(d.size)).collect())
    }

    /// Its partitions.
    ///
    /// # Errors
    /// As [`Drivers::disks_in`].
    pub async fn partitions_in(
        &self,
        estate: &Estate,
        at: PointAt,
        disk: usize,
    ) -> Result<Vec<Partition>, Fault> {
        let (look, name) = self.look(estate, (at, disk)).await?;
        look.partitions().await.map_err(|why| fault(&name, &why))
    }

    /// What is in a folder.
    ///
    /// # Errors
    /// [`Fault`] also where there is no such folder.
    pub async fn folder_in(&self, estate: &Estate, at: &Inside) -> Result<Folder, Fault> {
        let (look, name) = self.look(estate, (at.point, at.disk)).await?;
        let found = look.folder(at.partition, at.path.clone()).await;
        found.map_err(|why| fault(&name, &why))
    }

    /// A file, as it comes.
    ///
    /// # Errors
    /// [`Fault`] also where there is no such file.
    pub async fn file_in(&self, estate: &Estate, at: &Inside) -> Result<Stream, Fault> {
        let (look, name) = self.look(estate, (at.point, at.disk)).await?;
        let found = look.file(at.partition, at.path.clone()).await;
        found.map_err(|why| fault(&name, &why))
    }
}
