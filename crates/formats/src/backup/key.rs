//! The store's key, and what is derived from it. One key for each purpose (BLAKE3's key derivation; O'Connor, Aumasson, Neves,
//! Wilcox-O'Hearn: *BLAKE3: one function, fast everywhere*, 2020, section 7.5), and one for each sealed object.

use super::{ChunkId, seal::Salt};
use std::fmt;

/// Digits that show a mistyped key, of the digest of the others.
const CHECK: usize = 4;

/// 256 bits that open a store. Whoever loses it loses everything in it.
#[derive(Clone, PartialEq, Eq)]
pub struct Key([u8; 32]);

impl fmt::Debug for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Key(…)")
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotAKey {
    #[error("a key has 68 digits of 0–9 and a–f, and this has {0}")]
    Length(usize),
    #[error("“{0}” is no digit of a key; they are 0–9 and a–f")]
    Digit(char),
    #[error("its last digits don't fit the others: it was mistyped")]
    Mistyped,
}

impl Key {
    pub fn new(bytes: [u8; 32]) -> Key {
        Key(bytes)
    }

    /// As people write it down: 64 digits and 4 by which a slip is found, in groups of four.
    pub fn written(&self) -> String {
        let digits: String = self.0.iter().map(|b| format!("{b:02x}")).collect();
        let all = format!("{digits}{}", check(&digits));
        let groups: Vec<&str> = (0..all.len())
            .step_by(4)
            .filter_map(|at| all.get(at..at + 4))
            .collect();
        groups.join("-")
    }

    /// # Errors
    /// [`NotAKey`] in words for the field it was typed in.
    pub fn read(text: &str) -> Result<Key, NotAKey> {
        let digits: String = text
            .chars()
            .filter(|c| !c.is_whitespace() && *c != '-')
            .map(|c| c.to_ascii_lowercase())
            .collect();
        if let Some(odd) = digits.chars().find(|c| !c.is_ascii_hexdigit()) {
            return Err(NotAKey::Digit(odd));
        }
        let Some((key, last)) = digits
            .split_at_checked(64)
            .filter(|(_, l)| l.len() == CHECK)
        else {
            return Err(NotAKey::Length(digits.len()));
        };
        if check(key) != last {
            return Err(NotAKey::Mistyped);
        }
        let bytes = super::hex(key).and_then(|b| b.try_into().ok());
        bytes.map(Key).ok_or(NotAKey::Length(digits.len()))
    }

    /// What seals and names within one owner's scope: chunks of different scopes never have the same name.
    pub fn sealer(&self, scope: &str) -> Sealer {
        let id = derived("zastrugi-store/1 chunk name", &[&self.0, scope.as_bytes()]);
        Sealer {
            key: self.clone(),
            id,
        }
    }
}

fn check(digits: &str) -> String {
    let digest = blake3::hash(digits.as_bytes()).to_hex();
    digest.chars().take(CHECK).collect()
}

fn derived(purpose: &str, from: &[&[u8]]) -> [u8; 32] {
    let mut hasher = blake3::Hasher::new_derive_key(purpose);
    for part in from {
        hasher.update(part);
    }
    *hasher.finalize().as_bytes()
}

/// The keys of one scope.
#[derive(Clone)]
pub struct Sealer {
    key: Key,
    id: [u8; 32],
}

impl Sealer {
    /// What bytes are called.
    pub fn name(&self, plain: &[u8]) -> ChunkId {
        ChunkId(*blake3::keyed_hash(&self.id, plain).as_bytes())
    }
    /// The key of one object: no two objects have the same salt.
    pub(super) fn of(&self, salt: &Salt) -> [u8; 32] {
        derived("zastrugi-store/1 object seal", &[&self.key.0, salt])
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, somebody with the key on paper can't open the store, or opens none and is not told why.
    #[test]
    fn a_key_is_read_as_it_was_written_and_a_slip_is_found() {
        let key = Key::new(std::array::from_fn(|n| u8::try_from(n * 7 % 251).unwrap()));
        let written = key.written();
        assert_eq!(written.len(), 68 + 16);
        assert_eq!(Key::read(&written), Ok(key.clone()));
        assert_eq!(
            Key::read(&written.to_uppercase().replace('-', " ")),
            Ok(key.clone())
        );
        let mut slips = 0;
        for at in 0..written.len() {
            let mut typed: Vec<char> = written.chars().collect();
            if typed[at] == '-' {
                continue;
            }
            typed[at] = if typed[at] == '0' { '1' } else { '0' };
            let typed: String = typed.into_iter().collect();
            slips += usize::from(Key::read(&typed) == Err(NotAKey::Mistyped));
        }
        // 4 digits miss one slip in 65,536; these 68 are all found.
        assert_eq!(slips, 68);
        assert_eq!(Key::read(&written[1..]), Err(NotAKey::Length(67)));
        assert_eq!(Key::read("xyz"), Err(NotAKey::Digit('x')));
        assert_eq!(format!("{key:?}"), "Key(…)");
    }

    #[test]
    fn what_one_scope_calls_something_tells_another_nothing() {
        let key = Key::new([7; 32]);
        let (a, b) = (key.sealer("a"), key.sealer("b"));
        assert_eq!(a.name(b"same"), key.sealer("a").name(b"same"));
        assert_ne!(a.name(b"same"), b.name(b"same"));
        assert_ne!(a.name(b"same"), Key::new([8; 32]).sealer("a").name(b"same"));
    }
}
