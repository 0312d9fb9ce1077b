//! One sealed object: packed, encrypted, and bound to what it is and how it is called, so that none can be put in another's
//! place.
//!
//! ```text
//! "ZBS1" | kind (1) | packing (1) | salt (32) | ciphertext and tag (AES-256-GCM, RFC 5116)
//! ```
//!
//! The key is derived from the store's and the salt, and used for nothing else; so the nonce is zero. Associated data are the
//! 38 bytes before the ciphertext and the object's name.

use super::{LONGEST, Sealer};
use aes_gcm::{
    Aes256Gcm,
    aead::{Aead, KeyInit, Nonce, Payload},
};

const MAGIC: &[u8; 4] = b"ZBS1";
const HEAD: usize = 38;
/// Of zstd (RFC 8878): the fastest that packs well.
const LEVEL: i32 = 1;
/// What an object unpacks to at most.
const WHOLE: usize = 4 << 20;

/// 256 random bits beside each object.
pub type Salt = [u8; 32];

/// What an object is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    Chunk,
    Page,
    Manifest,
    Session,
    Condemned,
    Waiting,
    Store,
}

impl Kind {
    fn letter(self) -> u8 {
        match self {
            Kind::Chunk => b'c',
            Kind::Page => b'p',
            Kind::Manifest => b'm',
            Kind::Session => b's',
            Kind::Condemned => b'd',
            Kind::Waiting => b'w',
            Kind::Store => b'k',
        }
    }
}

/// Why an object can't be read.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Damaged {
    #[error("it is not one of Zastrugi's, or cut off")]
    Foreign,
    #[error("it was changed, stands in another's place, or the key is another")]
    Seal,
    #[error("it does not unpack")]
    Packing,
    #[error("its content is not what its name says")]
    Name,
    #[error("its content can't be read")]
    Content,
}

impl Sealer {
    /// What is stored of `plain` under this name. Of at most 4 MiB; longer is refused as it could not be opened.
    ///
    /// # Errors
    /// [`Damaged::Packing`] where it is too long, or the packing fails.
    pub fn seal(
        &self,
        kind: Kind,
        name: &str,
        salt: &Salt,
        plain: &[u8],
    ) -> Result<Vec<u8>, Damaged> {
        if plain.len() > WHOLE {
            return Err(Damaged::Packing);
        }
        let packed = zstd::bulk::compress(plain, LEVEL).map_err(|_| Damaged::Packing)?;
        let (packing, body) = match packed.len() < plain.len() {
            true => (1, packed.as_slice()),
            false => (0, plain),
        };
        let mut out = Vec::with_capacity(HEAD + body.len() + 16);
        out.extend_from_slice(MAGIC);
        out.extend_from_slice(&[kind.letter(), packing]);
        out.extend_from_slice(salt);
        let bound = bound(&out, name);
        let cipher = Aes256Gcm::new(&self.of(salt).into());
        let payload = Payload {
            msg: body,
            aad: &bound,
        };
        let sealed = cipher.encrypt(&Nonce::<Aes256Gcm>::default(), payload);
        out.extend(sealed.map_err(|_| Damaged::Seal)?);
        Ok(out)
    }

    /// # Errors
    /// [`Damaged`] in every case but that of exactly what was sealed under this name.
    pub fn open(&self, kind: Kind, name: &str, sealed: &[u8]) -> Result<Vec<u8>, Damaged> {
        let (head, body) = sealed.split_at_checked(HEAD).ok_or(Damaged::Foreign)?;
        if sealed.len() > LONGEST || !head.starts_with(MAGIC) || head.get(4) != Some(&kind.letter())
        {
            return Err(Damaged::Foreign);
        }
        let salt: Salt = head
            .get(6..)
            .and_then(|s| s.try_into().ok())
            .ok_or(Damaged::Foreign)?;
        let bound = bound(head, name);
        let cipher = Aes256Gcm::new(&self.of(&salt).into());
        let payload = Payload {
            msg: body,
            aad: &bound,
        };
        let opened = cipher.decrypt(&Nonce::<Aes256Gcm>::default(), payload);
        let opened = opened.map_err(|_| Damaged::Seal)?;
        match head.get(5) {
            Some(0) => Ok(opened),
            Some(1) => zstd::bulk::decompress(&opened, WHOLE).map_err(|_| Damaged::Packing),
            _ => Err(Damaged::Foreign),
        }
    }
}

fn bound(head: &[u8], name: &str) -> Vec<u8> {
    [head, name.as_bytes()].concat()
}

#[cfg(test)]
mod tests {
    use super::{super::Key, *};
    use proptest::prelude::*;

    fn sealer() -> Sealer {
        Key::new([3; 32]).sealer("all")
    }

    proptest! {
        /// If this fails, a damaged or swapped object is restored as if it were right.
        #[test]
        fn only_what_was_sealed_opens(plain in proptest::collection::vec(any::<u8>(), 0..3000), at in any::<prop::sample::Index>(), bit in 0u8..8) {
            let sealed = sealer().seal(Kind::Chunk, "chunks/a", &[1; 32], &plain).unwrap();
            prop_assert_eq!(sealer().open(Kind::Chunk, "chunks/a", &sealed), Ok(plain));
            prop_assert_eq!(sealer().open(Kind::Chunk, "chunks/b", &sealed), Err(Damaged::Seal));
            prop_assert_eq!(sealer().open(Kind::Page, "chunks/a", &sealed), Err(Damaged::Foreign));
            prop_assert_eq!(Key::new([4; 32]).sealer("all").open(Kind::Chunk, "chunks/a", &sealed), Err(Damaged::Seal));
            let mut wrong = sealed.clone();
            wrong[at.index(sealed.len())] ^= 1 << bit;
            prop_assert!(sealer().open(Kind::Chunk, "chunks/a", &wrong).is_err());
            prop_assert!(sealer().open(Kind::Chunk, "chunks/a", &sealed[..at.index(sealed.len())]).is_err());
        }
    }

    #[test]
    fn what_packs_badly_is_left_as_it_is_and_what_unpacks_too_far_is_refused() {
        let text = vec![b'x'; WHOLE];
        let sealed = sealer().seal(Kind::Chunk, "n", &[2; 32], &text).unwrap();
        assert!(sealed.len() < 2000, "{}", sealed.len());
        assert_eq!(sealer().open(Kind::Chunk, "n", &sealed), Ok(text));
        let mut x = 1u64;
        let noise = std::iter::repeat_with(|| {
            x ^= x << 13;
            x ^= x >> 7;
            x ^= x << 17;
            x.to_le_bytes()[0]
        });
        let noise: Vec<u8> = noise.take(WHOLE).collect();
        let sealed = sealer().seal(Kind::Chunk, "n", &[2; 32], &noise).unwrap();
        assert_eq!(sealed.len(), HEAD + WHOLE + 16);
        assert!(sealed.len() <= LONGEST);
        assert_eq!(
            sealer().seal(Kind::Chunk, "n", &[2; 32], &vec![0; WHOLE + 1]),
            Err(Damaged::Packing)
        );
    }
}
