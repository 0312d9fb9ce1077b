//! A recovery point is written: what changed since the one before, chunk by chunk, then pages, then the manifest, last. Whatever
//! breaks it off, it goes on where it was: how far it is lies in the store beside it.
//!
//! A session is told of before anything is read, and what is condemned is read after that: so nothing that this point needs is
//! swept away, and nothing that is being swept is relied on.

use super::{
    SCOPE, Store, StoreFault,
    locking::{Locking, Terms},
    store::off_thread,
};
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use roaring::RoaringBitmap;
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::{
        Mutex, MutexGuard, PoisonError,
        atomic::{AtomicU64, Ordering},
    },
    time::Instant,
};
use uuid::Uuid;
use zastrugi_core::layers;
use zastrugi_formats::backup::{
    CONDEMNED, ChunkId, ChunkRef, Consistency, Disk, FORMAT, GRAIN, Kind, Locked, Machine,
    Manifest, Measured, Named, PAGE, Page, PageAt, REVOKED, SESSIONS, Session, chunk_name,
    condemned, point_name,
};

/// Chunks that are read, packed and written at the same time.
const AT_ONCE: usize = 4;
/// After so many chunks it is written down how far it is.
const NOTED: usize = 32;
/// So many chunks it remembers to have seen: a few MiB.
const REMEMBERED: usize = 65_536;

/// Reads disks as they were at the mark.
pub trait Extents: Sync {
    /// Bytes of a disk, counted from zero; exactly so many.
    fn read(&self, disk: usize, at: u64, length: u64)
    -> BoxFuture<'_, Result<Vec<u8>, StoreFault>>;
}

/// What shall be copied.
#[derive(Debug, Clone, PartialEq)]
pub struct Source {
    pub session: Uuid,
    /// Milliseconds since 1970, of the mark.
    pub instant: u64,
    pub consistency: Consistency,
    pub machine: Machine,
    pub disks: Vec<SourceDisk>,
    /// The point that changes are counted from; none: everything is read.
    pub parent: Option<Named>,
}

#[derive(Debug, Clone, PartialEq)]
pub struct SourceDisk {
    pub key: Uuid,
    /// Bytes.
    pub size: u64,
    /// Blocks of 64 KiB that hold something.
    pub held: RoaringBitmap,
    /// Blocks that changed since the parent; none: that is not known.
    pub changed: Option<RoaringBitmap>,
}

/// How far it is, for whoever asks meanwhile. Bytes.
#[derive(Debug, Default)]
pub struct Progress {
    /// Looked at, of all that must be.
    pub done: AtomicU64,
    pub of: AtomicU64,
    pub stored: AtomicU64,
}

/// What came of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Copied {
    pub named: Named,
    pub measured: Measured,
    /// Until when nobody can take it away, in milliseconds since 1970 by the clock of the store's server.
    pub locked: Option<u64>,
}

/// A session that begins.
fn begins(source: &Source) -> Session {
    Session {
        machine: source.machine.uuid,
        instant: source.instant,
        keys: source.disks.iter().map(|d| d.key).collect(),
        ..Session::default()
    }
}

/// While one point is being written.
struct Writing<'a> {
    store: &'a Store,
    source: &'a Source,
    extents: &'a dyn Extents,
    progress: &'a Progress,
    condemned: BTreeSet<ChunkRef>,
    parent: Option<Manifest>,
    told: Session,
    began: Instant,
    before: u64,
    /// How what is written is locked, and until when everything stays that this point has of others: see [`Session::locked`].
    locked: Option<(Locking, Terms)>,
    least: AtomicU64,
    /// Which version says how far it is.
    noted: Option<String>,
    /// What this process put there, or found and looked at: nobody takes it away while the session is told of.
    sure: Mutex<BTreeSet<ChunkRef>>,
}

