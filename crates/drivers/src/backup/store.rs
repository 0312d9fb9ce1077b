//! A store that is open: objects by their names, sealed and opened on the way.

use super::{Place, SCOPE, StoreFault, fault::WHOLE, locking::Locking, place::Reached};
use bytes::Bytes;
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use object_store::{GetOptions, ObjectStore, ObjectStoreExt, PutMode, PutOptions, path::Path};
use std::{collections::BTreeSet, future::Future, sync::Arc, time::Duration};
use tokio::time::timeout;
use uuid::Uuid;
use zastrugi_formats::backup::{
    ChunkRef, Damaged, FORMAT, Key, Kind, LONGEST, Manifest, Named, POINTS, Page, PageAt, REVOKED,
    STORE, Salt, Sealer, Storefront, chunk_name, named,
};

/// A recovery point in a store, by its name alone.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Entry {
    pub named: Named,
    /// Bytes of its manifest.
    pub size: u64,
}

/// Cheap to clone.
#[derive(Clone)]
pub struct Store {
    pub(super) objects: Arc<dyn ObjectStore>,
    pub(super) sealer: Sealer,
    /// None: whoever may write to it may take away what is in it.
    pub(super) locking: Option<Locking>,
    id: Uuid,
}

/// A call that ends.
pub(super) async fn within<T>(
    call: impl Future<Output = object_store::Result<T>>,
) -> Result<T, StoreFault> {
    match timeout(WHOLE, call).await {
        Ok(answer) => Ok(answer?),
        Err(_) => Err(StoreFault::Slow),
    }
}

pub(super) fn salt() -> Salt {
    rand::random()
}

impl Store {
    /// Makes a store in an empty place. With a lock, nobody can take away what is written to it before that time is over, counted
    /// from when its point was written; in whole seconds, and of buckets alone.
    ///
    /// # Errors
    /// [`StoreFault::Taken`] where there is one already, whoever made it; others where it can't be written, or nothing can be locked
    /// there.
    pub async fn create(
        place: &Place,
        key: &Key,
        id: Uuid,
        lock: Option<Duration>,
    ) -> Result<Store, StoreFault> {
        Store::made(place.reached()?, key, id, lock).await
    }

    /// The same in anything that keeps objects by their names.
    ///
    /// # Errors
    /// As [`Store::create`].
    pub async fn create_in(
        objects: Arc<dyn ObjectStore>,
        key: &Key,
        id: Uuid,
    ) -> Result<Store, StoreFault> {
        let locks = None;
        Store::made(Reached { objects, locks }, key, id, None).await
    }

    async fn made(
        at: Reached,
        key: &Key,
        id: Uuid,
        lock: Option<Duration>,
    ) -> Result<Store, StoreFault> {
        match at.front(|_| true).await {
            Err(StoreFault::NoStore) => {}
            Ok(_) => return Err(StoreFault::Taken),
            Err(why) => return Err(why),
        }
        let sealer = key.sealer(SCOPE);
        let locked = lock.map(|l| l.as_secs());
        let front = Storefront::new(id, locked, &sealer, &salt());
        let text = front.and_then(|f| f.bytes());
        let text = Bytes::from(text.map_err(StoreFault::damaged(STORE))?);
        let put = match locked {
            Some(seconds) => {
                let locking = Locking::of(&at, seconds)?;
                locking.locks.can().await?;
                let terms = locking.terms().await?;
                locking.locks.put(STORE, text, terms.target, true).await
            }
            None => {
                let options = PutOptions::from(PutMode::Create);
                within(
                    at.objects
                        .put_opts(&Path::from(STORE), text.into(), options),
                )
                .await
                .map(drop)
            }
        };
        match put {
            Ok(()) => Store::open_in(at, key).await,
            Err(StoreFault::Silent(said) | StoreFault::Refused(said)) if is_taken(&said) => {
                Err(StoreFault::Taken)
            }
            Err(why) => Err(why),
        }
    }

