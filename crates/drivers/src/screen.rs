//! Graphical screens of guests: the remote framebuffer protocol (RFC 6143), carried through from the host to whoever looks,
//! and pictures of them. What a viewer may not send is taken out on the way.

use crate::{Drivers, fault::garbled};
use reqwest::Upgraded;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use uuid::Uuid;
use zastrugi_core::{estate::Host, runs::Fault};

/// The most that is carried at once.
const PIECE: usize = 64 << 10;
/// The longest clipboard text that is passed on.
const CLIPBOARD: usize = 16 << 10;

/// A screen that is being looked at.
pub struct Screen {
    stream: Upgraded,
    filter: Filter,
}

impl Screen {
    /// What the host sends next; none when it ends. Safe to give up waiting.
    pub async fn next(&mut self) -> Option<Vec<u8>> {
        let mut piece = Vec::with_capacity(PIECE);
        match self.stream.read_buf(&mut piece).await {
            Ok(0) | Err(_) => None,
            Ok(_) => Some(piece),
        }
    }

    /// Passes on what the viewer sent, without what it may not send.
    ///
    /// # Errors
    /// [`Unspeakable`] when it isn't the protocol, or the host is gone.
    pub async fn send(&mut self, bytes: &[u8]) -> Result<(), Unspeakable> {
        let passed = self.filter.pass(bytes)?;
        self.stream
            .write_all(&passed)
            .await
            .map_err(|_| Unspeakable("the host is gone"))
    }
}

/// Why a viewer is not listened to any more.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct Unspeakable(&'static str);

/// Reads a client's messages as they come, in whatever pieces, and lets through what it may send.
#[derive(Debug)]
pub struct Filter {
    /// Whether keys, the pointer and the clipboard go through.
    types: bool,
    /// Bytes of the handshake still to come: version, security type, whether shared.
    handshake: usize,
    rest: Vec<u8>,
}

impl Filter {
    pub fn new(types: bool) -> Self {
        Filter {
            types,
            handshake: 12 + 1 + 1,
            rest: Vec::new(),
        }
    }

    /// What of `bytes`, and of what came before them, goes on to the host.
    ///
    /// # Errors
    /// [`Unspeakable`] for a message that the protocol doesn't have, or one that is too long.
    pub fn pass(&mut self, bytes: &[u8]) -> Result<Vec<u8>, Unspeakable> {
        let hello = self.handshake.min(bytes.len());
        self.handshake -= hello;
        let mut out = bytes[..hello].to_vec();
        self.rest.extend(&bytes[hello..]);
        let mut from = 0;
        while let Some(length) = length(&self.rest[from..])? {
            let Some(message) = self.rest.get(from..from + length) else {
                break;
            };
            let input = matches!(message[0], 4..=6);
            if self.types || !input {
                out.extend(message);
            }
            from += length;
        }
        self.rest.drain(..from);
        Ok(out)
    }
}

/// The length of the message that begins here, as far as it can be told (RFC 6143, section 7.5).
fn length(bytes: &[u8]) -> Result<Option<usize>, Unspeakable> {
    let known = match bytes {
        [] => None,
        [0, ..] => Some(20),
        [2, _, high, low, ..] => Some(4 + 4 * usize::from(u16::from_be_bytes([*high, *low]))),
        [3, ..] => Some(10),
        [4, ..] => Some(8),
        [5, ..] => Some(6),
        [6, _, _, _, a, b, c, d, ..] => {
            let text = u32::from_be_bytes([*a, *b, *c, *d]);
            match usize::try_from(text) {
                Ok(text) if text <= CLIPBOARD => Some(8 + text),
                _ => return Err(Unspeakable("a clipboard text that is too long")),
            }
        }
        [2 | 6, ..] => None,
        _ => return Err(Unspeakable("a message that the protocol doesn't have")),
    };
    Ok(known)
}

