//! A machine's disks as layers on each other: a snapshot freezes the current one, and what is written goes into a new one.

use super::blocks::{GRAIN, Written, grains};
use crate::rooms::{
    carrying::{self, Mark},
    packages::grains::{ZEROS, installed},
    storage::volume::Disk,
};
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

/// Layers that may lie on each other.
pub(crate) const DEEPEST: usize = 24;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Layer {
    pub(crate) parent: Option<u64>,
    pub(crate) disks: Vec<Written>,
}

impl Layer {
    fn len(&self) -> u64 {
        self.disks.iter().map(Written::len).sum()
    }
}

/// A snapshot: the layer that it froze, and what is kept of the moment.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Snapshot {
    pub(crate) layer: u64,
    pub(crate) name: String,
    pub(crate) note: String,
    /// Milliseconds since 1970.
    pub(crate) taken: i64,
    pub(crate) quiet: bool,
    /// It was off.
    pub(crate) off: bool,
    pub(crate) memory: Option<Kept>,
    /// How long the guest stood still for it, in milliseconds.
    #[serde(default)]
    pub(crate) still: i64,
}

/// A guest's memory as it was.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Kept {
    pub(crate) bytes: u64,
    /// How long it had been on, in milliseconds.
    pub(crate) up: i64,
}

/// How its guest writes: where, and how far it is.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
struct Pattern {
    seed: u64,
    /// Blocks that hold something; it writes within them.
    home: u32,
    often: u64,
    seldom: u64,
    /// Bytes that are not a whole block yet.
    rest: u64,
    /// Virtual milliseconds until which it was followed.
    at: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Chain {
    pub(crate) layers: BTreeMap<u64, Layer>,
    pub(crate) current: u64,
    pub(crate) snapshots: BTreeMap<String, Snapshot>,
    /// The next number of a layer, and of what is written to it.
    next: u64,
    pattern: Pattern,
    /// The last order to go back that was obeyed.
    #[serde(default)]
    pub(crate) went_back: String,
    /// The guest goes on with this when it is on again.
    #[serde(default)]
    pub(crate) resumes: Option<Kept>,
    /// Writings are numbered so much higher than layers: what came with a disk from elsewhere is older than all that follows.
    #[serde(default)]
    ahead: u64,
    /// From which it can be told what changed.
    #[serde(default)]
    pub(crate) marks: carrying::Marks,
    /// A version that the first layer lies on, with what is seen of it.
    #[serde(default)]
    beneath: Option<Beneath>,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Beneath {
    parent: String,
    disks: Vec<Written>,
}

/// What is done to a layer that nobody needs by its name any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(crate) struct Work {
    /// Blocks to be copied while nothing is written into where they go.
    pub(crate) still: u64,
    /// Blocks to be copied out of the layer that the guest writes to.
    pub(crate) moving: u64,
    /// Blocks that are needed besides until it is over.
    pub(crate) peak: u64,
}

impl Chain {
    /// The chain of a machine that has no snapshot yet.
    pub(crate) fn of(disks: &[Disk], seed: u64, now: i64) -> Chain {
        let full = |disk: &Disk| {
            let bytes = if disk.thick { disk.size } else { disk.written };
            let mut written = Written::default();
            let mut all = RoaringBitmap::new();
            all.insert_range(0..grains(bytes.min(disk.size)));
            written.put(0, &all);
            written
        };
        let base = Layer {
            parent: None,
            disks: disks.iter().map(full).collect(),
        };
        let holds = |d: &Disk| match d.written {
            0 => d.size / 50,
            written => written.min(d.size),
        };
        let home = disks.first().map_or(0, |d| grains(holds(d)));
        Chain {
            layers: BTreeMap::from([(0, base)]),
            current: 0,
            snapshots: BTreeMap::new(),
            next: 1,
            pattern: Pattern {
                seed,
                home,
                often: 0,
                seldom: 0,
                rest: 0,
                at: now,
            },
            went_back: String::new(),
            resumes: None,
            ahead: 0,
            marks: Default::default(),
            beneath: None,
        }
    }

