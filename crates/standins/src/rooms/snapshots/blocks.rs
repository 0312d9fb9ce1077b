//! Which blocks of a disk were written, and with what: a compressed bitmap for each writing.

use crate::rooms::packages::grains::KEPT;
use base64::{Engine, prelude::BASE64_STANDARD};
use roaring::RoaringBitmap;
use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error as _, ser::Error as _};
use std::collections::BTreeMap;

/// Bytes of a block.
pub(crate) const GRAIN: u64 = 64 << 10;

/// How many blocks so many bytes are.
pub(crate) fn grains(bytes: u64) -> u32 {
    u32::try_from(bytes.div_ceil(GRAIN)).unwrap_or(u32::MAX)
}

/// A set of blocks; as text, the standard serialised form of a roaring bitmap in base64.
#[derive(Debug, Clone, Default, PartialEq)]
pub(crate) struct Blocks(pub(crate) RoaringBitmap);

impl Blocks {
    pub(crate) fn text(&self) -> std::io::Result<String> {
        let mut packed = self.0.clone();
        packed.optimize();
        let mut bytes = Vec::with_capacity(packed.serialized_size());
        packed.serialize_into(&mut bytes)?;
        Ok(BASE64_STANDARD.encode(bytes))
    }
}

impl Serialize for Blocks {
    fn serialize<S: Serializer>(&self, to: S) -> Result<S::Ok, S::Error> {
        to.serialize_str(&self.text().map_err(S::Error::custom)?)
    }
}

impl<'de> Deserialize<'de> for Blocks {
    fn deserialize<D: Deserializer<'de>>(from: D) -> Result<Self, D::Error> {
        let bytes = BASE64_STANDARD
            .decode(String::deserialize(from)?)
            .map_err(D::Error::custom)?;
        let read = RoaringBitmap::deserialize_from(bytes.as_slice()).map_err(D::Error::custom)?;
        Ok(Blocks(read))
    }
}

/// What a disk holds, in words: equal words, equal bytes.
pub(crate) fn words(disk: &Written) -> String {
    let all = disk.writings().map(|(n, blocks)| {
        let text = Blocks(blocks.clone()).text().unwrap_or_default();
        crate::agent::sha(&format!("{n}:{text}"))
    });
    all.collect::<Vec<_>>().join("+")
}

/// The blocks of one disk in a layer: under the number of each writing, what it wrote and nobody wrote over in the same layer.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub(crate) struct Written(BTreeMap<u64, Blocks>);

impl Written {
    /// What stands where, by the number of its writing; no block twice.
    pub(crate) fn of(found: BTreeMap<u64, RoaringBitmap>) -> Written {
        Written(found.into_iter().map(|(n, b)| (n, Blocks(b))).collect())
    }
    /// The number of the latest writing of a guest; what came from outside has none.
    pub(crate) fn newest(&self) -> Option<u64> {
        self.0.keys().copied().rfind(|n| *n < KEPT)
    }
    pub(crate) fn all(&self) -> RoaringBitmap {
        self.0
            .values()
            .fold(RoaringBitmap::new(), |all, b| all | &b.0)
    }
    pub(crate) fn len(&self) -> u64 {
        // They never overlap.
        self.0.values().map(|b| b.0.len()).sum()
    }
    pub(crate) fn put(&mut self, writing: u64, blocks: &RoaringBitmap) {
        for (other, had) in &mut self.0 {
            if *other != writing {
                had.0 -= blocks;
            }
        }
        self.0.retain(|_, b| !b.0.is_empty());
        if blocks.is_empty() {
            return;
        }
        self.0.entry(writing).or_default().0 |= blocks;
    }
    /// Nothing stands in these blocks any more.
    pub(crate) fn take_away(&mut self, blocks: &RoaringBitmap) {
        for had in self.0.values_mut() {
            had.0 -= blocks;
        }
        self.0.retain(|_, b| !b.0.is_empty());
    }
    /// What lies in `over` lies over what is here.
    pub(crate) fn covered_by(mut self, over: &Written) -> Written {
        for (writing, blocks) in &over.0 {
            self.put(*writing, &blocks.0);
        }
        self
    }
    /// What stands in a run of blocks: each with its writing.
    pub(crate) fn within(&self, blocks: std::ops::Range<u32>) -> Vec<(u32, u64)> {
        let of = |(n, b): (&u64, &Blocks)| {
            b.0.range(blocks.clone())
                .map(|block| (block, *n))
                .collect::<Vec<_>>()
        };
        self.0.iter().flat_map(of).collect()
    }
    /// The content, by the number of its writing.
    pub(crate) fn writings(&self) -> impl Iterator<Item = (u64, &RoaringBitmap)> {
        self.0.iter().map(|(n, b)| (*n, &b.0))
    }
}
