//! The vault as the drivers see it, and the key that seals it.

use futures::future::BoxFuture;
use std::{
    collections::HashMap,
    fs, io,
    path::Path,
    sync::{Mutex, MutexGuard, PoisonError},
};
use zastrugi_core::{
    ids::SecretRef,
    runs::{Fault, FaultKind},
};
use zastrugi_drivers::Secrets;
use zastrugi_store::{Vault, VaultError};
use zeroize::Zeroizing;

/// Opened secrets are kept in memory: a database that is slow or away must not look like a silent host.
pub(crate) struct Sealed {
    vault: Vault,
    opened: Mutex<HashMap<SecretRef, Zeroizing<String>>>,
}

impl Sealed {
    pub(crate) fn new(vault: Vault) -> Self {
        Sealed {
            vault,
            opened: Mutex::default(),
        }
    }
    fn opened(&self) -> MutexGuard<'_, HashMap<SecretRef, Zeroizing<String>>> {
        self.opened.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// So many are kept; more than a thousand hosts have, with their controllers.
const KEPT: usize = 4_096;

fn fault(error: &VaultError) -> Fault {
    let kind = if matches!(error, VaultError::Store(_)) {
        FaultKind::Ours
    } else {
        FaultKind::Refused
    };
    Fault::new(
        kind,
        format!("A secret can't be used: {error}."),
        "Check the database and the key file, then retry.",
    )
}

impl Secrets for Sealed {
    fn open(&self, secret: SecretRef) -> BoxFuture<'_, Result<String, Fault>> {
        Box::pin(async move {
            if let Some(known) = self.opened().get(&secret) {
                return Ok(known.to_string());
            }
            let opened = self.vault.open(secret).await.map_err(|e| fault(&e))?;
            let plain = opened.to_string();
            let mut kept = self.opened();
            if kept.len() >= KEPT {
                kept.clear();
            }
            kept.insert(secret, Zeroizing::new(plain.clone()));
            Ok(plain)
        })
    }
    fn keep(&self, plain: String) -> BoxFuture<'_, Result<SecretRef, Fault>> {
        Box::pin(async move { self.vault.keep(&plain).await.map_err(|e| fault(&e)) })
    }
}

/// Reads the key file, or makes one that only its owner can read.
///
/// # Errors
/// When it can't be read or written, or holds no 32-byte key in hexadecimal.
pub fn read_key(path: &Path) -> io::Result<[u8; 32]> {
    match fs::read_to_string(path) {
        Ok(text) => parse(text.trim())
            .ok_or_else(|| io::Error::new(io::ErrorKind::InvalidData, "the key file holds no key")),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let key: [u8; 32] = rand::random();
            write_private(
                path,
                &key.iter().map(|b| format!("{b:02x}")).collect::<String>(),
            )?;
            Ok(key)
        }
        Err(error) => Err(error),
    }
}

fn parse(text: &str) -> Option<[u8; 32]> {
    let bytes: Option<Vec<u8>> = (0..64)
        .step_by(2)
        .map(|i| u8::from_str_radix(text.get(i..i + 2)?, 16).ok())
        .collect();
    bytes?.try_into().ok()
}

fn write_private(path: &Path, text: &str) -> io::Result<()> {
    use std::{io::Write, os::unix::fs::OpenOptionsExt};
    let mut file = fs::OpenOptions::new()
        .write(true)
        .create_new(true)
        .mode(0o600)
        .open(path)?;
    file.write_all(text.as_bytes())
}
