//! A store whose objects are locked as they are written (`docs/store-format.md`, *Locked*): what is there is looked for among all
//! versions, as whoever may write to the bucket can hide and overwrite, but not take away.

use super::{
    Store, StoreFault,
    locks::{Locks, Version},
    place::Reached,
    store::{off_thread, within},
};
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use object_store::{GetOptions, path::Path};
use std::{
    collections::BTreeMap,
    sync::Arc,
    time::{SystemTime, UNIX_EPOCH},
};
use zastrugi_formats::backup::{
    ChunkRef, Damaged, Kind, LONGEST, Manifest, Named, STORE, chunk_name,
};

/// Clocks that differ by more lock nothing.
const APART: u64 = 3_600_000;
/// Names of one folder that are asked for one by one; of more, all that is in it.
const FEW: usize = 8;
/// Versions whose time is put off at the same time.
const AT_ONCE: usize = 8;

/// How a store locks. Cheap to clone.
#[derive(Clone)]
pub(super) struct Locking {
    pub(super) locks: Arc<Locks>,
    /// Milliseconds.
    pub(super) span: u64,
}

/// Until when what is written now must stay, in milliseconds since 1970 by the clock of the store's server.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Terms {
    pub(super) now: u64,
    /// A point, and so all that it needs.
    pub(super) until: u64,
    /// What is locked now is so for half as long again: points to come rely on it without a call for each chunk.
    pub(super) target: u64,
}

impl Locking {
    /// # Errors
    /// [`StoreFault::Refused`] where nothing can be locked.
    pub(super) fn of(at: &Reached, seconds: u64) -> Result<Locking, StoreFault> {
        let none = || StoreFault::Refused("only what is in a bucket can be locked".into());
        Ok(Locking {
            locks: at.locks.clone().ok_or_else(none)?,
            span: seconds.saturating_mul(1_000),
        })
    }

    fn at(&self, now: u64) -> Terms {
        // The server tells whole seconds: nothing is locked for less than was said.
        let now = now.saturating_add(1_000);
        Terms {
            now,
            until: now.saturating_add(self.span),
            target: now.saturating_add(self.span).saturating_add(self.span / 2),
        }
    }

    /// # Errors
    /// [`StoreFault::Clock`] where the server's clock is another than ours: nobody could take back what is locked for too long.
    pub(super) async fn terms(&self) -> Result<Terms, StoreFault> {
        let now = self.locks.now().await?;
        let here = SystemTime::now().duration_since(UNIX_EPOCH);
        let here = here.map_or(0, |d| u64::try_from(d.as_millis()).unwrap_or(u64::MAX));
        match here.abs_diff(now) {
            0..=APART => Ok(self.at(now)),
            apart => Err(StoreFault::Clock(format!("{} min", apart / 60_000))),
        }
    }

    /// Lets a version stay until `terms.until` at least; until when it does.
    async fn keep(&self, name: &str, version: &str, terms: &Terms) -> Result<u64, StoreFault> {
        match self.locks.until(name, version).await? {
            Some(until) if until >= terms.until => Ok(until),
            _ => {
                self.locks.retain(name, version, terms.target).await?;
                Ok(terms.target)
            }
        }
    }

    /// Lets whatever is locked of an object stay longer. Of one with several versions those are meant that are locked: what
    /// somebody put over it is not.
    async fn renew(
        &self,
        name: &str,
        versions: &[Version],
        terms: &Terms,
    ) -> Result<(), StoreFault> {
        let mut renewed = false;
        for version in versions {
            let until = match versions.len() {
                1 => Some(u64::MAX),
                _ => self.locks.until(name, &version.id).await?,
            };
            if until.is_some_and(|u| u > terms.now) {
                self.locks.retain(name, &version.id, terms.target).await?;
                renewed = true;
            }
        }
        match renewed {
            true => Ok(()),
            false => Err(StoreFault::Gone(name.to_owned())),
        }
    }
}