    /// The chain of a machine whose disks begin with this on them; what is thick takes all of its size.
    pub(crate) fn with(disks: &[Disk], content: Vec<Written>, seed: u64, now: i64) -> Chain {
        let mut chain = Chain::on("", content, disks.len(), seed, now);
        let seen = chain.beneath.take().map(|b| b.disks).unwrap_or_default();
        let none = std::iter::repeat_with(Written::default);
        let all = disks.iter().zip(seen.into_iter().chain(none));
        let full = |(disk, content): (&Disk, Written)| match disk.thick {
            true => {
                let mut written = Written::default();
                written.put(0, &RoaringBitmap::from_iter(0..grains(disk.size)));
                written.covered_by(&content)
            }
            false => content,
        };
        let disks = all.map(full).collect();
        chain.layers = BTreeMap::from([(
            0,
            Layer {
                parent: None,
                disks,
            },
        )]);
        chain
    }

    /// The chain of a machine whose disks lie on a version.
    pub(crate) fn on(
        parent: &str,
        content: Vec<Written>,
        disks: usize,
        seed: u64,
        now: i64,
    ) -> Chain {
        let mut chain = Chain::of(&[], seed, now);
        let newest = content.iter().filter_map(Written::newest).max();
        chain.ahead = newest.map_or(1, |n| n + 1);
        chain.pattern.home = content
            .first()
            .and_then(|d| d.all().max())
            .map_or(0, |last| last + 1);
        let base = Layer {
            parent: None,
            disks: vec![Written::default(); disks],
        };
        chain.layers = BTreeMap::from([(0, base)]);
        chain.beneath = Some(Beneath {
            parent: parent.to_owned(),
            disks: content,
        });
        chain
    }

    /// The version that it lies on.
    pub(crate) fn parent(&self) -> Option<&str> {
        self.beneath.as_ref().map(|b| b.parent.as_str())
    }

    fn first(&self) -> Option<u64> {
        let mut all = self.layers.iter();
        all.find(|(_, l)| l.parent.is_none()).map(|(n, _)| *n)
    }

    /// Bytes that its own first layer would have to take to lie on nothing.
    pub(crate) fn lacks(&self) -> u64 {
        let Some(beneath) = &self.beneath else {
            return 0;
        };
        let first = self.first().and_then(|n| self.layers.get(&n));
        let own = first.map(|l| l.disks.as_slice()).unwrap_or_default();
        let lacks = |(n, under): (usize, &Written)| {
            let over = own.get(n).map(Written::all).unwrap_or_default();
            under.all().difference_len(&over)
        };
        beneath.disks.iter().enumerate().map(lacks).sum::<u64>() * GRAIN
    }

    /// It lies on nothing from now on.
    pub(crate) fn become_whole(&mut self) {
        let (Some(beneath), Some(first)) = (self.beneath.take(), self.first()) else {
            return;
        };
        if let Some(layer) = self.layers.get_mut(&first) {
            for (over, under) in layer.disks.iter_mut().zip(beneath.disks) {
                *over = under.covered_by(over);
            }
        }
    }

    /// Bytes of all layers and of kept memory.
    pub(crate) fn bytes(&self) -> u64 {
        let blocks: u64 = self.layers.values().map(Layer::len).sum();
        let memory = self.snapshots.values().filter_map(|s| s.memory);
        blocks * GRAIN + memory.map(|m| m.bytes).sum::<u64>()
    }

    /// Layers from the current one down to the first.
    pub(crate) fn path(&self, from: u64) -> Vec<u64> {
        let mut path = vec![from];
        let mut at = from;
        while let Some(parent) = self.layers.get(&at).and_then(|l| l.parent) {
            path.push(parent);
            at = parent;
        }
        path
    }

    /// The snapshot nearest beneath a layer, itself not counted.
    pub(crate) fn beneath(&self, layer: u64) -> Option<&str> {
        let below = self.path(layer);
        below.iter().skip(1).find_map(|at| self.named(*at))
    }
    pub(crate) fn named(&self, layer: u64) -> Option<&str> {
        self.snapshots
            .iter()
            .find(|(_, s)| s.layer == layer)
            .map(|(id, _)| id.as_str())
    }
    fn children(&self, layer: u64) -> Vec<u64> {
        let all = self.layers.iter();
        all.filter(|(_, l)| l.parent == Some(layer))
            .map(|(n, _)| *n)
            .collect()
    }

