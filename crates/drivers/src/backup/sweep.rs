//! What no point needs any more is taken away, while others write: chunks are condemned first, and go only once nobody can rely on
//! them any more (`docs/store-format.md`, *Writing, and taking away*).
//!
//! ```text
//! condemned/n ──► waiting/n: who wrote then ──► all of them published, or revoked ──► marked again ──► gone
//! ```

use super::{Store, StoreFault};
use futures::{StreamExt, TryStreamExt, future::BoxFuture};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;
use zastrugi_formats::backup::{
    CONDEMNED, ChunkRef, Kind, Named, REVOKED, SESSIONS, WAITING, chunk_name, chunk_named,
    condemned, condemned_bytes, waiting, waiting_bytes,
};

/// Pages that are read, and chunks that are removed, at the same time.
const AT_ONCE: usize = 8;
/// Chunks of one list: 400 GiB of disks.
const LISTED: usize = 100_000;

/// What a sweep did.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Swept {
    /// Chunks that went, and what they took.
    pub gone: u64,
    pub freed: u64,
    /// Chunks that are condemned now, and go at a later sweep if nobody needs them then.
    pub condemned: u64,
    /// Chunks that nobody needs, and that nobody can take away yet.
    pub locked: u64,
    /// Lists from before for which somebody who writes is still waited.
    pub waits: u64,
}

/// The number of a list, from its name.
fn number(name: &str) -> Option<u64> {
    name.rsplit('/').next()?.parse().ok()
}

fn session_of(name: &str) -> Option<Uuid> {
    name.rsplit('/').next()?.parse().ok()
}

impl Store {
    /// A point that nobody wants any more. What it alone needed goes with a later sweep.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be asked.
    pub async fn expire(&self, named: &Named) -> Result<(), StoreFault> {
        self.drop(&named.path()).await
    }

    /// A session that came to nothing, and that nobody goes on with.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be asked.
    pub async fn end_session(&self, session: Uuid) -> Result<(), StoreFault> {
        self.drop(&format!("{SESSIONS}/{session}")).await
    }

