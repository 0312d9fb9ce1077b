//! A mover between two sites: asks what changed, reads it at the one, writes it at the other, and looks there until nothing is missing.

use super::at;
use crate::{
    Drivers, Outcome, Turn,
    agent::{Blocks, Delivered},
    backup::{Progress, StoreFault},
    fault::garbled,
    perform::{premise, stamp},
    rooms::carrying::{Arriving, Brought, Carried, Leaving, Paced, Shipped, Whither},
};
use futures::{StreamExt, TryStreamExt, future::BoxFuture, stream};
use roaring::RoaringBitmap;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError, atomic::Ordering},
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{CopyPlace, Estate, Host, Machine, Snapshot},
    ids::HostId,
    layers::GRAIN,
    moment::{Moment, Span},
    rooms::replicas::{Onto, Step},
    runs::{Fault, FaultKind},
    units::Bytes,
};

/// Pieces on the line at the same time.
const AT_ONCE: usize = 4;
/// Blocks in one piece: 4 MiB.
const PIECE: u32 = 64;
/// Extents that are compared at once, of 4 MiB.
const COMPARED: u64 = 64;
pub(super) const EXTENT: u64 = 4 << 20;
/// What lies at the far end is looked through this often, until nothing is missing.
const LOOKS: usize = 3;

/// All that one needs, for as long as it goes on.
struct Shipment {
    drivers: Drivers,
    from: Arc<Host>,
    arriving: Arriving,
    machine: Uuid,
    /// The replica.
    own: Uuid,
    taken: Snapshot,
    /// The point that the replica stands on.
    base: Option<Uuid>,
    disks: Vec<Onto>,
    /// By the pair, and by the job.
    paced: Vec<Paced>,
    squeezed: bool,
    whole: bool,
    began: Moment,
    keys: Keys,
}

/// By what the delivery is begun.
struct Keys {
    key: String,
    epoch: zastrugi_core::epoch::Epoch,
    fence: zastrugi_core::ids::Revision,
}

/// What has to go over of one disk: runs of blocks.
struct Wanted {
    disk: Uuid,
    size: u64,
    blocks: RoaringBitmap,
}

/// A run of blocks: the first, and how many.
type Run = (u32, u32);

impl Drivers {
    /// A host of this end at which a machine is read: its own if that carries, else any that carries and reaches its volume, else
    /// its own.
    fn reader(&self, estate: &Estate, step: &Step, machine: &Machine) -> Result<Arc<Host>, Fault> {
        let Step::Follow { via, way, .. } = step else {
            return Err(premise("Nothing was to be brought over."));
        };
        let own = machine.host.unwrap_or(*via);
        let volume = machine.disks.first().map(|d| d.volume);
        let carriers = estate.road(*way).map(|r| r.from.carriers.clone());
        let carriers = carriers.unwrap_or_default();
        let able = |id: &HostId| {
            let host = estate.hosts.get(id)?;
            let reaches = volume.is_some_and(|v| host.paths_up(v) > 0);
            (host.accepts_work() && reaches).then_some(host)
        };
        let carries = carriers.contains(&own).then(|| able(&own)).flatten();
        let other = || {
            let all: Vec<&Arc<Host>> = carriers.iter().filter_map(able).collect();
            let n = usize::try_from(machine.id.0).unwrap_or(0);
            all.get(n.checked_rem(all.len())?).copied()
        };
        let found = carries.or_else(other).or_else(|| estate.hosts.get(&own));
        found.cloned().ok_or_else(|| premise("The host is gone."))
    }