    /// Freezes the current layer under a name.
    pub(crate) fn take(&mut self, id: &str, snapshot: Snapshot) {
        let frozen = self.current;
        let disks = self.layers.get(&frozen).map_or(0, |l| l.disks.len());
        self.begin_on(Some(frozen), disks);
        self.snapshots.insert(
            id.to_owned(),
            Snapshot {
                layer: frozen,
                ..snapshot
            },
        );
    }

    fn begin_on(&mut self, parent: Option<u64>, disks: usize) {
        let fresh = Layer {
            parent,
            disks: vec![Written::default(); disks],
        };
        self.current = self.next;
        self.layers.insert(self.next, fresh);
        self.next += 1;
    }

    /// What is written from now on lies on a snapshot; what was written since is dropped where nobody else needs it.
    pub(crate) fn go_back(&mut self, id: &str) -> bool {
        let Some(target) = self.snapshots.get(id).cloned() else {
            return false;
        };
        let left = self.current;
        let disks = self.layers.get(&left).map_or(0, |l| l.disks.len());
        self.begin_on(Some(target.layer), disks);
        let mut at = Some(left);
        while let Some(layer) = at
            && layer != self.current
            && self.named(layer).is_none()
            && self.children(layer).is_empty()
        {
            at = self.layers.remove(&layer).and_then(|l| l.parent);
        }
        self.resumes = target.memory;
        true
    }

    /// Takes names away, and folds what nobody needs by name any more.
    pub(crate) fn forget(&mut self, ids: &[String]) {
        for id in ids {
            self.snapshots.remove(id);
        }
        while let Some(layer) = self.idle() {
            self.fold(layer);
        }
    }

    /// What that would cost.
    pub(crate) fn work(&self, ids: &[String]) -> Work {
        let mut then = self.clone();
        for id in ids {
            then.snapshots.remove(id);
        }
        let mut all = Work::default();
        while let Some(layer) = then.idle() {
            let one = then.cost(layer);
            all = Work {
                still: all.still + one.still,
                moving: all.moving + one.moving,
                peak: all.peak.max(one.peak),
            };
            then.fold(layer);
        }
        all
    }

    /// A layer without a name that nothing lies on, or one thing alone.
    fn idle(&self) -> Option<u64> {
        let named: BTreeSet<u64> = self.snapshots.values().map(|s| s.layer).collect();
        let mut free = self
            .layers
            .keys()
            .filter(|n| **n != self.current && !named.contains(n));
        free.find(|n| self.children(**n).len() <= 1).copied()
    }

    fn cost(&self, layer: u64) -> Work {
        let children = self.children(layer);
        let (Some(k), [child]) = (self.layers.get(&layer), children.as_slice()) else {
            return Work::default();
        };
        let Some(c) = self.layers.get(child) else {
            return Work::default();
        };
        let running = *child == self.current;
        let mut work = Work::default();
        for (under, over) in k.disks.iter().zip(&c.disks) {
            let (under, over) = (under.all(), over.all());
            let up = under.difference_len(&over);
            if up <= over.len() {
                work.still += up;
                work.peak += up;
            } else if running {
                work.moving += over.len();
                work.peak += over.difference_len(&under);
            } else {
                work.still += over.len();
                work.peak += over.difference_len(&under);
            }
        }
        work
    }

    fn fold(&mut self, layer: u64) {
        let child = self.children(layer).first().copied();
        let Some(k) = self.layers.remove(&layer) else {
            return;
        };
        let Some(c) = child.and_then(|c| self.layers.get_mut(&c)) else {
            return;
        };
        c.parent = k.parent;
        // A disk that came later is in the upper one alone.
        for (over, under) in c.disks.iter_mut().zip(k.disks) {
            *over = under.covered_by(over);
        }
    }

    /// Without a snapshot there is one layer: its disk takes what it holds.
    pub(crate) fn alone(&self) -> Option<Vec<u64>> {
        let [only] = self.layers.values().collect::<Vec<_>>()[..] else {
            return None;
        };
        // Which blocks came with a disk from elsewhere, and what changed since a mark, is told by the chain alone.
        let none = self.snapshots.is_empty()
            && self.resumes.is_none()
            && self.ahead == 0
            && self.marks.is_empty();
        none.then(|| only.disks.iter().map(|d| d.len() * GRAIN).collect())
    }

