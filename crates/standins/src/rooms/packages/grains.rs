//! What stands in a block: generated from where it is and which writing wrote it, but for the first writing's blocks at a disk's
//! beginning, which are those of a small file system; or, where it came from outside, kept as it
//! is, under a number that is a digest of it. So equal numbers are equal bytes.

use sha2::{Digest, Sha256};
use std::{
    fs, io,
    path::{Path, PathBuf},
    sync::LazyLock,
};

/// Bytes of a block in memory.
pub(crate) const LENGTH: usize = 64 << 10;
const UNIT: usize = 64;
const MARK: &[u8; 16] = b"grain of a guest";
/// Numbers from here on are digests.
pub(crate) const KEPT: u64 = 1 << 63;

/// The number of a block of zeros that lies over one that is not.
pub(crate) const ZEROS: u64 = KEPT;

/// Where blocks from outside are kept.
pub(crate) struct Grains(PathBuf);

/// A unit is repeated over the whole block: it packs well, as most of what lies on disks does.
fn unit(block: u32, writing: u64) -> [u8; UNIT] {
    let mut unit = [0; UNIT];
    unit[..16].copy_from_slice(MARK);
    unit[16..24].copy_from_slice(&writing.to_le_bytes());
    unit[24..28].copy_from_slice(&block.to_le_bytes());
    let mut x = writing.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ u64::from(block);
    for eight in unit[32..].chunks_exact_mut(8) {
        x ^= x << 13;
        x ^= x >> 7;
        x ^= x << 17;
        eight.copy_from_slice(&x.to_le_bytes());
    }
    unit
}

/// What the disk of a guest begins with once it is installed: a partition table, a FAT and an ext4 file system. How it was made
/// stands in `guest/make.sh`.
static INSTALLED: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let packed = include_bytes!("../../../guest/guest.zst");
    zstd::decode_all(packed.as_slice()).unwrap_or_default()
});

/// Blocks that a guest leaves alone: its file systems lie there.
pub(crate) fn installed() -> u32 {
    u32::try_from(INSTALLED.len() / LENGTH).unwrap_or(0)
}

/// Those of its blocks that hold something; the others are free, and hold what a disk holds there.
fn installed_block(block: u32) -> Option<&'static [u8]> {
    let begins = usize::try_from(block).ok()?.checked_mul(LENGTH)?;
    let bytes = INSTALLED.get(begins..begins + LENGTH)?;
    bytes.iter().any(|b| *b != 0).then_some(bytes)
}

fn generated(block: u32, writing: u64, into: &mut [u8]) {
    if let (0, Some(there)) = (writing, installed_block(block)) {
        let n = there.len().min(into.len());
        into[..n].copy_from_slice(&there[..n]);
        return;
    }
    let unit = unit(block, writing);
    let mut filled = into.len().min(UNIT);
    into[..filled].copy_from_slice(&unit[..filled]);
    // Twice as much each time.
    while filled < into.len() {
        let more = filled.min(into.len() - filled);
        into.copy_within(..more, filled);
        filled += more;
    }
}

/// By which writing these bytes were generated for this block, if they were.
fn writing_of(block: u32, bytes: &[u8]) -> Option<u64> {
    if installed_block(block).is_some_and(|there| there == bytes) {
        return Some(0);
    }
    (bytes.get(..16)? == MARK).then_some(())?;
    let writing = u64::from_le_bytes(bytes.get(16..24)?.try_into().ok()?);
    let unit = unit(block, writing);
    let same = writing < KEPT && bytes.chunks(UNIT).all(|c| c == &unit[..c.len()]);
    same.then_some(writing)
}

impl Grains {
    pub(crate) fn open(dir: &Path) -> io::Result<Grains> {
        let dir = dir.join("grains");
        fs::create_dir_all(&dir)?;
        Ok(Grains(dir))
    }

    fn path(&self, number: u64) -> PathBuf {
        self.0.join(format!("{number:016x}"))
    }

    /// The bytes of a block.
    pub(crate) fn read(&self, block: u32, writing: u64, into: &mut [u8]) -> io::Result<()> {
        if writing < KEPT {
            generated(block, writing, into);
            return Ok(());
        }
        if writing == ZEROS {
            into.fill(0);
            return Ok(());
        }
        let kept = fs::read(self.path(writing))?;
        let n = kept.len().min(into.len());
        into[..n].copy_from_slice(&kept[..n]);
        Ok(())
    }

    /// The bytes of a disk from its block `first` on, of which these hold something, each by its writing.
    pub(crate) fn extent(
        &self,
        blocks: &[(u32, u64)],
        first: u32,
        length: u64,
    ) -> io::Result<Vec<u8>> {
        let mut all = vec![0; usize::try_from(length).unwrap_or(0)];
        for (block, writing) in blocks {
            let at = block.saturating_sub(first) as usize * LENGTH;
            let end = (at + LENGTH).min(all.len());
            if let Some(slot) = all.get_mut(at..end) {
                self.read(*block, *writing, slot)?;
            }
        }
        Ok(all)
    }

    /// The number under which these bytes are read again; none: they are all zeros. A block at a disk's end may be shorter.
    pub(crate) fn number(&self, block: u32, bytes: &[u8]) -> io::Result<Option<u64>> {
        if bytes.iter().all(|b| *b == 0) {
            return Ok(None);
        }
        if let Some(writing) = writing_of(block, bytes) {
            return Ok(Some(writing));
        }
        let digest = Sha256::digest(bytes);
        let mut eight = [0; 8];
        eight.copy_from_slice(&digest[..8]);
        let number = u64::from_be_bytes(eight) | KEPT;
        let path = self.path(number);
        if !path.exists() {
            let mut all = bytes.to_vec();
            all.resize(LENGTH, 0);
            let part = path.with_extension("part");
            fs::write(&part, &all)?;
            fs::rename(&part, &path)?;
        }
        Ok(Some(number))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a disk that was packed and read again is another.
    #[test]
    fn blocks_are_read_as_they_were_written() {
        let dir = tempfile::tempdir().unwrap();
        let grains = Grains::open(dir.path()).unwrap();
        let mut bytes = vec![0; LENGTH];
        grains.read(7, 42, &mut bytes).unwrap();
        assert_eq!(grains.number(7, &bytes).unwrap(), Some(42));
        // The same bytes elsewhere were not written there by that.
        assert!(grains.number(8, &bytes).unwrap().unwrap() >= KEPT);
        bytes[4000] ^= 1;
        let number = grains.number(7, &bytes).unwrap().unwrap();
        let mut again = vec![0; LENGTH];
        grains.read(7, number, &mut again).unwrap();
        assert_eq!(again, bytes);
        assert_eq!(grains.number(7, &vec![0; LENGTH]).unwrap(), None);
        assert_eq!(grains.number(7, &bytes).unwrap(), Some(number), "once more");
    }
}
