//! Passwords: hashed (Argon2id) on a bounded pool, and guarded by a lock-out that slows down and never shuts out.

use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use password_hash::phc::PasswordHash;
use std::{
    collections::HashMap,
    sync::{Arc, LazyLock, Mutex, PoisonError},
};
use tokio::sync::Semaphore;
use zastrugi_core::moment::{Moment, Span};

/// Hashing takes memory and a core; two at once are enough.
static AT_ONCE: LazyLock<Arc<Semaphore>> = LazyLock::new(|| Arc::new(Semaphore::new(2)));

/// Verified for unknown names, so that they take as long as known ones.
static NOBODY: LazyLock<String> = LazyLock::new(|| hash_now("nobody has this").unwrap_or_default());

fn hash_now(password: &str) -> Option<String> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .ok()
        .map(|h| h.to_string())
}

async fn on_pool<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Option<T> {
    let _permit = AT_ONCE.acquire().await.ok()?;
    tokio::task::spawn_blocking(work).await.ok()
}

/// A PHC string of the password; none if the machine is out of memory.
pub(crate) async fn hash(password: String) -> Option<String> {
    on_pool(move || hash_now(&password)).await.flatten()
}

pub(crate) async fn verify(password: String, known: Option<String>) -> bool {
    let exists = known.is_some();
    let right = on_pool(move || {
        let text = known.unwrap_or_else(|| NOBODY.clone());
        PasswordHash::new(&text).is_ok_and(|hash| {
            Argon2::default()
                .verify_password(password.as_bytes(), &hash)
                .is_ok()
        })
    });
    right.await.unwrap_or(false) && exists
}

/// Wrong attempts by (account, source): each makes the next wait longer, up to half a minute.
#[derive(Default)]
pub(crate) struct Softlock {
    wrong: Mutex<HashMap<(String, String), (u32, Moment)>>,
}

impl Softlock {
    const FREE: u32 = 3;
    const MOST: usize = 10_000;

    /// How long this account must wait from this source; none when it needn't.
    pub(crate) fn wait(&self, account: &str, source: &str, now: Moment) -> Option<Span> {
        let wrong = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        let (count, last) = wrong.get(&(account.to_lowercase(), source.to_owned()))?;
        let pause = Span::secs(
            1u64.checked_shl(count.checked_sub(Self::FREE)?)
                .unwrap_or(30)
                .min(30),
        );
        let passed = now.since(*last);
        (passed < pause).then(|| Span(pause.0 - passed.0))
    }

    pub(crate) fn note(&self, account: &str, source: &str, right: bool, now: Moment) {
        let mut wrong = self.wrong.lock().unwrap_or_else(PoisonError::into_inner);
        let key = (account.to_lowercase(), source.to_owned());
        if right {
            wrong.remove(&key);
            return;
        }
        if wrong.len() >= Self::MOST {
            wrong.retain(|_, (_, last)| now.since(*last) < Span::mins(10));
        }
        let entry = wrong.entry(key).or_insert((0, now));
        *entry = (entry.0 + 1, now);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn wrong_passwords_slow_down_but_never_shut_out() {
        let lock = Softlock::default();
        let mut now = Moment(0);
        for _ in 0..3 {
            assert_eq!(lock.wait("duty.admin", "a", now), None);
            lock.note("duty.admin", "a", false, now);
        }
        assert_eq!(lock.wait("Duty.Admin", "a", now), Some(Span::secs(1)));
        assert_eq!(
            lock.wait("duty.admin", "b", now),
            None,
            "another source is not slowed down"
        );
        for _ in 0..40 {
            lock.note("duty.admin", "a", false, now);
        }
        assert_eq!(
            lock.wait("duty.admin", "a", now),
            Some(Span::secs(30)),
            "never longer than half a minute"
        );
        now = now.plus(Span::secs(30));
        assert_eq!(lock.wait("duty.admin", "a", now), None);
        lock.note("duty.admin", "a", true, now);
        lock.note("duty.admin", "a", false, now);
        assert_eq!(
            lock.wait("duty.admin", "a", now),
            None,
            "a right one forgives"
        );
    }

    #[tokio::test]
    async fn a_password_is_known_again_and_nobody_is_not() {
        let known = hash("harbour lights".into()).await;
        assert!(verify("harbour lights".into(), known.clone()).await);
        assert!(!verify("harbour light".into(), known).await);
        assert!(!verify("nobody has this".into(), None).await);
    }
}