    /// What a guest wants to have written by now, at so many bytes a second; nothing before `every` milliseconds have passed.
    pub(crate) fn due(&self, rate: u64, now: i64, every: i64) -> u64 {
        let passed = now - self.pattern.at;
        if passed < every {
            return 0;
        }
        u64::try_from(passed).unwrap_or(0).saturating_mul(rate) / 1000
    }

    /// The guest was followed until then, without having written.
    pub(crate) fn rests_until(&mut self, now: i64) {
        self.pattern.at = self.pattern.at.max(now);
    }

    /// So much is written where this guest writes: nine of ten times to the same twentieth of what it holds.
    pub(crate) fn writes(&mut self, bytes: u64, now: i64) {
        self.rests_until(now);
        let p = &mut self.pattern;
        p.rest += bytes;
        let count = p.rest / GRAIN;
        p.rest %= GRAIN;
        if count == 0 || p.home == 0 {
            return;
        }
        // What it was installed with stays as it is.
        let first = if p.home > 2 * installed() {
            installed()
        } else {
            0
        };
        let home = u64::from(p.home - first);
        let hot = (home / 20).max(1);
        let begin = p.seed % (home - hot + 1);
        let often = count - count / 10;
        let mut all = RoaringBitmap::new();
        let number = |n: u64| u32::try_from(n).unwrap_or(u32::MAX).saturating_add(first);
        if often >= hot {
            all.insert_range(number(begin)..number(begin + hot));
        } else {
            let at = |i: u64| number(begin + (p.often + i) % hot);
            all.extend((0..often).map(at));
        }
        // Every block once before one comes twice.
        let step = stride(home);
        let seldom = (count / 10).min(home);
        let at = |i: u64| number((p.seldom + i).wrapping_mul(step) % home);
        all.extend((0..seldom).map(at));
        // A loader that is gone does not come back by what a guest writes.
        if crate::rooms::machines::questions::spoilt(Some(self)) {
            all.remove(0);
        }
        let p = &mut self.pattern;
        p.often += often;
        p.seldom += seldom;
        self.put(0, &all);
    }

    /// From now on it is told what changed since; what is written from now on is numbered higher than all that was.
    pub(crate) fn mark(&mut self, id: &str, mark: Mark) {
        let newest = mark.disks.values().filter_map(Written::newest).max();
        self.ahead = self.ahead.max(newest.map_or(0, |n| n + 1));
        carrying::keep(&mut self.marks, id, mark);
    }

    /// Blocks of a disk get new content.
    pub(crate) fn put(&mut self, disk: usize, blocks: &RoaringBitmap) {
        let writing = self.current + self.ahead;
        let written = self
            .layers
            .get_mut(&self.current)
            .and_then(|l| l.disks.get_mut(disk));
        if let Some(written) = written {
            written.put(writing, blocks);
        }
    }

    /// By which writing the first block of the first disk is as it is now; none: it holds nothing.
    pub(crate) fn first_block(&self) -> Option<u64> {
        let first = |disks: &[Written]| disks.first()?.within(0..1).first().map(|(_, n)| *n);
        let layers = self.path(self.current).into_iter();
        let mut own = layers.filter_map(|n| first(&self.layers.get(&n)?.disks));
        own.next().or_else(|| first(&self.beneath.as_ref()?.disks))
    }

    /// How many disks a layer holds.
    pub(crate) fn disks_of(&self, layer: u64) -> usize {
        self.layers.get(&layer).map_or(0, |l| l.disks.len())
    }

    /// One more disk, with what is on it.
    pub(crate) fn put_in(&mut self, content: Written) {
        let newest = content.newest();
        self.ahead = self.ahead.max(newest.map_or(0, |n| n + 1));
        if let Some(layer) = self.layers.get_mut(&self.current) {
            layer.disks.push(content);
        }
    }

    /// A disk holds this and nothing of what it held; for a chain of a single layer.
    pub(crate) fn fill(&mut self, disk: usize, content: Written, of: &Disk) {
        let newest = content.newest();
        self.ahead = self.ahead.max(newest.map_or(0, |n| n + 1));
        let mut full = Written::default();
        if of.thick {
            full.put(0, &RoaringBitmap::from_iter(0..grains(of.size)));
        }
        let layer = self.layers.get_mut(&self.current);
        if let Some(slot) = layer.and_then(|l| l.disks.get_mut(disk)) {
            *slot = full.covered_by(&content);
        }
    }