    pub(super) async fn ship(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Follow {
            machine,
            snapshot,
            way,
            replica,
            to,
            volume,
            delivery,
            disks,
            job,
            whole,
            ..
        } = step
        else {
            return Err(premise("Nothing was to be brought over."));
        };
        let (original, own) = (at(estate, *machine)?, at(estate, *replica)?);
        let taken = original.snapshots.get(*snapshot).cloned();
        let taken = taken.ok_or_else(|| premise("The state that was to be replicated is gone."))?;
        let road = estate.road(*way);
        let road = road.ok_or_else(|| premise("The pair is gone."))?;
        let on = estate.volumes.get(volume);
        let on = on.ok_or_else(|| premise("The volume is gone."))?;
        let (from, host) = (
            self.reader(estate, step, original)?,
            self.host_of(estate, *to)?,
        );
        for host in [&*from, host] {
            self.allowed(&host.access.address)?;
        }
        let arriving = Arriving {
            drivers: self.clone(),
            host: Arc::new(host.clone()),
            volume: on.uid.clone(),
            delivery: *delivery,
            last: Mutex::default(),
        };
        // From now on it can be told what changed since.
        let marks = original.host.and_then(|h| estate.hosts.get(&h));
        let marks = marks.unwrap_or(&from);
        let key = self.key_of(marks).await?;
        self.agent(marks, &key)
            .mark(stamp(turn), &original.uuid, snapshot)
            .await?;
        let there = CopyPlace::Replica(own.id, way.pair);
        self.release_mark(estate, (original, marks), there, turn)
            .await;
        let shipment = Shipment {
            drivers: self.clone(),
            from,
            arriving,
            machine: original.uuid,
            own: own.uuid,
            taken,
            base: own.follows().map(|p| p.session),
            disks: disks.clone(),
            paced: self.paced(estate, (Some(*way), *job), turn),
            squeezed: road.pair.squeezed,
            whole: *whole,
            began: turn.now,
            keys: Keys {
                key: turn.key.to_owned(),
                epoch: turn.epoch,
                fence: turn.fence,
            },
        };
        self.movers
            .begin(turn.key, Whither::OverPair, |p| shipment.carry(p));
        Ok(Outcome::NotYet {
            said: "its host is asked what changed".into(),
        })
    }
}

impl Shipment {
    async fn carry(self, progress: Arc<Progress>) -> Brought {
        let (wanted, compared) = self.wanted().await?;
        let blocks: u64 = wanted.iter().map(|w| w.blocks.len()).sum();
        let bytes = blocks * GRAIN.0;
        progress.of.store(bytes, Ordering::Relaxed);
        self.begin(&wanted, bytes).await?;
        match self.all(&wanted, &progress).await {
            Ok(()) => Ok(Carried::Shipped(Shipped {
                bytes: Bytes(bytes),
                packed: Bytes(progress.stored.load(Ordering::Relaxed)),
                compared,
            })),
            Err(why) => {
                let last = self.arriving.last.lock();
                let last = last.unwrap_or_else(PoisonError::into_inner).take();
                let other = || Fault::new(FaultKind::Refused, why.to_string(), "Retry.");
                Err(last.unwrap_or_else(other))
            }
        }
    }

