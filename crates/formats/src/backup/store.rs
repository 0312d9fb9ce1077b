//! `store.json`: what anybody may know of a store, and something sealed by which a wrong key is found at once.

use super::{Damaged, FORMAT, Kind, STORE, Salt, Sealer, hex};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Storefront {
    pub format: String,
    pub store: Uuid,
    /// For so many seconds nobody can take away what is written to it, at least; none: it is in no bucket with object lock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub locked: Option<u64>,
    /// The store's number, and how long it is locked, sealed under its own key, in hexadecimal digits.
    proof: String,
}

impl Storefront {
    /// Of a store that is made.
    ///
    /// # Errors
    /// [`Damaged`] where it can't be sealed.
    pub fn new(
        store: Uuid,
        locked: Option<u64>,
        sealer: &Sealer,
        salt: &Salt,
    ) -> Result<Storefront, Damaged> {
        let sealed = sealer.seal(Kind::Store, STORE, salt, &proven(store, locked))?;
        Ok(Storefront {
            format: FORMAT.to_owned(),
            store,
            locked,
            proof: sealed.iter().map(|b| format!("{b:02x}")).collect(),
        })
    }

    /// Whether this is the key of the store, and what stands here was written by somebody who has it.
    pub fn opens(&self, sealer: &Sealer) -> bool {
        let opened = hex(&self.proof).and_then(|p| sealer.open(Kind::Store, STORE, &p).ok());
        opened.is_some_and(|told| told == proven(self.store, self.locked))
    }

    /// # Errors
    /// [`Damaged::Content`]: this is none.
    pub fn read(bytes: &[u8]) -> Result<Storefront, Damaged> {
        serde_json::from_slice(bytes).map_err(|_| Damaged::Content)
    }

    /// # Errors
    /// [`Damaged::Content`] where it can't be written.
    pub fn bytes(&self) -> Result<Vec<u8>, Damaged> {
        serde_json::to_vec_pretty(self).map_err(|_| Damaged::Content)
    }
}

/// What is sealed: whoever has no key can't say otherwise how long a store is locked.
fn proven(store: Uuid, locked: Option<u64>) -> Vec<u8> {
    let locked = locked.map(u64::to_le_bytes);
    let all = store.as_bytes().iter().chain(locked.iter().flatten());
    all.copied().collect()
}

#[cfg(test)]
mod tests {
    use super::{super::Key, *};

    /// If this fails, a store is opened by any key, or by none.
    #[test]
    fn only_its_own_key_opens_a_store() {
        let own = Key::new([1; 32]).sealer("all");
        let front = Storefront::new(Uuid::from_u128(5), None, &own, &[9; 32]).unwrap();
        let read = Storefront::read(&front.bytes().unwrap()).unwrap();
        assert_eq!(read, front);
        assert!(read.opens(&own) && !read.opens(&Key::new([2; 32]).sealer("all")));
        let other = Storefront {
            store: Uuid::from_u128(6),
            ..front.clone()
        };
        assert!(!other.opens(&own));
        let cut = Storefront {
            proof: front.proof[1..].to_owned(),
            ..front
        };
        assert!(!cut.opens(&own));
    }

    /// If this fails, whoever writes to a bucket makes readers believe that nothing in it is locked, and hides what is.
    #[test]
    fn how_long_a_store_is_locked_is_sealed_with_it() {
        let own = Key::new([1; 32]).sealer("all");
        let front = Storefront::new(Uuid::from_u128(5), Some(86_400), &own, &[9; 32]).unwrap();
        assert!(front.opens(&own));
        for locked in [None, Some(0), Some(86_399)] {
            let other = Storefront {
                locked,
                ..front.clone()
            };
            assert!(!other.opens(&own), "{locked:?}");
        }
    }
}