impl Store {
    /// Seals and writes an object that stays; how many bytes it takes there.
    pub(super) fn keep<'a>(
        &'a self,
        kind: Kind,
        name: &'a str,
        plain: Vec<u8>,
        until: Option<u64>,
    ) -> BoxFuture<'a, Result<u64, StoreFault>> {
        Box::pin(async move {
            let (Some(locking), Some(until)) = (&self.locking, until) else {
                return self.write(kind, name, plain).await;
            };
            let sealed = self.sealed(kind, name, plain).await?;
            let length = sealed.len() as u64;
            locking.locks.put(name, sealed, until, false).await?;
            Ok(length)
        })
    }

    async fn opened(
        &self,
        kind: Kind,
        name: &str,
        version: &Version,
    ) -> Result<Vec<u8>, StoreFault> {
        let options = GetOptions {
            version: Some(version.id.clone()),
            ..GetOptions::default()
        };
        if version.size > LONGEST as u64 {
            return Err(StoreFault::damaged(name)(Damaged::Content));
        }
        let path = Path::from(name);
        let got = within(async {
            let got = self.objects.get_opts(&path, options).await?;
            got.bytes().await
        });
        let (sealed, sealer, called) = (got.await?, self.sealer.clone(), name.to_owned());
        let opened = off_thread(move || sealer.open(kind, &called, &sealed)).await?;
        opened.map_err(StoreFault::damaged(name))
    }

    /// A chunk or page as a version has it, if that is it.
    async fn chunk_of(
        &self,
        kind: Kind,
        chunk: &ChunkRef,
        version: &Version,
    ) -> Result<Option<Vec<u8>>, StoreFault> {
        match self.opened(kind, &chunk_name(chunk), version).await {
            Ok(plain) if self.sealer.name(&plain) == chunk.id => Ok(Some(plain)),
            Ok(_) | Err(StoreFault::Damaged { .. } | StoreFault::Gone(_)) => Ok(None),
            Err(why) => Err(why),
        }
    }

    /// A chunk or page out of whichever version is it; its name says what must be in it.
    pub(super) async fn chunk_beneath(
        &self,
        locking: &Locking,
        kind: Kind,
        chunk: &ChunkRef,
    ) -> Result<Option<Vec<u8>>, StoreFault> {
        for version in locking.locks.versions(&chunk_name(chunk)).await? {
            if let Some(plain) = self.chunk_of(kind, chunk, &version).await? {
                return Ok(Some(plain));
            }
        }
        Ok(None)
    }

    /// A manifest as it was first written: what was put over it later, and if by somebody who has the key, is not it.
    pub(super) async fn first_manifest(
        &self,
        locking: &Locking,
        named: &Named,
    ) -> Result<Manifest, StoreFault> {
        let name = named.path();
        let mut why = StoreFault::Gone(name.clone());
        for version in locking.locks.versions(&name).await? {
            match self.opened(Kind::Manifest, &name, &version).await {
                Ok(plain) => match self.manifest_of(named, &plain) {
                    Ok(manifest) => return Ok(manifest),
                    Err(damaged) => why = damaged,
                },
                Err(damaged @ (StoreFault::Damaged { .. } | StoreFault::Gone(_))) => why = damaged,
                Err(other) => return Err(other),
            }
        }
        Err(why)
    }

    /// Whether a chunk is there and stays as long as it must: until when; none: it is not there. It is opened before anything
    /// relies on it, as somebody may have put something else over it.
    pub(super) async fn relied(
        &self,
        locking: &Locking,
        (kind, chunk): (Kind, &ChunkRef),
        terms: &Terms,
    ) -> Result<Option<u64>, StoreFault> {
        let name = chunk_name(chunk);
        for version in locking.locks.versions(&name).await? {
            if self.chunk_of(kind, chunk, &version).await?.is_none() {
                continue;
            }
            match locking.keep(&name, &version.id, terms).await {
                Ok(until) => return Ok(Some(until)),
                // A sweep was faster.
                Err(StoreFault::Gone(_)) => {}
                Err(why) => return Err(why),
            }
        }
        Ok(None)
    }

    /// Lets chunks and pages that are locked stay until `terms.target`.
    ///
    /// # Errors
    /// [`StoreFault::Gone`] where one is not there any more.
    pub(super) async fn renew(
        &self,
        locking: &Locking,
        chunks: impl IntoIterator<Item = ChunkRef>,
        terms: &Terms,
    ) -> Result<(), StoreFault> {
        let mut folders: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for name in chunks.into_iter().map(|c| chunk_name(&c)) {
            let folder = name.get(.."chunks/00/".len()).unwrap_or(&name).to_owned();
            folders.entry(folder).or_default().push(name);
        }
        for (folder, names) in folders {
            let mut found = match names.len() > FEW {
                true => locking.locks.beneath(&folder).await?,
                false => {
                    let mut found = BTreeMap::new();
                    for name in &names {
                        found.insert(name.clone(), locking.locks.versions(name).await?);
                    }
                    found
                }
            };
            let all = names.into_iter().map(|name| {
                let versions = found.remove(&name).unwrap_or_default();
                (name, versions)
            });
            let all: Vec<BoxFuture<'_, Result<(), StoreFault>>> = all
                .map(|(name, versions)| -> BoxFuture<'_, _> {
                    Box::pin(async move { locking.renew(&name, &versions, terms).await })
                })
                .collect();
            let mut all = futures::stream::iter(all).buffer_unordered(AT_ONCE);
            while let Some(()) = all.try_next().await? {}
        }
        Ok(())
    }

    /// Without what says what it is, nothing in it is found.
    pub(super) async fn renew_front(
        &self,
        locking: &Locking,
        terms: &Terms,
    ) -> Result<(), StoreFault> {
        let versions = locking.locks.versions(STORE).await?;
        for version in &versions {
            let until = locking.locks.until(STORE, &version.id).await?;
            // What somebody put over it was never locked by us.
            let ours = versions.len() == 1 || until.is_some_and(|u| u > terms.now);
            if ours && until.is_none_or(|u| u < terms.until) {
                locking
                    .locks
                    .retain(STORE, &version.id, terms.target)
                    .await?;
            }
        }
        Ok(())
    }

    /// Those of these that nobody can take away yet.
    pub(super) async fn retained(
        &self,
        locking: &Locking,
        chunks: &[ChunkRef],
    ) -> Result<Vec<ChunkRef>, StoreFault> {
        let now = locking.locks.now().await?;
        let asked: Vec<BoxFuture<'_, Result<Option<ChunkRef>, StoreFault>>> = chunks
            .iter()
            .map(|chunk| -> BoxFuture<'_, _> {
                Box::pin(async move {
                    let name = chunk_name(chunk);
                    for version in locking.locks.versions(&name).await? {
                        let until = locking.locks.until(&name, &version.id).await?;
                        if until.is_some_and(|u| u > now) {
                            return Ok(Some(*chunk));
                        }
                    }
                    Ok(None)
                })
            })
            .collect();
        let asked = futures::stream::iter(asked).buffer_unordered(AT_ONCE);
        let all: Vec<Option<ChunkRef>> = asked.try_collect().await?;
        Ok(all.into_iter().flatten().collect())
    }
}