    /// Boxed: the compiler does not see of the whole that it can be sent.
    fn blocks(&self) -> BoxFuture<'_, Result<Vec<Blocks>, Fault>> {
        Box::pin(async {
            let key = self.drivers.key_of(&self.from).await?;
            let agent = self.drivers.agent(&self.from, &key);
            let said = agent
                .blocks(&self.machine, &self.taken.uuid, self.base)
                .await?;
            said.read().map_err(|why| garbled(&self.from.name, &why))
        })
    }

    /// What has to go over, and whether it had to be found by comparing both sides.
    async fn wanted(&self) -> Result<(Vec<Wanted>, bool), Fault> {
        let blocks: BTreeMap<Uuid, Blocks> = self
            .blocks()
            .await?
            .into_iter()
            .map(|b| (b.key, b))
            .collect();
        let mut all = Vec::new();
        let mut compared = false;
        for onto in &self.disks {
            let Some(of) = blocks.get(&onto.original) else {
                let said =
                    "A disk that was to be replicated is not in the state that stands still.";
                return Err(premise(said));
            };
            let blocks = match (self.base.filter(|_| !onto.new), &of.changed) {
                (None, _) => of.held.clone(),
                (Some(_), Some(changed)) if !self.whole => changed.clone(),
                (Some(base), known) => {
                    compared |= known.is_none();
                    self.differing(base, onto, of).await?
                }
            };
            all.push(Wanted {
                disk: onto.original,
                size: of.size,
                blocks,
            });
        }
        Ok((all, compared))
    }

    /// Nobody knows what changed: both sides say what they have, and only what differs goes over.
    fn differing<'a>(
        &'a self,
        base: Uuid,
        onto: &'a Onto,
        of: &'a Blocks,
    ) -> BoxFuture<'a, Result<RoaringBitmap, Fault>> {
        Box::pin(async move {
            let (from, to) = (&self.from, &self.arriving.host);
            let mut found = RoaringBitmap::new();
            let mut extent = 0;
            while extent * EXTENT < of.size {
                let range = (extent * EXTENT, COMPARED);
                let here = self.digests(
                    from,
                    (&self.machine, &self.taken.uuid),
                    &onto.original,
                    range,
                );
                let there = self.digests(to, (&self.own, &base), &onto.disk.key, range);
                let (here, there) = futures::future::try_join(here, there).await?;
                for (n, digest) in (extent..).zip(&here) {
                    let other = usize::try_from(n - extent).ok().and_then(|n| there.get(n));
                    if other.map_or("", String::as_str) != digest {
                        let first = block(n * EXTENT);
                        found.insert_range(
                            first..block((n * EXTENT + EXTENT).min(of.size + GRAIN.0 - 1)),
                        );
                    }
                }
                extent += COMPARED;
            }
            Ok(found)
        })
    }

    fn digests<'a>(
        &'a self,
        host: &'a Host,
        (machine, snapshot): (&'a Uuid, &'a Uuid),
        disk: &'a Uuid,
        range: (u64, u64),
    ) -> BoxFuture<'a, Result<Vec<String>, Fault>> {
        Box::pin(async move {
            let key = self.drivers.key_of(host).await?;
            let agent = self.drivers.agent(host, &key);
            agent.digests(machine, snapshot, disk, range).await
        })
    }

    fn begin<'a>(&'a self, wanted: &'a [Wanted], bytes: u64) -> BoxFuture<'a, Result<(), Fault>> {
        Box::pin(async move {
            let host = &self.arriving.host;
            let key = self.drivers.key_of(host).await?;
            let disks: Vec<(Uuid, u64)> = wanted.iter().map(|w| (w.disk, w.size)).collect();
            let stamp = stamp(Turn {
                key: &self.keys.key,
                epoch: self.keys.epoch,
                fence: self.keys.fence,
                waited: Span(0),
                now: self.began,
                beside: 0,
            });
            let to = (self.arriving.volume.as_str(), &self.arriving.delivery);
            self.drivers
                .agent(host, &key)
                .begin_delivery(stamp, to, &disks, bytes)
                .await
        })
    }

    /// What the far end says that it has is not brought again; it is over when it says so of everything.
    async fn all(&self, wanted: &[Wanted], progress: &Progress) -> Result<(), StoreFault> {
        let leaving = self.leaving(wanted);
        for _ in 0..LOOKS {
            let there = self.arriving.there().await?;
            progress.done.store(0, Ordering::Relaxed);
            let mut missing = Vec::new();
            for (n, disk) in wanted.iter().enumerate() {
                for run in runs(&disk.blocks) {
                    match has(&there, disk, run) {
                        true => drop(progress.done.fetch_add(bytes_of(run), Ordering::Relaxed)),
                        false => missing.push((n, run)),
                    }
                }
            }
            if missing.is_empty() {
                return Ok(());
            }
            let (leaving, progress) = (&leaving, &progress);
            let pieces =
                missing
                    .into_iter()
                    .map(|(n, run)| -> BoxFuture<'_, Result<(), StoreFault>> {
                        Box::pin(self.piece(leaving, &wanted[n], (n, run), progress))
                    });
            let pieces: Vec<_> = pieces.collect();
            stream::iter(pieces)
                .buffer_unordered(AT_ONCE)
                .try_collect::<Vec<()>>()
                .await?;
        }
        let said = "The host at the other site forgets what it was brought.".to_owned();
        Err(StoreFault::Source(said))
    }

    fn leaving(&self, wanted: &[Wanted]) -> Leaving {
        Leaving {
            drivers: self.drivers.clone(),
            host: self.from.clone(),
            machine: self.machine,
            snapshot: self.taken.uuid,
            disks: wanted.iter().map(|w| w.disk).collect(),
            last: Mutex::default(),
            paced: vec![],
        }
    }

    async fn piece(
        &self,
        leaving: &Leaving,
        disk: &Wanted,
        (n, run): (usize, Run),
        progress: &Progress,
    ) -> Result<(), StoreFault> {
        let at = u64::from(run.0) * GRAIN.0;
        let length = bytes_of(run).min(disk.size.saturating_sub(at));
        let read = leaving.extent(n, at, length).await;
        let plain = match read {
            Ok(plain) => plain,
            Err(why) => {
                // The one end or the other: what was said last is told.
                let said = leaving
                    .last
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .take();
                *self
                    .arriving
                    .last
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner) = said;
                return Err(why);
            }
        };
        let (bytes, packed) = self.packed(plain).await;
        let size = bytes.len() as u64;
        for paced in &self.paced {
            paced.take(size).await;
        }
        self.arriving.put(disk.disk, at, bytes, packed).await?;
        progress.done.fetch_add(bytes_of(run), Ordering::Relaxed);
        progress.stored.fetch_add(size, Ordering::Relaxed);
        Ok(())
    }

    /// For the line, where that makes them fewer.
    async fn packed(&self, plain: Vec<u8>) -> (Vec<u8>, bool) {
        if !self.squeezed {
            return (plain, false);
        }
        let work = tokio::task::spawn_blocking(move || match zstd::bulk::compress(&plain, 1) {
            Ok(packed) if packed.len() < plain.len() => (packed, true),
            Ok(_) | Err(_) => (plain, false),
        });
        work.await.unwrap_or_default()
    }
}

