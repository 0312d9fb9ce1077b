//! Disks as layers on each other: what a snapshot holds alone, what folding one away costs, what going back loses (rules,
//! section 13).
//!
//! A layer has the blocks that were written since it began, as a compressed bitmap (Chambi, Lemire, Kaser, Godin: *Better bitmap
//! performance with Roaring bitmaps*, Software: Practice and Experience 46, 2016). A snapshot names the layer that it froze. Once
//! nobody needs it by name, layer `k` with its only child `c` becomes one with it: either `|k \ c|` blocks are copied up into `c`,
//! or `|c|` down into `k`, whichever is less. Freed are the `|k ∩ c|` blocks that were written again.

use crate::{
    moment::Span,
    units::{Bytes, Rate, round},
};
use roaring::RoaringBitmap;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;

/// Bytes of a block.
pub const GRAIN: Bytes = Bytes(64 << 10);
/// Layers that may lie on each other.
pub const DEEPEST: usize = 24;
/// Reads take longer by so many hundredths for each layer beneath the current one.
pub const SLOWER: usize = 2;

/// What a machine stands still for when it changes over to other layers.
pub const STILL: Span = Span::millis(300);

/// A layer: of each disk the blocks that it holds.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Layer {
    pub parent: Option<u64>,
    /// Which snapshot froze it; none: it is only there because others lie on it, or it is the current one.
    pub snapshot: Option<Uuid>,
    pub disks: Vec<RoaringBitmap>,
}

// Equal bitmaps have equal blocks.
impl Eq for Layer {}

/// All layers of a machine, as its host tells of them.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Chain {
    pub layers: BTreeMap<u64, Layer>,
    /// What is written to now.
    pub current: u64,
}

/// What folding costs and brings.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Fold {
    /// Copied between layers that nobody writes to meanwhile, or into the one that is.
    pub still: Bytes,
    /// Copied out of the layer that is written to: what is written meanwhile is copied again.
    pub moving: Bytes,
    /// Room that is free again at the end.
    pub freed: Bytes,
    /// Room that is needed besides while it lasts.
    pub peak: Bytes,
    /// Layers without a name that stay because several lie on them.
    pub stay: usize,
}

impl Fold {
    pub fn copied(&self) -> Bytes {
        self.still + self.moving
    }
    /// How long it takes at a rate of the copy, while the machine writes so fast; none where it never ends.
    pub fn time(&self, copy: Rate, writes: Rate) -> Option<Span> {
        let at = |bytes: Bytes, rate: u64| bytes.as_f64() / (rate as f64) * 1000.0;
        if self.copied() == Bytes::ZERO {
            return Some(Span(0));
        }
        if copy.0 == 0 || (self.moving > Bytes::ZERO && writes >= copy) {
            return None;
        }
        let moving = at(self.moving, copy.0.saturating_sub(writes.0).max(1));
        Some(Span::millis(round(at(self.still, copy.0) + moving)))
    }
    /// What the machine stands still for at the end, if it runs.
    pub fn stands_still(&self) -> Span {
        STILL
    }
}

fn bytes(blocks: u64) -> Bytes {
    GRAIN.times(blocks)
}

impl Chain {
    /// One layer, of disks that hold so much.
    pub fn alone(disks: &[Bytes]) -> Chain {
        let full = |held: &Bytes| {
            let mut all = RoaringBitmap::new();
            all.insert_range(0..u32::try_from(held.0.div_ceil(GRAIN.0)).unwrap_or(u32::MAX));
            all
        };
        let only = Layer {
            parent: None,
            snapshot: None,
            disks: disks.iter().map(full).collect(),
        };
        Chain {
            layers: BTreeMap::from([(0, only)]),
            current: 0,
        }
    }
    /// The layer that a snapshot froze.
    pub fn of(&self, snapshot: Uuid) -> Option<u64> {
        let named = |l: &Layer| l.snapshot == Some(snapshot);
        self.layers.iter().find(|(_, l)| named(l)).map(|(n, _)| *n)
    }
    pub fn children(&self, layer: u64) -> impl Iterator<Item = u64> {
        let all = self.layers.iter();
        all.filter(move |(_, l)| l.parent == Some(layer))
            .map(|(n, _)| *n)
    }
    /// From a layer down to the first, both counted. A chain that runs in a circle ends where it comes to itself.
    pub fn path(&self, from: u64) -> Vec<u64> {
        let mut path: Vec<u64> = Vec::new();
        let mut at = Some(from);
        while let Some(layer) = at.filter(|l| !path.contains(l)) {
            path.push(layer);
            at = self.layers.get(&layer).and_then(|l| l.parent);
        }
        path
    }
    /// How many layers lie on each other where the machine stands now.
    pub fn depth(&self) -> usize {
        self.path(self.current).len()
    }
    pub fn held(&self, layer: u64) -> Bytes {
        let blocks = self.layers.get(&layer).map(|l| l.disks.iter());
        bytes(blocks.into_iter().flatten().map(RoaringBitmap::len).sum())
    }
    /// Bytes that are seen from a layer: of each block once, whichever layer has it.
    pub fn seen(&self, from: u64) -> Bytes {
        let mut all: Vec<RoaringBitmap> = Vec::new();
        for layer in self.path(from).iter().filter_map(|n| self.layers.get(n)) {
            all.resize_with(all.len().max(layer.disks.len()), RoaringBitmap::new);
            for (all, own) in all.iter_mut().zip(&layer.disks) {
                *all |= own;
            }
        }
        GRAIN.times(all.iter().map(RoaringBitmap::len).sum())
    }
    pub fn total(&self) -> Bytes {
        self.layers.keys().map(|n| self.held(*n)).sum()
    }
    /// What nobody reads but this snapshot: what all that lies on its layer wrote over; all of it where nothing does.
    pub fn only(&self, snapshot: Uuid) -> Bytes {
        let Some(layer) = self.of(snapshot) else {
            return Bytes::ZERO;
        };
        let own = self.layers.get(&layer).map(|l| l.disks.as_slice());
        let disks = own.unwrap_or_default().iter().enumerate();
        let hidden = disks.map(|(disk, blocks)| self.hides(layer, disk, blocks).len());
        bytes(hidden.sum())
    }

