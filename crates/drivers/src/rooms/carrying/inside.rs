//! What lies on the disks of a recovery point: looked at and read out, never changed.

use crate::{
    Drivers,
    backup::{Look, Stream},
    perform::premise,
    rooms::stores::fault,
};
use zastrugi_core::{
    estate::{Estate, Inside, PointAt, Within},
    runs::Fault,
    units::Bytes,
};
use zastrugi_formats::backup::{Disk, Manifest};

/// From 1 on.
fn nth(manifest: Manifest, disk: usize) -> Result<Disk, Fault> {
    let found = disk
        .checked_sub(1)
        .and_then(|n| manifest.disks.into_iter().nth(n));
    found.ok_or_else(|| premise("This recovery point has no such disk."))
}

impl Drivers {
    /// What is on a disk of a point, from 1 on: its partitions, or what is in a folder of one of them.
    ///
    /// # Errors
    /// [`Fault`] where the store can't be read, or what is asked for is not there.
    pub async fn look_in(
        &self,
        estate: &Estate,
        (point, disk): (PointAt, usize),
        folder: Option<&Inside>,
    ) -> Result<Within, Fault> {
        let (store, manifest, name) = self.manifest_of(estate, point).await?;
        let disks = manifest.disks.iter().map(|d| Bytes(d.size)).collect();
        let disk = nth(manifest, disk)?;
        let look = || Look {
            store: store.clone(),
            disk: disk.clone(),
        };
        let partitions = look().partitions().await;
        let partitions = partitions.map_err(|why| fault(&name, &why))?;
        let folder = match folder {
            None => None,
            Some(at) => {
                let found = look().folder(at.partition, at.path.clone()).await;
                Some(found.map_err(|why| fault(&name, &why))?)
            }
        };
        Ok(Within {
            disks,
            partitions,
            folder,
        })
    }

    /// A file, as it comes.
    ///
    /// # Errors
    /// As [`Drivers::look_in`].
    pub async fn file_in(&self, estate: &Estate, at: &Inside) -> Result<Stream, Fault> {
        let (store, manifest, name) = self.manifest_of(estate, at.point).await?;
        let disk = nth(manifest, at.disk)?;
        let found = Look { store, disk }
            .file(at.partition, at.path.clone())
            .await;
        found.map_err(|why| fault(&name, &why))
    }
}