impl Store {
    /// Writes a recovery point. Asked for again with the same session, it goes on; once it is there, it is not written again.
    ///
    /// # Errors
    /// [`StoreFault`] of the store, or of whoever reads the disks; nothing that was there is worse for it.
    pub fn copy<'a>(
        &'a self,
        source: &'a Source,
        extents: &'a dyn Extents,
        progress: &'a Progress,
    ) -> BoxFuture<'a, Result<Copied, StoreFault>> {
        Box::pin(self.written(source, extents, progress))
    }

    async fn written(
        &self,
        source: &Source,
        extents: &dyn Extents,
        progress: &Progress,
    ) -> Result<Copied, StoreFault> {
        let named = Named {
            machine: source.machine.uuid,
            instant: source.instant,
            session: source.session,
        };
        match self.manifest(&named).await {
            Ok(there) => {
                self.drop(&session_name(source.session)).await?;
                self.counts(source.session).await?;
                return Ok(Copied {
                    named,
                    measured: there.measured,
                    locked: there.locked.map(|l| l.until),
                });
            }
            Err(StoreFault::Gone(_)) => {}
            Err(why) => return Err(why),
        }
        self.counts(source.session).await?;
        let locked = match &self.locking {
            Some(locking) => Some((locking.clone(), locking.terms().await?)),
            None => None,
        };
        let mut told = self.session(source).await?;
        let condemned = self.condemned().await?;
        // What it is read against is looked at after the session was told of.
        let parent = match &source.parent {
            Some(parent) => match self.manifest(parent).await {
                Ok(manifest) => Some(manifest).filter(|m| is_held(m, locked.as_ref())),
                Err(StoreFault::Gone(_) | StoreFault::Damaged { .. }) => None,
                Err(why) => return Err(why),
            },
            None => None,
        };
        // Another point may have become the nearest meanwhile, or the one that was is gone: what was copied against it is no part of
        // this. Its chunks are there and are not stored again.
        let fresh = Session {
            parent: parent.as_ref().map(|p| p.session),
            ..begins(source)
        };
        // Nobody vouches either for what it stored and whose lock is over since.
        let over = |(_, terms): &(Locking, Terms)| told.locked.is_some_and(|u| u <= terms.now);
        let over = locked.as_ref().is_some_and(over);
        if over || (told.parent, &told.keys) != (fresh.parent, &fresh.keys) {
            told = fresh;
            self.note(source.session, &told).await?;
        }
        let before = told.measured.took;
        let least = AtomicU64::new(told.locked.unwrap_or(u64::MAX));
        let writing = Writing {
            store: self,
            source,
            extents,
            progress,
            condemned,
            parent,
            told,
            began: Instant::now(),
            before,
            locked,
            least,
            noted: None,
            sure: Mutex::default(),
        };
        writing.all(named).await
    }

    /// Whether what a session writes counts. Looked at once its own object is gone: whoever revokes it looks for that afterwards.
    async fn counts(&self, session: Uuid) -> Result<(), StoreFault> {
        match self.is_there(&format!("{REVOKED}/{session}")).await? {
            true => Err(StoreFault::Revoked),
            false => Ok(()),
        }
    }

    /// The session as it was left, or a new one.
    async fn session(&self, source: &Source) -> Result<Session, StoreFault> {
        let name = session_name(source.session);
        match self.read(Kind::Session, &name).await {
            Ok(plain) => {
                let told = Session::read(&plain).ok();
                let same = told
                    .filter(|t| t.machine == source.machine.uuid && t.instant == source.instant);
                if let Some(told) = same {
                    return Ok(told);
                }
            }
            Err(StoreFault::Gone(_) | StoreFault::Damaged { .. }) => {}
            Err(why) => return Err(why),
        }
        let told = begins(source);
        self.note(source.session, &told).await?;
        Ok(told)
    }

    /// Which version it is, where there are several.
    async fn note(&self, session: Uuid, told: &Session) -> Result<Option<String>, StoreFault> {
        let name = session_name(session);
        let plain = told.bytes().map_err(StoreFault::damaged(&name))?;
        self.put(Kind::Session, &name, plain).await.map(|(_, v)| v)
    }

    /// Chunks that are being swept away.
    async fn condemned(&self) -> Result<BTreeSet<ChunkRef>, StoreFault> {
        let mut all = BTreeSet::new();
        for (name, _) in self.list(CONDEMNED).await? {
            match self.read(Kind::Condemned, &name).await {
                Ok(plain) => {
                    all.extend(condemned(&plain).map_err(StoreFault::damaged(&name))?);
                }
                // Its sweep ended meanwhile.
                Err(StoreFault::Gone(_)) => {}
                Err(why) => return Err(why),
            }
        }
        Ok(all)
    }
}