    /// What store lies in a place, without its key.
    ///
    /// # Errors
    /// [`StoreFault::NoStore`] where there is none; others where it can't be asked.
    pub async fn at(place: &Place) -> Result<Uuid, StoreFault> {
        place.reached()?.front(|_| true).await.map(|f| f.store)
    }

    /// # Errors
    /// [`StoreFault::Key`] where the key is another; others where it is none, or can't be asked.
    pub async fn open(place: &Place, key: &Key) -> Result<Store, StoreFault> {
        Store::open_in(place.reached()?, key).await
    }

    async fn open_in(at: Reached, key: &Key) -> Result<Store, StoreFault> {
        let sealer = key.sealer(SCOPE);
        let front = at.front(|f| f.opens(&sealer)).await?;
        if !front.opens(&sealer) {
            return Err(StoreFault::Key);
        }
        let locking = front.locked.map(|seconds| Locking::of(&at, seconds));
        Ok(Store {
            locking: locking.transpose()?,
            objects: at.objects,
            sealer,
            id: front.store,
        })
    }

    /// For how long nobody can take away what is written to it; none: that is not so.
    pub fn lock(&self) -> Option<Duration> {
        let locking = self.locking.as_ref();
        locking.map(|l| Duration::from_millis(l.span))
    }

    pub fn id(&self) -> Uuid {
        self.id
    }

    pub(super) fn get<'a>(&'a self, name: &'a str) -> BoxFuture<'a, Result<Bytes, StoreFault>> {
        Box::pin(async move {
            let path = Path::from(name);
            let got = within(async {
                let got = self.objects.get(&path).await?;
                if got.meta.size > LONGEST as u64 {
                    return Ok(Bytes::new());
                }
                got.bytes().await
            });
            got.await
        })
    }

