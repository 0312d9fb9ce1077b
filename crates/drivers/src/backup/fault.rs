//! What goes wrong at a store, in words that say what to do.

use std::time::Duration;
use zastrugi_formats::backup::Damaged;

/// One call to a store takes no longer.
pub(super) const WHOLE: Duration = Duration::from_secs(30);

#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum StoreFault {
    #[error("the store did not answer within {}", seconds())]
    Slow,
    #[error("the store does not answer: {0}")]
    Silent(String),
    #[error("the store refuses: {0}")]
    Refused(String),
    #[error("the store is full: {0}")]
    Full(String),
    #[error("there is no {0}")]
    Gone(String),
    #[error("{0} is locked: nobody can take it away before its time")]
    Locked(String),
    #[error(
        "its server's clock and this one differ by {0}, and what is locked by a wrong clock is for too long or too short"
    )]
    Clock(String),
    #[error("there is a store of Zastrugi's already")]
    Taken,
    #[error("there is no store of Zastrugi's")]
    NoStore,
    #[error("the store is of another version: {0}")]
    Version(String),
    #[error("the key is not this store's")]
    Key,
    #[error("a sweep voided this copy, as its state was gone")]
    Revoked,
    #[error("{name} is damaged: {why}")]
    Damaged { name: String, why: Damaged },
    /// What was to be copied could not be read; words of whoever reads it.
    #[error("{0}")]
    Source(String),
}

fn seconds() -> String {
    format!("{} s", WHOLE.as_secs())
}

impl StoreFault {
    /// Whether the same may succeed a little later.
    pub fn passes(&self) -> bool {
        match self {
            StoreFault::Slow | StoreFault::Silent(_) | StoreFault::Full(_) => true,
            StoreFault::Refused(_)
            | StoreFault::Gone(_)
            | StoreFault::Locked(_)
            | StoreFault::Clock(_)
            | StoreFault::Taken
            | StoreFault::NoStore
            | StoreFault::Version(_)
            | StoreFault::Key
            | StoreFault::Revoked
            | StoreFault::Damaged { .. }
            | StoreFault::Source(_) => false,
        }
    }

    pub(super) fn damaged(name: &str) -> impl Fn(Damaged) -> StoreFault {
        let name = name.to_owned();
        move |why| StoreFault::Damaged {
            name: name.clone(),
            why,
        }
    }
}

/// Words of an error and of what lies beneath it; secrets are in none of them.
fn words(error: &dyn std::error::Error) -> String {
    let mut at = Some(error);
    let mut last = String::new();
    while let Some(e) = at {
        last = e.to_string();
        at = e.source();
    }
    last.chars().filter(|c| !c.is_control()).take(200).collect()
}

impl From<object_store::Error> for StoreFault {
    fn from(error: object_store::Error) -> StoreFault {
        use object_store::Error as E;
        let all = error.to_string();
        let said = words(&error);
        match error {
            E::NotFound { path, .. } => StoreFault::Gone(path),
            E::PermissionDenied { .. } | E::Unauthenticated { .. } => StoreFault::Refused(said),
            _ if all.contains("No space left")
                || all.contains("QuotaExceeded")
                || all.contains("507 ") =>
            {
                StoreFault::Full(said)
            }
            _ if all.contains("403 ") || all.contains("401 ") || all.contains("400 ") => {
                StoreFault::Refused(said)
            }
            _ => StoreFault::Silent(said),
        }
    }
}
