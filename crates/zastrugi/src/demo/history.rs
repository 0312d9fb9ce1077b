//! What the store of the demo has had for thirty days: points that the nightly job would have kept by now, each really there, with what
//! its machine held at that time. Afterwards the store is looked through like any other, and the points are of the job.

use crate::serve::Failed;
use futures::{StreamExt, TryStreamExt, future::BoxFuture, stream};
use roaring::RoaringBitmap;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Estate, Job, Machine},
    ids::draw_uuid,
    moment::{Moment, Span},
    recurrence::Recurrence,
};
use zastrugi_drivers::backup::{Extents, Progress, Source, SourceDisk, Store, StoreFault, kept};
use zastrugi_formats::backup::{Consistency, Named};
use zastrugi_standins::World;

/// So far back.
const DAYS: Span = Span::days(30);
/// Machines that hold more are not told of: the demo shall be there soon.
const MOST: u64 = 200 << 20;
/// Blocks of a chunk, of 64 KiB.
const EACH: u32 = 64;
const BLOCK: u64 = 64 << 10;
/// Machines that are written at the same time.
const AT_ONCE: usize = 3;

/// What a machine's first disk was like: what it is now, less what was written since.
struct Then {
    world: Arc<World>,
    machine: String,
    seed: u64,
    /// The first block of each chunk that was written, with when that was, the oldest first.
    writes: Vec<(u32, Moment)>,
    at: Moment,
}

impl Then {
    /// How often a block was written by then, and how often by now.
    fn version(&self, block: u32) -> (usize, usize) {
        let own = self
            .writes
            .iter()
            .filter(|(b, _)| *b / EACH == block / EACH);
        let all: Vec<Moment> = own.map(|(_, at)| *at).collect();
        (all.iter().filter(|at| **at <= self.at).count(), all.len())
    }
}

impl Extents for Then {
    fn read(
        &self,
        disk: usize,
        at: u64,
        length: u64,
    ) -> BoxFuture<'_, Result<Vec<u8>, StoreFault>> {
        Box::pin(async move {
            let gone = || StoreFault::Source("the machine is gone".into());
            let mut bytes = self
                .world
                .read_extent(&self.machine, disk, at, length)
                .ok_or_else(gone)?;
            let mut place = at;
            for piece in bytes.chunks_mut(usize::try_from(BLOCK).unwrap_or(usize::MAX)) {
                let block = u32::try_from(place / BLOCK).unwrap_or(u32::MAX);
                let (then, now) = self.version(block);
                if then < now && block.is_multiple_of(EACH) && piece.iter().any(|b| *b != 0) {
                    // Whatever stood there before.
                    before(piece, (self.seed, block, (now - then) as u64));
                }
                place += BLOCK;
            }
            Ok(bytes)
        })
    }
}

/// A page of other bytes at the beginning of a chunk; the rest is as it is now, so that a point takes little.
fn before(block: &mut [u8], (machine, number, version): (u64, u32, u64)) {
    for (n, bytes) in (0u64..).zip(block.chunks_mut(16).take(256)) {
        let drawn = draw_uuid(machine, (u64::from(number) << 20) | n, version);
        let length = bytes.len();
        bytes.copy_from_slice(&drawn.as_bytes()[..length]);
    }
}

/// Whether so little is on its disks that they are copied soon; what is on the first.
fn small(world: &World, machine: &Machine) -> Option<RoaringBitmap> {
    if machine.disks.len() != 1 {
        return None;
    }
    let blocks: RoaringBitmap = world.blocks(&machine.name, 0)?.into_iter().collect();
    (blocks.len() * BLOCK <= MOST).then_some(blocks)
}

/// A few chunks a day, the same ones again and again.
fn writes(machine: &Machine, blocks: &RoaringBitmap, days: &[Moment]) -> Vec<(u32, Moment)> {
    let chunks: Vec<u32> = {
        // The first 8 MiB are its file systems, which a guest leaves alone.
        let all = blocks.iter().map(|b| b / EACH).filter(|chunk| *chunk >= 2);
        let mut all: Vec<u32> = all.collect();
        all.dedup();
        all
    };
    let mut found = Vec::new();
    for (n, at) in (0u64..).zip(days) {
        let drawn = draw_uuid(machine.id.0, n, 0x6869_7374).as_u64_pair();
        let count = drawn.0 % 3 + 1;
        for k in 0..count {
            let pick = usize::try_from(drawn.1 >> (k * 8)).unwrap_or(0) % chunks.len().max(1);
            if let Some(chunk) = chunks.get(pick) {
                found.push((chunk * EACH, at.before(Span::mins(40))));
            }
        }
    }
    found
}

/// One machine: a point for each time that the job would have kept.
async fn write(
    store: &Store,
    world: Arc<World>,
    estate: &Estate,
    (machine, blocks): (&Machine, RoaringBitmap),
    (days, stay): (&[Moment], &[usize]),
) -> Result<(), StoreFault> {
    let writes = writes(machine, &blocks, days);
    let mut parent: Option<(Named, Moment)> = None;
    for n in stay {
        let due = days[*n];
        let taken = due.plus(Span::secs(2 + machine.id.0 % 50));
        let session = draw_uuid(machine.id.0, due.0.unsigned_abs(), 0x706f_696e);
        let since = |from: Moment| {
            let all = writes.iter().filter(|(_, at)| *at > from && *at <= taken);
            let all = all.flat_map(|(block, _)| *block..block + EACH);
            all.filter(|b| blocks.contains(*b))
                .collect::<RoaringBitmap>()
        };
        let disk = &machine.disks[0];
        let source = Source {
            session,
            instant: taken.0.unsigned_abs(),
            consistency: Consistency::Quiet,
            machine: kept(estate, machine),
            disks: vec![SourceDisk {
                key: disk.key,
                size: disk.size.0,
                held: blocks.clone(),
                changed: parent.map(|(_, at)| since(at)),
            }],
            parent: parent.map(|(named, _)| named),
        };
        let then = Then {
            world: world.clone(),
            machine: machine.name.clone(),
            seed: machine.id.0,
            writes: writes.clone(),
            at: taken,
        };
        let copied = store.copy(&source, &then, &Progress::default()).await?;
        parent = Some((copied.named, taken));
    }
    Ok(())
}

/// The points of a job, as it would have kept them.
pub(super) async fn points(
    store: &Store,
    world: &Arc<World>,
    estate: &Estate,
    job: &Job,
    now: Moment,
) -> Result<(), Failed> {
    let since = Recurrence {
        begins: now.before(DAYS),
        ..job.when.clone()
    };
    let days = since.between(now.before(DAYS), now);
    let stay: Vec<usize> = job.keeps.stay(&days, &job.when.zone).into_iter().collect();
    let all = estate.in_job(job).into_iter();
    let all = all.filter_map(|m| Some((m, small(world, m)?)));
    let writes = all.map(|(m, blocks)| -> BoxFuture<'_, Result<(), StoreFault>> {
        Box::pin(write(
            store,
            world.clone(),
            estate,
            (m, blocks),
            (&days, &stay),
        ))
    });
    let writes: Vec<_> = writes.collect();
    let done = stream::iter(writes)
        .buffer_unordered(AT_ONCE)
        .try_collect::<Vec<()>>();
    done.await.map_err(|e| Failed::Other(e.to_string()))?;
    Ok(())
}