    /// Reads an object; what it was sealed as, it must be.
    pub(super) fn read<'a>(
        &'a self,
        kind: Kind,
        name: &'a str,
    ) -> BoxFuture<'a, Result<Vec<u8>, StoreFault>> {
        Box::pin(async move {
            let sealed = self.get(name).await?;
            let (sealer, called) = (self.sealer.clone(), name.to_owned());
            let opened = off_thread(move || sealer.open(kind, &called, &sealed)).await?;
            opened.map_err(StoreFault::damaged(name))
        })
    }

    /// Seals and writes an object, over what is called so; how many bytes it takes there.
    pub(super) fn write<'a>(
        &'a self,
        kind: Kind,
        name: &'a str,
        plain: Vec<u8>,
    ) -> BoxFuture<'a, Result<u64, StoreFault>> {
        Box::pin(async move { Ok(self.put(kind, name, plain).await?.0) })
    }

    /// The same, and which version of it that is where there are several.
    pub(super) fn put<'a>(
        &'a self,
        kind: Kind,
        name: &'a str,
        plain: Vec<u8>,
    ) -> BoxFuture<'a, Result<(u64, Option<String>), StoreFault>> {
        Box::pin(async move {
            let sealed = self.sealed(kind, name, plain).await?;
            let length = sealed.len() as u64;
            let put = within(self.objects.put(&Path::from(name), sealed.into())).await?;
            Ok((length, put.version))
        })
    }

    pub(super) async fn sealed(
        &self,
        kind: Kind,
        name: &str,
        plain: Vec<u8>,
    ) -> Result<Bytes, StoreFault> {
        let (sealer, called) = (self.sealer.clone(), name.to_owned());
        let sealed = off_thread(move || sealer.seal(kind, &called, &salt(), &plain)).await?;
        sealed.map(Bytes::from).map_err(StoreFault::damaged(name))
    }

    pub(super) fn is_there<'a>(&'a self, name: &'a str) -> BoxFuture<'a, Result<bool, StoreFault>> {
        Box::pin(async move {
            match within(self.objects.head(&Path::from(name))).await {
                Ok(_) => Ok(true),
                Err(StoreFault::Gone(_)) => Ok(false),
                Err(why) => Err(why),
            }
        })
    }

    /// Takes an object away, all versions of it where there are several.
    ///
    /// # Errors
    /// [`StoreFault::Locked`] where its time is not over.
    pub(super) fn drop<'a>(&'a self, name: &'a str) -> BoxFuture<'a, Result<(), StoreFault>> {
        Box::pin(async move {
            if let Some(locking) = &self.locking {
                for version in locking.locks.versions(name).await? {
                    locking.locks.remove(name, &version.id).await?;
                }
                return Ok(());
            }
            match within(self.objects.delete(&Path::from(name))).await {
                Ok(()) | Err(StoreFault::Gone(_)) => Ok(()),
                Err(why) => Err(why),
            }
        })
    }

    /// Names beneath a folder of the store, with what they take there. Where things are locked, also those that somebody hid.
    pub(super) fn list<'a>(
        &'a self,
        folder: &'a str,
    ) -> BoxFuture<'a, Result<Vec<(String, u64)>, StoreFault>> {
        Box::pin(async move {
            if let Some(locking) = &self.locking {
                let all = locking.locks.beneath(&format!("{folder}/")).await?;
                let sized = all
                    .into_iter()
                    .map(|(name, of)| (name, of.iter().map(|v| v.size).sum()));
                return Ok(sized.collect());
            }
            let mut all = Vec::new();
            let mut stream = self.objects.list(Some(&Path::from(folder)));
            // Each page of the list has its own time.
            while let Some(meta) = within(async { stream.try_next().await }).await? {
                all.push((meta.location.to_string(), meta.size));
            }
            all.sort();
            Ok(all)
        })
    }

    /// Its recovery points by machine and instant; what a revoked session wrote is none. Where things are locked it is one: all that
    /// a manifest names was locked before it was written, and nobody can have taken it away.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be asked.
    pub async fn points(&self, machine: Option<Uuid>) -> Result<Vec<Entry>, StoreFault> {
        let revoked = match self.locking {
            None => self.list(REVOKED).await?,
            Some(_) => vec![],
        };
        let revoked: BTreeSet<Uuid> = revoked
            .iter()
            .filter_map(|(n, _)| n.rsplit('/').next()?.parse().ok())
            .collect();
        let folder = match machine {
            Some(machine) => format!("{POINTS}/{machine}"),
            None => POINTS.to_owned(),
        };
        let all = self.list(&folder).await?;
        let entry = |(name, size): &(String, u64)| {
            Some(Entry {
                named: named(name)?,
                size: *size,
            })
        };
        let live = all.iter().filter_map(entry);
        Ok(live
            .filter(|e| !revoked.contains(&e.named.session))
            .collect())
    }

    /// # Errors
    /// [`StoreFault::Damaged`] where it is not what it should be.
    pub async fn manifest(&self, named: &Named) -> Result<Manifest, StoreFault> {
        if let Some(locking) = &self.locking {
            return self.first_manifest(locking, named).await;
        }
        let plain = self.read(Kind::Manifest, &named.path()).await?;
        self.manifest_of(named, &plain)
    }

    pub(super) fn manifest_of(&self, named: &Named, plain: &[u8]) -> Result<Manifest, StoreFault> {
        let name = named.path();
        let manifest = Manifest::read(plain).map_err(StoreFault::damaged(&name))?;
        let is = manifest.store == self.id
            && manifest.session == named.session
            && manifest.instant == named.instant
            && manifest.machine.uuid == named.machine;
        match is {
            true => Ok(manifest),
            false => Err(StoreFault::damaged(&name)(Damaged::Name)),
        }
    }

    /// What is in a chunk or page, and that it is what it is called.
    pub(super) async fn chunk(&self, kind: Kind, chunk: &ChunkRef) -> Result<Vec<u8>, StoreFault> {
        let name = chunk_name(chunk);
        let why = match self.read(kind, &name).await {
            Ok(plain) if self.sealer.name(&plain) == chunk.id => return Ok(plain),
            Ok(_) => StoreFault::damaged(&name)(Damaged::Name),
            Err(why @ (StoreFault::Gone(_) | StoreFault::Damaged { .. })) => why,
            Err(why) => return Err(why),
        };
        match &self.locking {
            Some(locking) => {
                let found = self.chunk_beneath(locking, kind, chunk).await?;
                found.ok_or(why)
            }
            None => Err(why),
        }
    }

    pub(super) async fn page(&self, at: &PageAt) -> Result<Page, StoreFault> {
        let content = Damaged::Content;
        let chunk = at
            .chunk()
            .ok_or_else(|| StoreFault::damaged(&at.id)(content))?;
        let plain = self.chunk(Kind::Page, &chunk).await?;
        Page::read(&plain).map_err(StoreFault::damaged(&chunk_name(&chunk)))
    }

    /// All pages of a disk, a few at a time.
    pub(super) async fn pages(&self, all: &[PageAt]) -> Result<Vec<(u64, Page)>, StoreFault> {
        let read: Vec<_> = all.iter().map(|at| self.placed(at)).collect();
        futures::stream::iter(read).buffered(4).try_collect().await
    }

    fn placed<'a>(&'a self, at: &'a PageAt) -> BoxFuture<'a, Result<(u64, Page), StoreFault>> {
        Box::pin(async { Ok((at.at, self.page(at).await?)) })
    }
}

