//! What lies in a backup store, byte by byte: sealed chunks, pages of their names, and a manifest for each recovery point. The
//! words are in `docs/store-format.md`; whoever has the store and its key can read it by that alone.   Start at [`Manifest`].
//!
//! ```text
//! manifest ──► disk ──► page (a run of 4,096 grains) ──► chunk (4 MiB of a disk; zeros have none)
//! ```
//!
//! Nothing here draws chance or knows where objects lie: salts are given, names are text.

mod key;
mod manifest;
mod names;
mod page;
mod seal;
mod session;
mod store;

pub use key::{Key, NotAKey, Sealer};
pub use manifest::{Card, Consistency, Disk, Label, Locked, Machine, Manifest, Measured, PageAt};
pub use names::{
    CONDEMNED, Named, POINTS, REVOKED, SESSIONS, STORE, WAITING, chunk_name, chunk_named, named,
    point_name,
};
pub use page::{ChunkRef, Page};
pub use seal::{Damaged, Kind, Salt};
pub use session::{Session, condemned, condemned_bytes, waiting, waiting_bytes};
pub use store::Storefront;

/// Bytes of a disk that become one chunk.
pub const GRAIN: u64 = 4 << 20;
/// Grains that one page tells of: a page is about one run of 16 GiB of a disk, so that it stays the same where nothing changed.
pub const PAGE: u64 = 4096;
/// No sealed object is longer than this, in bytes.
pub const LONGEST: usize = 5 << 20;
/// What this version writes and reads.
pub const FORMAT: &str = "zastrugi-store/1";

/// A chunk's name: the keyed digest of what is in it.
#[derive(Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct ChunkId(pub [u8; 32]);

impl std::fmt::Display for ChunkId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        self.0.iter().try_for_each(|b| write!(f, "{b:02x}"))
    }
}

impl std::fmt::Debug for ChunkId {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{self}")
    }
}

impl std::str::FromStr for ChunkId {
    type Err = ();
    fn from_str(text: &str) -> Result<Self, ()> {
        let bytes = hex(text).ok_or(())?;
        bytes.try_into().map(ChunkId).map_err(|_| ())
    }
}

/// Bytes written as two digits each.
fn hex(text: &str) -> Option<Vec<u8>> {
    let digits = text.as_bytes();
    if !digits.len().is_multiple_of(2) || !digits.iter().all(u8::is_ascii_hexdigit) {
        return None;
    }
    let byte = |two: &[u8]| u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok();
    digits.chunks(2).map(byte).collect()
}
