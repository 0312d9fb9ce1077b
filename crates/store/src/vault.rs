//! Secrets, sealed (XChaCha20-Poly1305) with a key that is not in the database, and bound to the row they stand in.

use crate::StoreError;
use chacha20poly1305::{
    KeyInit, XChaCha20Poly1305, XNonce,
    aead::{Aead, Payload},
};
use sha2::{Digest, Sha256};
use sqlx::{PgPool, Row};
use std::sync::Arc;
use std::time::Duration;
use uuid::Uuid;
use zastrugi_core::ids::SecretRef;
use zeroize::Zeroizing;

#[derive(Clone)]
pub struct Vault {
    pool: PgPool,
    cipher: Arc<XChaCha20Poly1305>,
    key_id: String,
}

#[derive(Debug, thiserror::Error)]
pub enum VaultError {
    #[error(transparent)]
    Store(#[from] StoreError),
    #[error("there is no secret {0}")]
    Missing(Uuid),
    #[error("a secret was sealed with the key {0}, which is not the one in use")]
    OtherKey(String),
    #[error("a secret can't be opened: it was changed or moved")]
    Broken,
}

impl From<sqlx::Error> for VaultError {
    fn from(error: sqlx::Error) -> Self {
        VaultError::Store(error.into())
    }
}

impl Vault {
    pub fn new(pool: PgPool, key: &[u8; 32]) -> Self {
        let id = Sha256::digest(key);
        let key_id = id.iter().take(4).map(|b| format!("{b:02x}")).collect();
        Self {
            pool,
            cipher: Arc::new(XChaCha20Poly1305::new(key.into())),
            key_id,
        }
    }

    /// Seals `plain` and keeps it.
    ///
    /// # Errors
    /// [`VaultError`] when the database does not answer.
    pub async fn keep(&self, plain: &str) -> Result<SecretRef, VaultError> {
        let id = Uuid::new_v4();
        let nonce: [u8; 24] = rand::random();
        let sealed = self
            .cipher
            .encrypt(
                &XNonce::from(nonce),
                Payload {
                    msg: plain.as_bytes(),
                    aad: &place(id),
                },
            )
            .map_err(|_| VaultError::Broken)?;
        sqlx::query("insert into secret (id, key_id, nonce, sealed) values ($1, $2, $3, $4)")
            .bind(id)
            .bind(&self.key_id)
            .bind(&nonce[..])
            .bind(sealed)
            .execute(&self.pool)
            .await?;
        Ok(SecretRef(id))
    }

    /// # Errors
    /// [`VaultError`] when it is missing, sealed with another key, or was changed.
    pub async fn open(&self, secret: SecretRef) -> Result<Zeroizing<String>, VaultError> {
        let row = sqlx::query("select key_id, nonce, sealed from secret where id = $1")
            .bind(secret.0)
            .fetch_optional(&self.pool)
            .await?
            .ok_or(VaultError::Missing(secret.0))?;
        let key_id: String = row.try_get("key_id")?;
        if key_id != self.key_id {
            return Err(VaultError::OtherKey(key_id));
        }
        let (nonce, sealed): (Vec<u8>, Vec<u8>) = (row.try_get("nonce")?, row.try_get("sealed")?);
        let nonce: [u8; 24] = nonce.try_into().map_err(|_| VaultError::Broken)?;
        let plain = self
            .cipher
            .decrypt(
                &XNonce::from(nonce),
                Payload {
                    msg: &sealed,
                    aad: &place(secret.0),
                },
            )
            .map_err(|_| VaultError::Broken)?;
        String::from_utf8(plain)
            .map(Zeroizing::new)
            .map_err(|_| VaultError::Broken)
    }

    /// Secrets that were kept longer ago than this.
    ///
    /// # Errors
    /// [`VaultError`] when the database does not answer.
    pub async fn older_than(&self, age: Duration) -> Result<Vec<SecretRef>, VaultError> {
        let old: Vec<Uuid> = sqlx::query_scalar(
            "select id from secret where created < now() - make_interval(secs => $1)",
        )
        .bind(age.as_secs_f64())
        .fetch_all(&self.pool)
        .await?;
        Ok(old.into_iter().map(SecretRef).collect())
    }

    /// # Errors
    /// [`VaultError`] when the database does not answer.
    pub async fn forget(&self, secret: SecretRef) -> Result<(), VaultError> {
        sqlx::query("delete from secret where id = $1")
            .bind(secret.0)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

/// A sealed value can't be moved to another row: (table, row, field) is part of what is authenticated.
fn place(id: Uuid) -> Vec<u8> {
    format!("secret/{id}/sealed").into_bytes()
}