    /// A disk holds this and nothing of what it held; what lies beneath the layer that is written to stays as it is.
    pub(crate) fn lay_over(&mut self, disk: usize, content: Written, of: &Disk) {
        if self.layers.len() == 1 && self.beneath.is_none() {
            return self.fill(disk, content, of);
        }
        let newest = content.newest();
        self.ahead = self.ahead.max(newest.map_or(0, |n| n + 1));
        let current = self.current;
        let now = self.seen_from(current).into_iter().nth(disk);
        let now = now.unwrap_or_default();
        let mut over = Written::default();
        over.put(ZEROS, &(now.all() - content.all()));
        let had: BTreeMap<u64, &RoaringBitmap> = now.writings().collect();
        for (number, blocks) in content.writings() {
            let same = had.get(&number).map(|b| *b & blocks).unwrap_or_default();
            over.put(number, &(blocks - same));
        }
        let layer = self.layers.get_mut(&current);
        if let Some(slot) = layer.and_then(|l| l.disks.get_mut(disk)) {
            *slot = std::mem::take(slot).covered_by(&over);
        }
    }

    /// Whether it stands on this snapshot, and nothing was written since.
    pub(crate) fn stands_on(&self, id: &str) -> bool {
        let fresh = self.layers.get(&self.current).is_some_and(|l| l.len() == 0);
        fresh && self.beneath(self.current) == Some(id)
    }

    /// These blocks of a disk hold this now, or nothing; the others hold what they held.
    pub(crate) fn lay_in(&mut self, disk: usize, content: &Written, brought: &RoaringBitmap) {
        let newest = content.newest();
        self.ahead = self.ahead.max(newest.map_or(0, |n| n + 1));
        let now = self.seen_from(self.current).into_iter().nth(disk);
        let mut over = content.clone();
        let emptied = (brought - content.all()) & now.unwrap_or_default().all();
        over.put(ZEROS, &emptied);
        let layer = self.layers.get_mut(&self.current);
        if let Some(slot) = layer.and_then(|l| l.disks.get_mut(disk)) {
            *slot = std::mem::take(slot).covered_by(&over);
        }
    }

    /// One disk less; answers what is on it now.
    pub(crate) fn take_out(&mut self, disk: usize) -> Written {
        let mut seen = self.seen_from(self.current);
        for layer in self.layers.values_mut() {
            if disk < layer.disks.len() {
                layer.disks.remove(disk);
            }
        }
        if disk == 0 {
            let next = seen.get(1).and_then(|d| d.all().max());
            self.pattern.home = next.map_or(0, |last| last + 1);
        }
        match disk < seen.len() {
            true => seen.swap_remove(disk),
            false => Written::default(),
        }
    }

    /// What the first disk takes that did not hold anything, at its end.
    pub(crate) fn grows(&mut self, bytes: u64, size: u64) {
        let end = grains(size);
        let from = self.pattern.home;
        let to = from.saturating_add(grains(bytes)).min(end);
        let mut more = RoaringBitmap::new();
        more.insert_range(from..to);
        self.pattern.home = to.max(from);
        self.put(0, &more);
    }

    /// All content that is seen from a layer, disk by disk: under each writing its blocks.
    pub(crate) fn seen_from(&self, layer: u64) -> Vec<Written> {
        let mut path = self.path(layer);
        path.reverse();
        let layers = path.iter().filter_map(|n| self.layers.get(n));
        let beneath = self.beneath.as_ref().map(|b| b.disks.clone());
        layers.fold(beneath.unwrap_or_default(), |under: Vec<Written>, layer| {
            let none = std::iter::repeat_with(Written::default);
            let under = under.into_iter().chain(none);
            under
                .zip(&layer.disks)
                .map(|(under, over)| under.covered_by(over))
                .collect()
        })
    }
}

/// A step that visits every block before one comes twice: near the golden section, without a common factor.
fn stride(of: u64) -> u64 {
    let gcd = |mut a: u64, mut b: u64| {
        while b > 0 {
            (a, b) = (b, a % b);
        }
        a
    };
    let near = (of / 1000 * 618).max(1);
    (near..).find(|n| gcd(*n, of) == 1).unwrap_or(1)
}

#[cfg(test)]
mod tests;
