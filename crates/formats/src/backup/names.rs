//! Where objects lie: paths with `/` between their parts, in a bucket under a prefix, or in a folder of a mounted export.
//!
//! ```text
//! store.json                              what it is, readable without the key
//! chunks/3f/3f…/0                         a chunk or page, by its name and suffix
//! points/<machine>/<instant>-<session>    a manifest; written last
//! sessions/<session>                      somebody is writing
//! condemned/<n>, waiting/<n>, revoked/<session>    for the sweep
//! ```

use super::ChunkRef;
use uuid::Uuid;

pub const STORE: &str = "store.json";
pub const POINTS: &str = "points";
pub const SESSIONS: &str = "sessions";
pub const CONDEMNED: &str = "condemned";
pub const REVOKED: &str = "revoked";
pub const WAITING: &str = "waiting";
/// The longest moment that a name can tell of, in milliseconds: digits.
const DIGITS: usize = 14;

pub fn chunk_name(chunk: &ChunkRef) -> String {
    let id = chunk.id.to_string();
    let first = id.get(..2).unwrap_or("00");
    format!("chunks/{first}/{id}/{}", chunk.suffix)
}

/// None: this is no chunk's name.
pub fn chunk_named(path: &str) -> Option<ChunkRef> {
    let mut parts = path.strip_prefix("chunks/")?.split('/').skip(1);
    let chunk = ChunkRef {
        id: parts.next()?.parse().ok()?,
        suffix: parts.next()?.parse().ok()?,
    };
    (path == chunk_name(&chunk)).then_some(chunk)
}

/// Sorted by their names, a machine's points are sorted by their instants.
pub fn point_name(machine: Uuid, instant_ms: u64, session: Uuid) -> String {
    format!("{POINTS}/{machine}/{instant_ms:0DIGITS$}-{session}")
}

/// What a point's name says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct Named {
    pub machine: Uuid,
    /// Milliseconds since 1970.
    pub instant: u64,
    pub session: Uuid,
}

impl Named {
    pub fn path(&self) -> String {
        point_name(self.machine, self.instant, self.session)
    }
}

/// None: this is no point's name.
pub fn named(path: &str) -> Option<Named> {
    let (machine, rest) = path
        .strip_prefix(POINTS)?
        .strip_prefix('/')?
        .split_once('/')?;
    let (instant, session) = rest.split_once('-')?;
    let named = Named {
        machine: machine.parse().ok()?,
        instant: instant.parse().ok()?,
        session: session.parse().ok()?,
    };
    (path == point_name(named.machine, named.instant, named.session)).then_some(named)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_say_what_they_were_made_of_and_sort_by_instant() {
        let (machine, session) = (Uuid::from_u128(7), Uuid::from_u128(9));
        let early = point_name(machine, 999, session);
        let late = point_name(machine, 1_000, Uuid::from_u128(1));
        assert!(early < late);
        assert_eq!(
            named(&early),
            Some(Named {
                machine,
                instant: 999,
                session
            })
        );
        for odd in [
            "points",
            "points/",
            "points/a/b",
            "points/../../etc/1-2",
            "store.json",
            &early[1..],
            &early[..early.len() - 1],
        ] {
            assert_eq!(named(odd), None, "{odd}");
        }
        let chunk = ChunkRef {
            id: crate::backup::ChunkId([7; 32]),
            suffix: 3,
        };
        let name = chunk_name(&chunk);
        assert_eq!(chunk_named(&name), Some(chunk));
        for odd in ["chunks", "chunks/07/x/3", &name[1..], &format!("{name}/4")] {
            assert_eq!(chunk_named(odd), None, "{odd}");
        }
    }
}