/// What a point has of its parent must be sure to be there: once the time is over for which that was locked, it is not.
fn is_held(parent: &Manifest, locked: Option<&(Locking, Terms)>) -> bool {
    let until = parent.locked.map_or(0, |l| l.needs);
    locked.is_none_or(|(_, terms)| until > terms.now)
}

/// Compared a piece at a time: byte by byte takes ten times as long where nothing is optimised.
fn is_zeros(bytes: &[u8]) -> bool {
    const PIECE: [u8; 4096] = [0; 4096];
    bytes.chunks(PIECE.len()).all(|c| PIECE.starts_with(c))
}

fn session_name(session: Uuid) -> String {
    format!("{SESSIONS}/{session}")
}

/// Under which suffix a condemned chunk is stored anew: no other session uses it.
fn own_suffix(session: Uuid) -> u32 {
    let (_, _, _, last) = session.as_fields();
    u32::from_le_bytes([last[4], last[5], last[6], last[7]]) | 1
}

/// Grains in which one of these blocks lies.
fn grains(blocks: &RoaringBitmap) -> BTreeSet<u64> {
    let each = GRAIN / layers::GRAIN.0;
    blocks.iter().map(|b| u64::from(b) / each).collect()
}

/// A grain that was looked at.
enum Looked {
    Zeros,
    There(ChunkRef),
    Stored(ChunkRef, u64),
}