/// In words of servers: something is called so already.
fn is_taken(said: &str) -> bool {
    said.contains("exist") || said.contains("pre-conditions") || said.contains("precondition")
}

impl Reached {
    /// What says of a store what it is. Somebody may have hidden it, or put another over it: then it is the oldest that is the one.
    async fn front(&self, is_it: impl Fn(&Storefront) -> bool) -> Result<Storefront, StoreFault> {
        let path = Path::from(STORE);
        let got = within(async { self.objects.get(&path).await?.bytes().await }).await;
        let newest = match got {
            Ok(text) => Storefront::read(&text).ok(),
            Err(StoreFault::Gone(_)) => None,
            Err(why) => return Err(why),
        };
        let plain = |f: &Storefront| !(is_it(f) && f.locked.is_some());
        let mut found = newest.clone();
        if newest.as_ref().is_none_or(plain) {
            let older = self.beneath(newest.is_some()).await?;
            let locked = older.iter().find(|f| is_it(f) && f.locked.is_some());
            found = locked
                .cloned()
                .or(newest)
                .or_else(|| older.first().cloned());
        }
        match found {
            Some(front) if front.format == FORMAT => Ok(front),
            Some(front) => Err(StoreFault::Version(front.format.chars().take(40).collect())),
            None => Err(StoreFault::NoStore),
        }
    }

    /// All of it that there were, oldest first; none where nobody keeps versions, or tells of them, or `known` is all there is.
    async fn beneath(&self, known: bool) -> Result<Vec<Storefront>, StoreFault> {
        let Some(locks) = &self.locks else {
            return Ok(vec![]);
        };
        let versions = match locks.versions(STORE).await {
            Ok(versions) if known && versions.len() < 2 => return Ok(vec![]),
            Ok(versions) => versions,
            Err(why) if why.passes() => return Err(why),
            Err(_) => return Ok(vec![]),
        };
        let mut all = vec![];
        for version in versions {
            let options = GetOptions {
                version: Some(version.id),
                ..GetOptions::default()
            };
            let path = Path::from(STORE);
            let got = within(async { self.objects.get_opts(&path, options).await?.bytes().await });
            match got.await {
                Ok(text) => all.extend(Storefront::read(&text).ok()),
                Err(StoreFault::Gone(_)) => {}
                Err(why) => return Err(why),
            }
        }
        Ok(all)
    }
}

/// Hashing, packing and sealing are no work for the threads that wait.
pub(super) async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, StoreFault> {
    tokio::task::spawn_blocking(work)
        .await
        .map_err(|e| StoreFault::Source(e.to_string()))
}
