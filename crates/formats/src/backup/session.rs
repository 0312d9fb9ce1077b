//! What lies beside the points while somebody writes or sweeps: how far a session is, and which chunks are condemned.

use super::{ChunkId, ChunkRef, Damaged, Measured, PageAt};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

/// Bytes of a condemned chunk's name and suffix.
const CONDEMNED: usize = 32 + 4;

/// What a session tells of itself: whose it is, and how far.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Session {
    pub machine: Uuid,
    pub instant: u64,
    /// What changes are counted from, and the disks in their order: how far it is means nothing for others.
    #[serde(default)]
    pub parent: Option<Uuid>,
    #[serde(default)]
    pub keys: Vec<Uuid>,
    /// Of each disk, the pages so far; the last may be continued.
    #[serde(default)]
    pub disks: Vec<Vec<PageAt>>,
    /// The next grain to be looked at, of which disk.
    #[serde(default)]
    pub next: (usize, u64),
    #[serde(default)]
    pub measured: Measured,
    /// Everything that it stored or relied on so far, but for what it has of its parent, is locked until then at least
    /// (milliseconds since 1970); none: there is nothing yet, or nothing is locked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<u64>,
}

impl Session {
    /// # Errors
    /// [`Damaged::Content`]: this is none of this version.
    pub fn read(bytes: &[u8]) -> Result<Session, Damaged> {
        serde_json::from_slice(bytes).map_err(|_| Damaged::Content)
    }

    /// # Errors
    /// [`Damaged::Content`] where it can't be written.
    pub fn bytes(&self) -> Result<Vec<u8>, Damaged> {
        serde_json::to_vec(self).map_err(|_| Damaged::Content)
    }
}

/// The chunks of a condemned list.
///
/// # Errors
/// [`Damaged::Content`] where it is cut off.
pub fn condemned(bytes: &[u8]) -> Result<BTreeSet<ChunkRef>, Damaged> {
    let (entries, rest) = bytes.as_chunks::<CONDEMNED>();
    let entry = |e: &[u8; CONDEMNED]| {
        let id = ChunkId(e.get(..32)?.try_into().ok()?);
        let suffix = u32::from_le_bytes(e.get(32..)?.try_into().ok()?);
        Some(ChunkRef { id, suffix })
    };
    let all: Option<BTreeSet<ChunkRef>> = entries.iter().map(entry).collect();
    all.filter(|_| rest.is_empty()).ok_or(Damaged::Content)
}

/// A condemned list of these.
pub fn condemned_bytes(chunks: &[ChunkRef]) -> Vec<u8> {
    let mut bytes = Vec::with_capacity(chunks.len() * CONDEMNED);
    for chunk in chunks {
        bytes.extend(chunk.id.0);
        bytes.extend(chunk.suffix.to_le_bytes());
    }
    bytes
}

/// The sessions that there were when a list was made.
///
/// # Errors
/// [`Damaged::Content`] where it is cut off.
pub fn waiting(bytes: &[u8]) -> Result<BTreeSet<Uuid>, Damaged> {
    let (entries, rest) = bytes.as_chunks::<16>();
    match rest.is_empty() {
        true => Ok(entries.iter().map(|e| Uuid::from_bytes(*e)).collect()),
        false => Err(Damaged::Content),
    }
}

pub fn waiting_bytes(sessions: &BTreeSet<Uuid>) -> Vec<u8> {
    sessions.iter().flat_map(|s| *s.as_bytes()).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a sweep takes away other chunks than were condemned, or does not wait for somebody who writes.
    #[test]
    fn lists_are_read_as_they_were_written_or_refused() {
        let chunk = |n: u8| ChunkRef {
            id: ChunkId([n; 32]),
            suffix: u32::from(n) * 1000,
        };
        let chunks = [chunk(1), chunk(2), chunk(200)];
        let bytes = condemned_bytes(&chunks);
        assert_eq!(condemned(&bytes), Ok(chunks.into_iter().collect()));
        assert_eq!(condemned(&bytes[1..]), Err(Damaged::Content));
        let sessions: BTreeSet<Uuid> = (1..4).map(Uuid::from_u128).collect();
        let bytes = waiting_bytes(&sessions);
        assert_eq!(waiting(&bytes), Ok(sessions));
        assert_eq!(waiting(&bytes[..17]), Err(Damaged::Content));
        assert_eq!(waiting(&[]), Ok(BTreeSet::new()));
    }
}
