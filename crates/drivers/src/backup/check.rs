//! Whether everything that points need is there, and, where that is wished, is what it should be.

use super::{Entry, Store, StoreFault};
use futures::{StreamExt, TryStreamExt};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;
use zastrugi_formats::backup::{ChunkRef, GRAIN, Kind, PAGE, chunk_name};

/// Looked at together.
const AT_ONCE: usize = 4;

/// How far it goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Deep {
    /// Every manifest and page is read, every chunk must be there.
    Names,
    /// Every chunk is read too.
    Bytes,
}

/// Something that a point needs and that is not as it should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Problem {
    pub machine: Uuid,
    pub instant: u64,
    /// Of which disk, counted from one, from which byte on; none: the point itself.
    pub at: Option<(usize, u64)>,
    pub why: String,
}

#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Checked {
    pub points: usize,
    /// Different ones.
    pub chunks: usize,
    /// Bytes that these take in the store.
    pub stored: u64,
    /// What these bytes are of disks.
    pub of: u64,
    /// Chunks that no point needs: left by runs that were broken off, or not yet swept.
    pub loose: usize,
    pub problems: Vec<Problem>,
}

impl Store {
    /// # Errors
    /// [`StoreFault`] where the store can't be asked; what is wrong in it is no error but an answer.
    pub async fn check(&self, deep: Deep) -> Result<Checked, StoreFault> {
        let mut checked = Checked::default();
        let there: BTreeMap<String, u64> = self.list("chunks").await?.into_iter().collect();
        // Where each chunk is first needed; a damaged one is told once.
        let mut needed: BTreeMap<ChunkRef, (Entry, usize, u64)> = BTreeMap::new();
        let mut pages: BTreeSet<ChunkRef> = BTreeSet::new();
        for entry in self.points(None).await? {
            checked.points += 1;
            let problem = |at, why: &StoreFault| Problem {
                machine: entry.named.machine,
                instant: entry.named.instant,
                at,
                why: why.to_string(),
            };
            let manifest = match self.manifest(&entry.named).await {
                Ok(manifest) => manifest,
                Err(why) if about_one(&why) => {
                    checked.problems.push(problem(None, &why));
                    continue;
                }
                Err(why) => return Err(why),
            };
            for (n, disk) in (1..).zip(&manifest.disks) {
                checked.of += disk.size;
                for at in &disk.pages {
                    let Some(chunk) = at.chunk() else { continue };
                    if !pages.insert(chunk) {
                        continue;
                    }
                    match self.page(at).await {
                        Ok(page) => {
                            let place = |p: u16| (at.at * PAGE + u64::from(p)) * GRAIN;
                            for (p, chunk) in page.0 {
                                needed.entry(chunk).or_insert((entry, n, place(p)));
                            }
                        }
                        Err(why) if about_one(&why) => {
                            checked
                                .problems
                                .push(problem(Some((n, at.at * PAGE * GRAIN)), &why));
                        }
                        Err(why) => return Err(why),
                    }
                }
            }
        }
        checked.chunks = needed.len() + pages.len();
        let named: BTreeSet<String> = needed.keys().chain(&pages).map(chunk_name).collect();
        checked.loose = there.keys().filter(|n| !named.contains(*n)).count();
        checked.stored = there
            .iter()
            .filter(|(n, _)| named.contains(*n))
            .map(|(_, s)| s)
            .sum();
        let wrong = self.wrong(&needed, &there, deep).await?;
        checked.problems.extend(wrong);
        Ok(checked)
    }

    async fn wrong(
        &self,
        needed: &BTreeMap<ChunkRef, (Entry, usize, u64)>,
        there: &BTreeMap<String, u64>,
        deep: Deep,
    ) -> Result<Vec<Problem>, StoreFault> {
        let look = |(chunk, of): (&ChunkRef, &(Entry, usize, u64))| {
            let (chunk, (entry, n, at)) = (*chunk, *of);
            async move {
                let why = if !there.contains_key(&chunk_name(&chunk)) {
                    Some(StoreFault::Gone(chunk_name(&chunk)))
                } else if deep == Deep::Bytes {
                    match self.chunk(Kind::Chunk, &chunk).await {
                        Ok(_) => None,
                        Err(why) if about_one(&why) => Some(why),
                        Err(why) => return Err(why),
                    }
                } else {
                    None
                };
                Ok(why.map(|why| Problem {
                    machine: entry.named.machine,
                    instant: entry.named.instant,
                    at: Some((n, at)),
                    why: why.to_string(),
                }))
            }
        };
        let all = futures::stream::iter(needed.iter().map(look)).buffered(AT_ONCE);
        let found: Vec<Option<Problem>> = all.try_collect().await?;
        Ok(found.into_iter().flatten().collect())
    }
}

/// Of one object, and not of the store as a whole.
fn about_one(why: &StoreFault) -> bool {
    matches!(why, StoreFault::Damaged { .. } | StoreFault::Gone(_))
}
