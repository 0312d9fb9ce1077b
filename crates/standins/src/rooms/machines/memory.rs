//! A guest's memory while it is moved: pages with versions and dirty bits, written under a seeded pattern.

use crate::{rooms::machines::guest::hash, rooms::storage::volume::Record};

/// Bytes of a page, as they are tracked here.
pub(crate) const PAGE: u64 = 64 << 10;

/// How a guest writes: what its host measures, and what the simulation follows.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Writes {
    /// Bytes a second.
    pub(crate) dirty: u64,
    /// Pages ever touched.
    pub(crate) touched: u64,
    /// The part that is written again and again.
    pub(crate) hot: u64,
}

/// From how busy a guest is: a busy one touches more and writes faster.
pub(crate) fn writes(record: &Record, command: bool) -> Writes {
    let busy = u64::from(record.temper.busy.min(1000));
    let touched = record.memory.size / 100 * (40 + busy.min(100) / 2);
    let hot = touched / 4;
    Writes {
        dirty: hot / 1000 * busy + if command { hot / 20 } else { 0 },
        touched,
        hot,
    }
}

pub(crate) struct Pages {
    versions: Vec<u32>,
    dirty: Vec<u64>,
    count: usize,
    hot: usize,
    chance: u64,
    /// Written, but not a whole page yet.
    rest: f64,
}

impl Pages {
    pub(crate) fn new(uuid: &str, writes: Writes) -> Pages {
        let pages = usize::try_from(writes.touched.div_ceil(PAGE))
            .unwrap_or(1)
            .max(1);
        let hot = usize::try_from(writes.hot / PAGE)
            .unwrap_or(1)
            .clamp(1, pages);
        Pages {
            // Everything that was ever touched has something in it.
            versions: vec![1; pages],
            dirty: vec![u64::MAX; pages.div_ceil(64)],
            count: pages,
            hot,
            chance: hash(uuid) | 1,
            rest: 0.0,
        }
    }
    pub(crate) fn len(&self) -> usize {
        self.versions.len()
    }
    /// Bytes that were written since they were last taken.
    pub(crate) fn dirty_bytes(&self) -> u64 {
        u64::try_from(self.count).unwrap_or(u64::MAX) * PAGE
    }
    /// Xorshift (Marsaglia, 2003).
    fn draw(&mut self) -> u64 {
        self.chance ^= self.chance << 13;
        self.chance ^= self.chance >> 7;
        self.chance ^= self.chance << 17;
        self.chance
    }
    /// The guest writes so many bytes: nine of ten pages where it always writes, the others anywhere.
    pub(crate) fn write(&mut self, bytes: f64) {
        self.rest += bytes / PAGE as f64;
        while self.rest >= 1.0 {
            self.rest -= 1.0;
            let (draw, all, hot) = (self.draw(), self.versions.len(), self.hot);
            let within = if draw % 10 < 9 { hot } else { all };
            let page =
                usize::try_from((draw >> 8) % u64::try_from(within).unwrap_or(1)).unwrap_or(0);
            self.versions[page] = self.versions[page].wrapping_add(1);
            let (word, bit) = (page / 64, 1u64 << (page % 64));
            if self.dirty[word] & bit == 0 {
                self.dirty[word] |= bit;
                self.count += 1;
            }
        }
    }
    /// The dirty pages, in order; from now on none is.
    pub(crate) fn take(&mut self) -> Vec<usize> {
        let mut pages = Vec::with_capacity(self.count);
        let all = self.versions.len();
        for (word, bits) in self.dirty.iter_mut().enumerate() {
            let mut left = std::mem::take(bits);
            while left != 0 {
                let bit = left.trailing_zeros() as usize;
                left &= left - 1;
                if word * 64 + bit < all {
                    pages.push(word * 64 + bit);
                }
            }
        }
        self.count = 0;
        pages
    }
    pub(crate) fn version(&self, page: usize) -> u32 {
        self.versions.get(page).copied().unwrap_or(0)
    }
    pub(crate) fn digest(&self) -> u64 {
        digest(&self.versions)
    }
}

/// Of all versions: two copies with the same digest hold the same memory.
pub(crate) fn digest(versions: &[u32]) -> u64 {
    versions.iter().fold(0xcbf2_9ce4_8422_2325, |h, v| {
        (h ^ u64::from(*v)).wrapping_mul(0x0100_0000_01b3)
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_dirty_once_and_taken_once() {
        let writes = Writes {
            dirty: 0,
            touched: 100 * PAGE,
            hot: 10 * PAGE,
        };
        let mut pages = Pages::new("a", writes);
        assert_eq!(pages.take().len(), 100, "the first round sends everything");
        assert_eq!(pages.dirty_bytes(), 0);
        let before = pages.digest();
        pages.write(PAGE as f64 * 1000.0);
        let after = pages.take();
        assert!(after.len() >= 10 && after.len() < 100, "{}", after.len());
        assert!(
            after.iter().filter(|p| **p < 10).count() == 10,
            "the hot ones"
        );
        assert_ne!(pages.digest(), before);
        assert_eq!(pages.take(), Vec::<usize>::new());
    }

    #[test]
    fn the_same_seed_writes_the_same() {
        let writes = Writes {
            dirty: 0,
            touched: 1000 * PAGE,
            hot: 100 * PAGE,
        };
        let run = |seed: &str| {
            let mut pages = Pages::new(seed, writes);
            pages.write(PAGE as f64 * 500.0);
            pages.digest()
        };
        assert_eq!(run("a"), run("a"));
        assert_ne!(run("a"), run("b"));
    }
}
