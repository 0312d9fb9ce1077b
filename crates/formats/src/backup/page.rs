//! A page: which chunk stands where, for a run of 4,096 grains of a disk. A grain that is not named is all zeros. Places are
//! counted from the page's beginning, so that equal runs of different disks are equal pages.

use super::{ChunkId, Damaged, PAGE};

/// Bytes of one entry: place, name, suffix.
const ENTRY: usize = 2 + 32 + 4;

/// Which stored chunk: one that was condemned is stored anew under another suffix.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ChunkRef {
    pub id: ChunkId,
    pub suffix: u32,
}

/// By place within the page, ascending.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Page(pub Vec<(u16, ChunkRef)>);

impl Page {
    pub fn bytes(&self) -> Vec<u8> {
        let mut out = Vec::with_capacity(self.0.len() * ENTRY);
        for (at, chunk) in &self.0 {
            out.extend_from_slice(&at.to_le_bytes());
            out.extend_from_slice(&chunk.id.0);
            out.extend_from_slice(&chunk.suffix.to_le_bytes());
        }
        out
    }

    /// # Errors
    /// [`Damaged::Content`] where places are not ascending, or beyond the page.
    pub fn read(bytes: &[u8]) -> Result<Page, Damaged> {
        let (entries, rest) = bytes.as_chunks::<ENTRY>();
        if !rest.is_empty() {
            return Err(Damaged::Content);
        }
        let entry = |e: &[u8; ENTRY]| {
            let at = u16::from_le_bytes(e.get(..2)?.try_into().ok()?);
            let id = ChunkId(e.get(2..34)?.try_into().ok()?);
            let suffix = u32::from_le_bytes(e.get(34..)?.try_into().ok()?);
            (u64::from(at) < PAGE).then_some((at, ChunkRef { id, suffix }))
        };
        let all: Option<Vec<_>> = entries.iter().map(entry).collect();
        let all = all.ok_or(Damaged::Content)?;
        match all.windows(2).all(|w| w[0].0 < w[1].0) {
            true => Ok(Page(all)),
            false => Err(Damaged::Content),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        /// If this fails, a disk comes back with its grains in other places.
        #[test]
        fn pages_are_read_as_they_were_written(places in proptest::collection::btree_map(0u16..4096, (any::<[u8; 32]>(), any::<u32>()), 0..40)) {
            let page = Page(places.into_iter().map(|(at, (id, suffix))| (at, ChunkRef { id: ChunkId(id), suffix })).collect());
            prop_assert_eq!(Page::read(&page.bytes()), Ok(page));
        }

        #[test]
        fn anything_else_is_refused_or_is_a_page(bytes in proptest::collection::vec(any::<u8>(), 0..200)) {
            if let Ok(page) = Page::read(&bytes) {
                prop_assert_eq!(page.bytes(), bytes);
            }
        }
    }

    #[test]
    fn places_ascend_and_stay_within_the_page() {
        let chunk = ChunkRef {
            id: ChunkId([1; 32]),
            suffix: 0,
        };
        for wrong in [
            vec![(4, chunk), (4, chunk)],
            vec![(5, chunk), (4, chunk)],
            vec![(4096, chunk)],
        ] {
            assert_eq!(Page::read(&Page(wrong).bytes()), Err(Damaged::Content));
        }
    }
}