fn block(at: u64) -> u32 {
    u32::try_from(at / GRAIN.0).unwrap_or(u32::MAX)
}

fn bytes_of((_, count): Run) -> u64 {
    u64::from(count) * GRAIN.0
}

/// Blocks beside each other, up to a piece.
fn runs(blocks: &RoaringBitmap) -> Vec<Run> {
    let mut all: Vec<Run> = Vec::new();
    for block in blocks {
        match all.last_mut() {
            Some((first, count)) if *first + *count == block && *count < PIECE => *count += 1,
            _ => all.push((block, 1)),
        }
    }
    all
}

/// Whether the far end has all of a run.
fn has(there: &[Delivered], disk: &Wanted, run: Run) -> bool {
    let of = there.iter().find(|d| d.key == disk.disk);
    let at = u64::from(run.0) * GRAIN.0;
    of.is_some_and(|d| d.has(at, bytes_of(run).min(disk.size.saturating_sub(at))))
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a piece is larger than a host takes, or a block does not go over.
    #[test]
    fn blocks_beside_each_other_go_together_up_to_a_piece() {
        let mut blocks: RoaringBitmap = [3, 5, 6, 7].into_iter().collect();
        blocks.insert_range(100..230);
        let runs = runs(&blocks);
        assert_eq!(runs, [(3, 1), (5, 3), (100, 64), (164, 64), (228, 2)]);
        let all: RoaringBitmap = runs.iter().flat_map(|(f, n)| *f..f + n).collect();
        assert_eq!(all, blocks);
    }
}