    /// Which of these blocks nobody reads through what lies on a layer.
    fn hides(&self, layer: u64, disk: usize, blocks: &RoaringBitmap) -> RoaringBitmap {
        let mut hidden = blocks.clone();
        for child in self.children(layer).filter(|c| *c > layer) {
            let Some(over) = self.layers.get(&child) else {
                continue;
            };
            let none = RoaringBitmap::new();
            let written = over.disks.get(disk).unwrap_or(&none);
            let mut through = &hidden - written;
            // Nobody stands on one without a name: what lies on it decides.
            if over.snapshot.is_none() && child != self.current {
                through -= self.hides(child, disk, &through);
            }
            hidden -= through;
        }
        hidden
    }

    /// Takes the names of snapshots away and folds what is there for nobody, one after the other.
    pub fn forget(&mut self, snapshots: &BTreeSet<Uuid>) -> Fold {
        let before = self.total();
        for layer in self.layers.values_mut() {
            if layer.snapshot.is_some_and(|s| snapshots.contains(&s)) {
                layer.snapshot = None;
            }
        }
        let mut all = Fold::default();
        while let Some((layer, child)) = self.idle() {
            let one = self.cost(layer, child);
            all.still += one.still;
            all.moving += one.moving;
            all.peak = all.peak.max(one.peak);
            self.merge(layer, child);
        }
        let unnamed = |(n, l): &(&u64, &Layer)| **n != self.current && l.snapshot.is_none();
        all.stay = self.layers.iter().filter(unnamed).count();
        all.freed = before.less(self.total());
        all
    }

    /// A layer without a name on which nothing lies, or one alone.
    fn idle(&self) -> Option<(u64, Option<u64>)> {
        let mut all = self.layers.iter();
        all.find_map(|(n, l)| {
            if *n == self.current || l.snapshot.is_some() {
                return None;
            }
            let mut over = self.children(*n);
            match (over.next(), over.next()) {
                (Some(_), Some(_)) => None,
                (child, _) => Some((*n, child)),
            }
        })
    }

    fn cost(&self, layer: u64, child: Option<u64>) -> Fold {
        let (Some(k), Some(c)) = (
            self.layers.get(&layer),
            child.and_then(|c| self.layers.get(&c)),
        ) else {
            return Fold::default();
        };
        let written = child == Some(self.current);
        let mut fold = Fold::default();
        for (under, over) in k.disks.iter().zip(&c.disks) {
            let up = under.difference_len(over);
            if up <= over.len() {
                fold.still += bytes(up);
                fold.peak += bytes(up);
                continue;
            }
            fold.peak += bytes(over.difference_len(under));
            match written {
                true => fold.moving += bytes(over.len()),
                false => fold.still += bytes(over.len()),
            }
        }
        fold
    }

    fn merge(&mut self, layer: u64, child: Option<u64>) {
        let Some(k) = self.layers.remove(&layer) else {
            return;
        };
        let Some(c) = child.and_then(|c| self.layers.get_mut(&c)) else {
            return;
        };
        c.parent = k.parent;
        for (over, under) in c.disks.iter_mut().zip(k.disks) {
            *over |= under;
        }
    }

    /// What was written since a snapshot on the way to where the machine stands now, each block once.
    pub fn since(&self, snapshot: Uuid) -> Bytes {
        let Some(to) = self.of(snapshot) else {
            return Bytes::ZERO;
        };
        let kept: BTreeSet<u64> = self.path(to).into_iter().collect();
        let lost = self.path(self.current);
        let lost = lost.iter().filter(|n| !kept.contains(n));
        let mut written: Vec<RoaringBitmap> = Vec::new();
        for layer in lost.filter_map(|n| self.layers.get(n)) {
            written.resize_with(written.len().max(layer.disks.len()), RoaringBitmap::new);
            for (all, own) in written.iter_mut().zip(&layer.disks) {
                *all |= own;
            }
        }
        bytes(written.iter().map(RoaringBitmap::len).sum())
    }

    /// A machine that goes back stands on a snapshot; what it wrote since is dropped where nothing else lies on it.
    pub fn go_back(&mut self, snapshot: Uuid) -> Option<Bytes> {
        let to = self.of(snapshot)?;
        let before = self.total();
        let disks = self.layers.get(&self.current)?.disks.len();
        let left = self.current;
        self.current = self.layers.keys().next_back().map_or(0, |last| last + 1);
        let fresh = Layer {
            parent: Some(to),
            snapshot: None,
            disks: vec![RoaringBitmap::new(); disks],
        };
        self.layers.insert(self.current, fresh);
        let mut at = Some(left);
        while let Some(layer) = at {
            let named = self.layers.get(&layer).and_then(|l| l.snapshot).is_some();
            if named || self.children(layer).next().is_some() {
                break;
            }
            at = self.layers.remove(&layer).and_then(|l| l.parent);
        }
        Some(before.less(self.total()))
    }
}