impl Writing<'_> {
    async fn all(mut self, named: Named) -> Result<Copied, StoreFault> {
        let source = self.source;
        let plans: Vec<Plan> = {
            let mut plans = Vec::new();
            for (n, disk) in source.disks.iter().enumerate() {
                plans.push(self.plan(n, disk).await?);
            }
            plans
        };
        let all: u64 = plans.iter().map(|p| p.look.len() as u64 * GRAIN).sum();
        self.progress.of.store(all, Ordering::Relaxed);
        for (n, (disk, plan)) in source.disks.iter().zip(plans).enumerate() {
            if n < self.told.next.0 {
                let past = plan.look.len() as u64 * GRAIN;
                self.progress.done.fetch_add(past, Ordering::Relaxed);
                continue;
            }
            self.disk(n, disk, plan).await?;
        }
        self.publish(named).await
    }

    /// Which grains of a disk must be read, and what stands everywhere else.
    async fn plan(&self, n: usize, disk: &SourceDisk) -> Result<Plan, StoreFault> {
        let before = self
            .parent
            .as_ref()
            .and_then(|p| p.disks.iter().find(|d| d.key == disk.key));
        let begun = self
            .told
            .disks
            .get(n)
            .filter(|_| self.told.next.0 == n && self.told.next.1 > 0);
        let pages = match (begun, before) {
            // As it was left: a page that the parent had may be all zeros by now.
            (Some(so_far), _) => by_place(so_far),
            (None, Some(before)) => by_place(&before.pages),
            (None, None) => BTreeMap::new(),
        };
        let last = disk.size.div_ceil(GRAIN);
        let mut look = match (before, &disk.changed) {
            (Some(_), Some(changed)) => grains(changed),
            // Nobody knows what changed: whatever holds something now, or did.
            (Some(before), None) => {
                let mut all = grains(&disk.held);
                for (at, page) in self.store.pages(&before.pages).await? {
                    all.extend(
                        page.0
                            .iter()
                            .map(|(place, _)| at * PAGE + u64::from(*place)),
                    );
                }
                all
            }
            (None, _) => grains(&disk.held),
        };
        // What the parent has and is being swept is stored anew.
        if let Some(before) = before.filter(|_| !self.condemned.is_empty()) {
            for at in &before.pages {
                let gone = at.chunk().is_none_or(|c| self.condemned.contains(&c));
                let page = self.store.page(at).await?;
                let swept = page
                    .0
                    .iter()
                    .filter(|(_, c)| gone || self.condemned.contains(c));
                look.extend(swept.map(|(place, _)| at.at * PAGE + u64::from(*place)));
            }
        }
        look.retain(|g| *g < last);
        // It became smaller: what stood behind its end must not come back when it grows again.
        let cut = before.is_some_and(|b| b.size > disk.size);
        if cut && !disk.size.is_multiple_of(GRAIN) {
            look.insert(disk.size / GRAIN);
        }
        Ok(Plan { look, pages, cut })
    }

    async fn disk(&mut self, n: usize, disk: &SourceDisk, plan: Plan) -> Result<(), StoreFault> {
        let from = if n == self.told.next.0 {
            self.told.next.1
        } else {
            0
        };
        let Plan {
            look,
            mut pages,
            cut,
        } = plan;
        let last = disk.size.div_ceil(GRAIN);
        // A page beyond the disk's end is of when it was larger.
        pages.retain(|at, _| *at < disk.size.div_ceil(GRAIN * PAGE));
        let past = look.range(..from).count() as u64 * GRAIN;
        self.progress.done.fetch_add(past, Ordering::Relaxed);
        let mut by_page: BTreeMap<u64, Vec<u64>> = BTreeMap::new();
        for grain in look.range(from..) {
            by_page.entry(grain / PAGE).or_default().push(*grain);
        }
        if cut && last > 0 {
            by_page.entry((last - 1) / PAGE).or_default();
        }
        for (at, grains) in by_page {
            let before = match pages.get(&at) {
                Some(before) => self.store.page(before).await?,
                None => Page::default(),
            };
            let within = |(place, _): &(u16, ChunkRef)| at * PAGE + u64::from(*place) < last;
            let mut page: BTreeMap<u16, ChunkRef> = before.0.into_iter().filter(within).collect();
            if grains.is_empty() {
                self.turned(at, &page, &mut pages).await?;
            }
            for some in grains.chunks(NOTED) {
                self.some(n, disk, some, &mut page).await?;
                self.turned(at, &page, &mut pages).await?;
                let next = some.last().map_or(0, |last| last + 1);
                self.noted(n, next, &pages).await?;
            }
        }
        self.noted(n + 1, 0, &pages).await
    }

    /// Reads, compares and stores a few grains.
    async fn some(
        &mut self,
        n: usize,
        disk: &SourceDisk,
        some: &[u64],
        page: &mut BTreeMap<u16, ChunkRef>,
    ) -> Result<(), StoreFault> {
        let this = &*self;
        let look: Vec<_> = some
            .iter()
            .map(|grain| this.look(n, disk.size, *grain))
            .collect();
        let all: Vec<(u64, u64, Looked)> = futures::stream::iter(look)
            .buffered(AT_ONCE)
            .try_collect()
            .await?;
        for (grain, length, looked) in all {
            // Below 4,096 by the division.
            let place = u16::try_from(grain % PAGE).unwrap_or(u16::MAX);
            self.told.measured.read += length;
            match looked {
                Looked::Zeros => page.remove(&place),
                Looked::There(chunk) => page.insert(place, chunk),
                Looked::Stored(chunk, stored) => {
                    self.told.measured.fresh += length;
                    self.told.measured.stored += stored;
                    page.insert(place, chunk)
                }
            };
        }
        Ok(())
    }

    /// Boxed: the compiler does not see of many at once that they can be sent.
    fn look(
        &self,
        n: usize,
        size: u64,
        grain: u64,
    ) -> BoxFuture<'_, Result<(u64, u64, Looked), StoreFault>> {
        Box::pin(async move {
            let length = GRAIN.min(size.saturating_sub(grain * GRAIN));
            let plain = self.extents.read(n, grain * GRAIN, length).await?;
            let looked = self.store_one(plain).await?;
            self.progress.done.fetch_add(GRAIN, Ordering::Relaxed);
            Ok((grain, length, looked))
        })
    }

    async fn store_one(&self, plain: Vec<u8>) -> Result<Looked, StoreFault> {
        if is_zeros(&plain) {
            return Ok(Looked::Zeros);
        }
        let sealer = self.store.sealer.clone();
        let (id, plain) = off_thread(move || (sealer.name(&plain), plain)).await?;
        let chunk = self.suffixed(id);
        if self.is_there(Kind::Chunk, &chunk).await? {
            return Ok(Looked::There(chunk));
        }
        let stored = self.put(Kind::Chunk, &chunk, plain).await?;
        self.progress.stored.fetch_add(stored, Ordering::Relaxed);
        Ok(Looked::Stored(chunk, stored))
    }

    /// Under which suffix it is stored.
    fn suffixed(&self, id: ChunkId) -> ChunkRef {
        let chunk = ChunkRef { id, suffix: 0 };
        match self.condemned.contains(&chunk) {
            true => ChunkRef {
                suffix: own_suffix(self.source.session),
                ..chunk
            },
            false => chunk,
        }
    }

    /// Whether it is there already, and stays as long as it must.
    async fn is_there(&self, kind: Kind, chunk: &ChunkRef) -> Result<bool, StoreFault> {
        if self.sure().contains(chunk) {
            return Ok(true);
        }
        let mut there = self.store.is_there(&chunk_name(chunk)).await?;
        if let (true, Some((locking, terms))) = (there, &self.locked) {
            let until = self.store.relied(locking, (kind, chunk), terms).await?;
            self.least
                .fetch_min(until.unwrap_or(u64::MAX), Ordering::Relaxed);
            there = until.is_some();
        }
        if there {
            self.is_sure(*chunk);
        }
        Ok(there)
    }

    fn sure(&self) -> MutexGuard<'_, BTreeSet<ChunkRef>> {
        self.sure.lock().unwrap_or_else(PoisonError::into_inner)
    }

    fn is_sure(&self, chunk: ChunkRef) {
        let mut sure = self.sure();
        if sure.len() >= REMEMBERED {
            sure.clear();
        }
        sure.insert(chunk);
    }

    async fn put(&self, kind: Kind, chunk: &ChunkRef, plain: Vec<u8>) -> Result<u64, StoreFault> {
        let target = self.locked.as_ref().map(|(_, terms)| terms.target);
        let name = chunk_name(chunk);
        let stored = self.store.keep(kind, &name, plain, target).await?;
        if let Some(target) = target {
            self.least.fetch_min(target, Ordering::Relaxed);
        }
        self.is_sure(*chunk);
        Ok(stored)
    }

    /// A page as it is now, in its place.
    async fn turned(
        &self,
        at: u64,
        page: &BTreeMap<u16, ChunkRef>,
        pages: &mut BTreeMap<u64, PageAt>,
    ) -> Result<(), StoreFault> {
        match self.put_page(at, page).await? {
            Some(put) => pages.insert(at, put),
            None => pages.remove(&at),
        };
        Ok(())
    }

    async fn put_page(
        &self,
        at: u64,
        page: &BTreeMap<u16, ChunkRef>,
    ) -> Result<Option<PageAt>, StoreFault> {
        if page.is_empty() {
            return Ok(None);
        }
        let plain = Page(page.iter().map(|(at, c)| (*at, *c)).collect()).bytes();
        let id = self.store.sealer.name(&plain);
        let chunk = self.suffixed(id);
        if !self.is_there(Kind::Page, &chunk).await? {
            self.put(Kind::Page, &chunk, plain).await?;
        }
        Ok(Some(PageAt::new(at, chunk)))
    }

    /// Writes down how far it is.
    async fn noted(
        &mut self,
        n: usize,
        next: u64,
        pages: &BTreeMap<u64, PageAt>,
    ) -> Result<(), StoreFault> {
        // A disk that is done leaves its pages at its own place.
        let of = if next == 0 { n.saturating_sub(1) } else { n };
        self.told
            .disks
            .resize(self.told.disks.len().max(of + 1), Vec::new());
        if let Some(slot) = self.told.disks.get_mut(of) {
            *slot = pages.values().cloned().collect();
        }
        self.told.next = (n, next);
        let here = u64::try_from(self.began.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.told.measured.took = self.before.saturating_add(here);
        if let Some((locking, _)) = &self.locked {
            let least = self.least.load(Ordering::Relaxed);
            self.told.locked = (least < u64::MAX).then_some(least);
            let now = self.store.note(self.source.session, &self.told).await?;
            // What it said before is of no use to anybody.
            if let Some(before) = std::mem::replace(&mut self.noted, now) {
                let name = session_name(self.source.session);
                locking.locks.remove(&name, &before).await?;
            }
            return Ok(());
        }
        let told = self.store.note(self.source.session, &self.told).await;
        told.map(|_| ())
    }

    /// Until when nobody can take the point away, and all that it needs: what is not locked for so long is from now on.
    async fn lock(&self) -> Result<Option<Locked>, StoreFault> {
        let Some((locking, _)) = &self.locked else {
            return Ok(None);
        };
        // It may have taken long until here.
        let terms = locking.terms().await?;
        let parent = self.parent.as_ref().and_then(|p| p.locked);
        let least = self.least.load(Ordering::Relaxed);
        let least = least.min(parent.map_or(u64::MAX, |l| l.needs));
        self.store.renew_front(locking, &terms).await?;
        let needs = if least < terms.until {
            let chunks = self.needed().await?;
            self.store.renew(locking, chunks, &terms).await?;
            terms.target
        } else {
            least.min(terms.target)
        };
        let until = terms.until;
        Ok(Some(Locked { until, needs }))
    }

    /// Every chunk and page of the point.
    async fn needed(&self) -> Result<BTreeSet<ChunkRef>, StoreFault> {
        let mut needed = BTreeSet::new();
        for pages in &self.told.disks {
            needed.extend(pages.iter().filter_map(PageAt::chunk));
            for (_, page) in self.store.pages(pages).await? {
                needed.extend(page.0.into_iter().map(|(_, chunk)| chunk));
            }
        }
        Ok(needed)
    }

    async fn publish(self, named: Named) -> Result<Copied, StoreFault> {
        let source = self.source;
        let locked = self.lock().await?;
        let disks = source
            .disks
            .iter()
            .zip(self.told.disks)
            .map(|(disk, pages)| Disk {
                key: disk.key,
                size: disk.size,
                pages,
            });
        let manifest = Manifest {
            format: FORMAT.to_owned(),
            store: self.store.id(),
            scope: SCOPE.to_owned(),
            session: source.session,
            parent: self.parent.as_ref().map(|p| p.session),
            instant: source.instant,
            consistency: source.consistency,
            machine: source.machine.clone(),
            disks: disks.collect(),
            measured: self.told.measured,
            locked,
        };
        let name = point_name(named.machine, named.instant, named.session);
        let plain = manifest.bytes().map_err(StoreFault::damaged(&name))?;
        let until = locked.map(|l| l.until);
        self.store.keep(Kind::Manifest, &name, plain, until).await?;
        self.store.drop(&session_name(source.session)).await?;
        self.store.counts(source.session).await?;
        Ok(Copied {
            named,
            measured: manifest.measured,
            locked: until,
        })
    }
}

/// What must be read of a disk, and the pages that stand until then.
struct Plan {
    look: BTreeSet<u64>,
    pages: BTreeMap<u64, PageAt>,
    /// The disk is smaller than the parent's.
    cut: bool,
}

fn by_place(pages: &[PageAt]) -> BTreeMap<u64, PageAt> {
    pages.iter().map(|p| (p.at, p.clone())).collect()
}
