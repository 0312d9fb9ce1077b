//! `store.json`: what anybody may know of a store, and something sealed by which a wrong key is found at once.

use super::{Damaged, FORMAT, Kind, STORE, Salt, Sealer, hex};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Storefront {
    pub format: String,
    pub store: Uuid,
    /// The store's number, sealed under its own key, in hexadecimal digits.
    proof: String,
}

impl Storefront {
    /// Of a store that is made.
    ///
    /// # Errors
    /// [`Damaged`] where it can't be sealed.
    pub fn new(store: Uuid, sealer: &Sealer, salt: &Salt) -> Result<Storefront, Damaged> {
        let sealed = sealer.seal(Kind::Store, STORE, salt, store.as_bytes())?;
        Ok(Storefront {
            format: FORMAT.to_owned(),
            store,
            proof: sealed.iter().map(|b| format!("{b:02x}")).collect(),
        })
    }

    /// Whether this is the key of the store.
    pub fn opens(&self, sealer: &Sealer) -> bool {
        let opened = hex(&self.proof).and_then(|p| sealer.open(Kind::Store, STORE, &p).ok());
        opened.is_some_and(|id| id == self.store.as_bytes())
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

#[cfg(test)]
mod tests {
    use super::{super::Key, *};

    /// If this fails, a store is opened by any key, or by none.
    #[test]
    fn only_its_own_key_opens_a_store() {
        let own = Key::new([1; 32]).sealer("all");
        let front = Storefront::new(Uuid::from_u128(5), &own, &[9; 32]).unwrap();
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
}