impl Drivers {
    /// Looks at a machine's screen on the host where it runs. `keyboard` is the one that the guest has: `us`, `de` …;
    /// `types` says whether the viewer's keys and pointer go through.
    ///
    /// # Errors
    /// [`Fault`] when the host is silent or the machine is not on there.
    pub async fn screen(
        &self,
        host: &Host,
        machine: &Uuid,
        keyboard: &str,
        types: bool,
    ) -> Result<Screen, Fault> {
        let key = self.key_of(host).await?;
        let stream = self.agent(host, &key).screen(machine, keyboard).await?;
        Ok(Screen {
            stream,
            filter: Filter::new(types),
        })
    }

    /// A picture of a machine's screen as a PNG file: of now, or the kept one of this number.
    ///
    /// # Errors
    /// [`Fault`] when the host is silent, has no such picture, or answers with something else.
    pub async fn picture(
        &self,
        host: &Host,
        machine: &Uuid,
        kept: Option<i64>,
    ) -> Result<Vec<u8>, Fault> {
        let key = self.key_of(host).await?;
        let bytes = self.agent(host, &key).picture(machine, kept).await?;
        if !bytes.starts_with(b"\x89PNG\r\n\x1a\n") {
            return Err(garbled(&host.access.address, "no PNG file"));
        }
        Ok(bytes)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn client() -> Vec<u8> {
        let mut all = b"RFB 003.008\n".to_vec();
        all.extend([1, 1]);
        all.extend([0; 20]);
        all.extend([2, 0, 0, 2, 0, 0, 0, 6, 0, 0, 0, 0]);
        all.extend([4, 1, 0, 0, 0, 0, 0, 0x61]);
        all.extend([5, 1, 0, 3, 0, 4]);
        all.extend([6, 0, 0, 0, 0, 0, 0, 2, b'h', b'i']);
        all.extend([3, 1, 0, 0, 0, 0, 2, 128, 1, 144]);
        all
    }

    fn in_pieces(filter: &mut Filter, size: usize) -> Vec<u8> {
        client()
            .chunks(size)
            .flat_map(|c| filter.pass(c).unwrap())
            .collect()
    }

    #[test]
    fn whoever_only_looks_sends_no_keys_in_whatever_pieces_they_come() {
        let keys = 8 + 6 + 10;
        for size in 1..=client().len() {
            let passed = in_pieces(&mut Filter::new(false), size);
            assert_eq!(passed.len(), client().len() - keys, "pieces of {size}");
            assert!(
                passed.ends_with(&[3, 1, 0, 0, 0, 0, 2, 128, 1, 144]),
                "what it asks goes on"
            );
            assert_eq!(in_pieces(&mut Filter::new(true), size), client());
        }
    }

    #[test]
    fn what_the_protocol_does_not_have_ends_it() {
        let mut filter = Filter::new(false);
        filter.pass(&client()).unwrap();
        assert!(
            filter.pass(&[255, 0, 0, 1]).is_err(),
            "an extended key would slip through"
        );
        let mut filter = Filter::new(true);
        filter.pass(&client()).unwrap();
        assert!(
            filter.pass(&[6, 0, 0, 0, 0x80, 0, 0, 1]).is_err(),
            "a length that lies"
        );
    }

    proptest::proptest! {
        /// Whatever a browser sends, nothing grows without bound, and who only looks types nothing.
        #[test]
        fn no_bytes_of_a_browser_harm(pieces in proptest::collection::vec(proptest::collection::vec(proptest::prelude::any::<u8>(), 0..300), 0..8)) {
            let mut filter = Filter::new(false);
            filter.pass(&[0; 14]).unwrap();
            for piece in pieces {
                let Ok(passed) = filter.pass(&piece) else { return Ok(()) };
                proptest::prop_assert!(filter.rest.len() <= CLIPBOARD + 8 + piece.len());
                proptest::prop_assert!(!passed.first().is_some_and(|kind| matches!(kind, 4..=6)));
            }
        }
    }
}
