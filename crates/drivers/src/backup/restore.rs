//! The bytes of a point's disks, from the store to wherever they shall be.

use super::{Store, StoreFault};
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use std::{
    fs::File,
    os::unix::fs::FileExt,
    path::{Path, PathBuf},
    sync::Arc,
};
use zastrugi_formats::backup::{Disk, GRAIN, Kind, Manifest, PAGE};

/// Chunks that are read and opened at the same time.
const AT_ONCE: usize = 4;

impl Store {
    /// Hands every chunk of a disk to `take`, with the byte where it stands, that begins where `wanted` says yes; a few at a time, in
    /// no order. What is not in the store is zeros.
    ///
    /// # Errors
    /// [`StoreFault`] at the first that can't be read, or what `take` answers.
    pub async fn bytes_of<F>(
        &self,
        disk: &Disk,
        wanted: impl Fn(u64) -> bool + Send + Sync,
        take: impl Fn(u64, Vec<u8>) -> F + Send + Sync,
    ) -> Result<(), StoreFault>
    where
        F: Future<Output = Result<(), StoreFault>> + Send,
    {
        for at in &disk.pages {
            let page = self.page(at).await?;
            let place = |p: u16| (at.at * PAGE + u64::from(p)) * GRAIN;
            let (take, wanted) = (&take, &wanted);
            let read: Vec<BoxFuture<'_, Result<(), StoreFault>>> = page
                .0
                .into_iter()
                .filter(|(p, _)| wanted(place(*p)))
                .map(|(p, chunk)| -> BoxFuture<'_, _> {
                    Box::pin(async move {
                        let mut plain = self.chunk(Kind::Chunk, &chunk).await?;
                        // One that was read when the disk was larger.
                        let length = disk.size.saturating_sub(place(p));
                        plain.truncate(usize::try_from(length).unwrap_or(usize::MAX));
                        take(place(p), plain).await
                    })
                })
                .collect();
            let all = futures::stream::iter(read).buffer_unordered(AT_ONCE);
            all.try_for_each(|()| async { Ok(()) }).await?;
        }
        Ok(())
    }

    /// Bytes of chunks of a disk that hold something; no more than it has.
    ///
    /// # Errors
    /// [`StoreFault`] where its pages can't be read.
    pub async fn held(&self, disk: &Disk) -> Result<u64, StoreFault> {
        let pages = self.pages(&disk.pages).await?;
        let chunks: usize = pages.iter().map(|(_, p)| p.0.len()).sum();
        Ok((chunks as u64 * GRAIN).min(disk.size))
    }

    /// Writes the disks of a point into a folder: `disk-1.raw` and so on, and `machine.json`. Files that are there already are not
    /// written over.
    ///
    /// # Errors
    /// [`StoreFault`] of the store; [`StoreFault::Source`] with the words of the file system.
    pub async fn restore(
        &self,
        manifest: &Manifest,
        folder: &Path,
    ) -> Result<Vec<PathBuf>, StoreFault> {
        let told = |path: &Path, e: &std::io::Error| {
            StoreFault::Source(format!("{}: {e}", path.display()))
        };
        std::fs::create_dir_all(folder).map_err(|e| told(folder, &e))?;
        let mut made = Vec::new();
        let about = folder.join("machine.json");
        let text = serde_json::to_vec_pretty(&manifest.machine)
            .map_err(|e| StoreFault::Source(e.to_string()))?;
        let mut file = File::create_new(&about).map_err(|e| told(&about, &e))?;
        std::io::Write::write_all(&mut file, &text).map_err(|e| told(&about, &e))?;
        made.push(about);
        for (n, disk) in (1..).zip(&manifest.disks) {
            let path = folder.join(format!("disk-{n}.raw"));
            let file = File::create_new(&path).map_err(|e| told(&path, &e))?;
            file.set_len(disk.size).map_err(|e| told(&path, &e))?;
            let file = Arc::new(file);
            let write = |at: u64, plain: Vec<u8>| {
                let (file, path) = (file.clone(), path.clone());
                async move {
                    let written =
                        super::store::off_thread(move || file.write_all_at(&plain, at)).await?;
                    written.map_err(|e| told(&path, &e))
                }
            };
            self.bytes_of(disk, |_| true, write).await?;
            file.sync_all().map_err(|e| told(&path, &e))?;
            made.push(path);
        }
        Ok(made)
    }
}
