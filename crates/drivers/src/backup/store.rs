//! A store that is open: objects by their names, sealed and opened on the way.

use super::{Place, SCOPE, StoreFault, fault::WHOLE};
use bytes::Bytes;
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use object_store::{ObjectStore, ObjectStoreExt, PutMode, PutOptions, path::Path};
use std::{collections::BTreeSet, future::Future, sync::Arc};
use tokio::time::timeout;
use uuid::Uuid;
use zastrugi_formats::backup::{
    ChunkRef, FORMAT, Key, Kind, LONGEST, Manifest, Named, POINTS, Page, PageAt, REVOKED, STORE,
    Salt, Sealer, Storefront, chunk_name, named,
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
    /// Makes a store in an empty place.
    ///
    /// # Errors
    /// [`StoreFault::Taken`] where there is one already, whoever made it; others where it can't be written.
    pub async fn create(place: &Place, key: &Key, id: Uuid) -> Result<Store, StoreFault> {
        Store::create_in(place.objects()?, key, id).await
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
        match Store::front(&objects).await {
            Err(StoreFault::NoStore) => {}
            Ok(_) => return Err(StoreFault::Taken),
            Err(why) => return Err(why),
        }
        let sealer = key.sealer(SCOPE);
        let front = Storefront::new(id, &sealer, &salt());
        let text = front.and_then(|f| f.bytes());
        let text = text.map_err(StoreFault::damaged(STORE))?;
        let options = PutOptions::from(PutMode::Create);
        let put = within(objects.put_opts(&Path::from(STORE), text.into(), options)).await;
        match put {
            Ok(_) => Store::open_in(objects, key).await,
            Err(StoreFault::Silent(said)) if said.contains("exist") => Err(StoreFault::Taken),
            Err(why) => Err(why),
        }
    }

    async fn front(objects: &Arc<dyn ObjectStore>) -> Result<Storefront, StoreFault> {
        let got = within(async { objects.get(&Path::from(STORE)).await?.bytes().await }).await;
        let text = got.map_err(|why| match why {
            StoreFault::Gone(_) => StoreFault::NoStore,
            other => other,
        })?;
        let front = Storefront::read(&text).map_err(|_| StoreFault::NoStore)?;
        match front.format == FORMAT {
            true => Ok(front),
            false => Err(StoreFault::Version(front.format.chars().take(40).collect())),
        }
    }

    /// What store lies in a place, without its key.
    ///
    /// # Errors
    /// [`StoreFault::NoStore`] where there is none; others where it can't be asked.
    pub async fn at(place: &Place) -> Result<Uuid, StoreFault> {
        Store::front(&place.objects()?).await.map(|f| f.store)
    }

    /// # Errors
    /// [`StoreFault::Key`] where the key is another; others where it is none, or can't be asked.
    pub async fn open(place: &Place, key: &Key) -> Result<Store, StoreFault> {
        Store::open_in(place.objects()?, key).await
    }

    async fn open_in(objects: Arc<dyn ObjectStore>, key: &Key) -> Result<Store, StoreFault> {
        let front = Store::front(&objects).await?;
        let sealer = key.sealer(SCOPE);
        match front.opens(&sealer) {
            true => Ok(Store {
                objects,
                sealer,
                id: front.store,
            }),
            false => Err(StoreFault::Key),
        }
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
        Box::pin(async move {
            let (sealer, called) = (self.sealer.clone(), name.to_owned());
            let sealed = off_thread(move || sealer.seal(kind, &called, &salt(), &plain)).await?;
            let sealed = sealed.map_err(StoreFault::damaged(name))?;
            let length = sealed.len() as u64;
            within(self.objects.put(&Path::from(name), sealed.into())).await?;
            Ok(length)
        })
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

    pub(super) fn drop<'a>(&'a self, name: &'a str) -> BoxFuture<'a, Result<(), StoreFault>> {
        Box::pin(async move {
            match within(self.objects.delete(&Path::from(name))).await {
                Ok(()) | Err(StoreFault::Gone(_)) => Ok(()),
                Err(why) => Err(why),
            }
        })
    }

    /// Names beneath a folder of the store, with their sizes.
    pub(super) fn list<'a>(
        &'a self,
        folder: &'a str,
    ) -> BoxFuture<'a, Result<Vec<(String, u64)>, StoreFault>> {
        Box::pin(async move {
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

    /// Its recovery points by machine and instant; what a revoked session wrote is none.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be asked.
    pub async fn points(&self, machine: Option<Uuid>) -> Result<Vec<Entry>, StoreFault> {
        let revoked = self.list(REVOKED).await?;
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
        let name = named.path();
        let plain = self.read(Kind::Manifest, &name).await?;
        let manifest = Manifest::read(&plain).map_err(StoreFault::damaged(&name))?;
        let is = manifest.store == self.id
            && manifest.session == named.session
            && manifest.instant == named.instant
            && manifest.machine.uuid == named.machine;
        match is {
            true => Ok(manifest),
            false => Err(StoreFault::damaged(&name)(
                zastrugi_formats::backup::Damaged::Name,
            )),
        }
    }

    /// What is in a chunk or page, and that it is what it is called.
    pub(super) async fn chunk(&self, kind: Kind, chunk: &ChunkRef) -> Result<Vec<u8>, StoreFault> {
        let name = chunk_name(chunk);
        let plain = self.read(kind, &name).await?;
        match self.sealer.name(&plain) == chunk.id {
            true => Ok(plain),
            false => Err(StoreFault::damaged(&name)(
                zastrugi_formats::backup::Damaged::Name,
            )),
        }
    }

    pub(super) async fn page(&self, at: &PageAt) -> Result<Page, StoreFault> {
        let content = zastrugi_formats::backup::Damaged::Content;
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

/// Hashing, packing and sealing are no work for the threads that wait.
pub(super) async fn off_thread<T: Send + 'static>(
    work: impl FnOnce() -> T + Send + 'static,
) -> Result<T, StoreFault> {
    tokio::task::spawn_blocking(work)
        .await
        .map_err(|e| StoreFault::Source(e.to_string()))
}