    /// Takes away what was condemned before and nobody needs, and condemns what nobody needs now. `live` are the sessions that
    /// somebody may still go on with: any other that a list from before waits for is revoked, and never counts. `n` is larger than
    /// that of any sweep before. It is safe to sweep again after any fault, and for two at once.
    ///
    /// # Errors
    /// [`StoreFault`] where the store can't be asked.
    pub fn sweep<'a>(
        &'a self,
        live: &'a BTreeSet<Uuid>,
        n: u64,
    ) -> BoxFuture<'a, Result<Swept, StoreFault>> {
        Box::pin(self.swept(live, n))
    }

    async fn swept(&self, live: &BTreeSet<Uuid>, n: u64) -> Result<Swept, StoreFault> {
        let mut swept = Swept::default();
        let mut waiting = BTreeSet::new();
        let mut free = Vec::new();
        for (name, _) in self.list(CONDEMNED).await? {
            let Some(list) = number(&name) else { continue };
            let Some(chunks) = self.list_of(list).await? else {
                continue;
            };
            if self.is_free(list, live).await? {
                free.push((list, chunks));
            } else {
                swept.waits += 1;
                waiting.extend(chunks);
            }
        }
        // In this order: what is stored and needed from now on is in no list that is made of it.
        let mut there: BTreeMap<ChunkRef, u64> = BTreeMap::new();
        for (name, size) in self.list("chunks").await? {
            there.extend(chunk_named(&name).map(|chunk| (chunk, size)));
        }
        let needed = self.needed().await?;
        for (list, chunks) in free {
            let gone: Vec<ChunkRef> = chunks.difference(&needed).copied().collect();
            let kept = self.remove(&gone).await?;
            for chunk in gone.iter().filter(|c| !kept.contains(c)) {
                if let Some(size) = there.remove(chunk) {
                    swept.gone += 1;
                    swept.freed += size;
                }
            }
            self.drop(&format!("{CONDEMNED}/{list}")).await?;
            self.drop(&format!("{WAITING}/{list}")).await?;
        }
        let loose = there.into_keys();
        let loose: Vec<ChunkRef> = loose
            .filter(|c| !needed.contains(c) && !waiting.contains(c))
            .collect();
        let loose = self.not_locked(loose, &mut swept).await?;
        swept.condemned = loose.len() as u64;
        for (list, chunks) in (n..).zip(loose.chunks(LISTED)) {
            let name = format!("{CONDEMNED}/{list}");
            self.write(Kind::Condemned, &name, condemned_bytes(chunks))
                .await?;
            self.wait_from_now(list).await?;
        }
        Ok(swept)
    }

    async fn list_of(&self, list: u64) -> Result<Option<BTreeSet<ChunkRef>>, StoreFault> {
        let name = format!("{CONDEMNED}/{list}");
        match self.read(Kind::Condemned, &name).await {
            Ok(plain) => {
                let read = condemned(&plain).map_err(StoreFault::damaged(&name))?;
                Ok(Some(read))
            }
            // Another sweep was faster.
            Err(StoreFault::Gone(_)) => Ok(None),
            Err(why) => Err(why),
        }
    }

    async fn sessions(&self) -> Result<BTreeSet<Uuid>, StoreFault> {
        let all = self.list(SESSIONS).await?;
        Ok(all.iter().filter_map(|(n, _)| session_of(n)).collect())
    }

    /// Whoever writes now may not know of the list; whoever begins later does.
    async fn wait_from_now(&self, list: u64) -> Result<(), StoreFault> {
        let sessions = self.sessions().await?;
        let name = format!("{WAITING}/{list}");
        self.write(Kind::Waiting, &name, waiting_bytes(&sessions))
            .await
            .map(|_| ())
    }

    /// Whether nobody is left who wrote when it was made.
    async fn is_free(&self, list: u64, live: &BTreeSet<Uuid>) -> Result<bool, StoreFault> {
        let name = format!("{WAITING}/{list}");
        let waits = match self.read(Kind::Waiting, &name).await {
            Ok(plain) => waiting(&plain).map_err(StoreFault::damaged(&name))?,
            // Its sweep was broken off before it wrote that down.
            Err(StoreFault::Gone(_)) => {
                self.wait_from_now(list).await?;
                return Ok(false);
            }
            Err(why) => return Err(why),
        };
        let there = self.sessions().await?;
        let mut free = true;
        for session in waits.intersection(&there) {
            if live.contains(session) {
                free = false;
                continue;
            }
            self.revoke(*session).await?;
        }
        Ok(free)
    }

    /// Whatever it writes from now on never counts. A writer drops its session when its point is there, and looks after that whether
    /// it was revoked: so either it knows, or it was done before.
    async fn revoke(&self, session: Uuid) -> Result<(), StoreFault> {
        let name = format!("{REVOKED}/{session}");
        self.write(Kind::Session, &name, vec![]).await?;
        match self.sessions().await?.contains(&session) {
            true => self.end_session(session).await,
            false => self.drop(&name).await,
        }
    }

    /// Every chunk and page that a point names.
    async fn needed(&self) -> Result<BTreeSet<ChunkRef>, StoreFault> {
        let mut needed = BTreeSet::new();
        for entry in self.points(None).await? {
            let manifest = match self.manifest(&entry.named).await {
                Ok(manifest) => manifest,
                // It expired meanwhile.
                Err(StoreFault::Gone(_)) => continue,
                Err(why) => return Err(why),
            };
            let pages = manifest.disks.iter().flat_map(|d| &d.pages);
            let fresh = pages.filter_map(|at| Some((at, at.chunk()?)));
            let fresh: Vec<_> = fresh.filter(|(_, chunk)| needed.insert(*chunk)).collect();
            let read: Vec<BoxFuture<'_, _>> = fresh
                .into_iter()
                .map(|(at, _)| -> BoxFuture<'_, _> { Box::pin(self.page(at)) })
                .collect();
            let read = futures::stream::iter(read).buffer_unordered(AT_ONCE);
            for page in read.try_collect::<Vec<_>>().await? {
                needed.extend(page.0.into_iter().map(|(_, chunk)| chunk));
            }
        }
        Ok(needed)
    }

    /// What nobody can take away yet is not condemned: whoever writes may rely on it, and lets it stay longer.
    async fn not_locked(
        &self,
        loose: Vec<ChunkRef>,
        swept: &mut Swept,
    ) -> Result<Vec<ChunkRef>, StoreFault> {
        let Some(locking) = &self.locking else {
            return Ok(loose);
        };
        let kept = self.retained(locking, &loose).await?;
        let kept: BTreeSet<ChunkRef> = kept.into_iter().collect();
        swept.locked = kept.len() as u64;
        Ok(loose.into_iter().filter(|c| !kept.contains(c)).collect())
    }

    /// Takes chunks away; those that are locked stay, and are told.
    async fn remove(&self, chunks: &[ChunkRef]) -> Result<BTreeSet<ChunkRef>, StoreFault> {
        let drops: Vec<BoxFuture<'_, Result<Option<ChunkRef>, StoreFault>>> = chunks
            .iter()
            .map(|chunk| -> BoxFuture<'_, _> {
                Box::pin(async move {
                    match self.drop(&chunk_name(chunk)).await {
                        Ok(()) => Ok(None),
                        Err(StoreFault::Locked(_)) => Ok(Some(*chunk)),
                        Err(why) => Err(why),
                    }
                })
            })
            .collect();
        let all = futures::stream::iter(drops).buffer_unordered(AT_ONCE);
        let kept: Vec<Option<ChunkRef>> = all.try_collect().await?;
        Ok(kept.into_iter().flatten().collect())
    }
}
