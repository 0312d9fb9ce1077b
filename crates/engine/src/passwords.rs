//! Passwords: hashed (Argon2id) on a bounded pool. Whom guessing is slowed by is in `guard`.

use argon2::{Argon2, PasswordHasher, PasswordVerifier};
use password_hash::phc::PasswordHash;
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, LazyLock, Mutex, PoisonError, mpsc};
use tokio::sync::{Semaphore, oneshot};

/// Hashing takes a core and 19 MiB; two at once are enough. They are always the same two threads: what each of many once
/// took, its allocator would keep.
const AT_ONCE: usize = 2;

type Job = Box<dyn FnOnce() + Send>;

static THREADS: LazyLock<mpsc::Sender<Job>> = LazyLock::new(|| {
    let (jobs, queue) = mpsc::channel::<Job>();
    let queue = Arc::new(Mutex::new(queue));
    for _ in 0..AT_ONCE {
        let queue = queue.clone();
        std::thread::spawn(move || {
            loop {
                let next = queue.lock().unwrap_or_else(PoisonError::into_inner).recv();
                let Ok(job) = next else { return };
                // A hash that fails in itself must not take the thread with it.
                drop(catch_unwind(AssertUnwindSafe(job)));
            }
        });
    }
    jobs
});

/// Verified for unknown names, so that they take as long as known ones.
static NOBODY: LazyLock<String> = LazyLock::new(|| hash_now("nobody has this").unwrap_or_default());

fn hash_now(password: &str) -> Option<String> {
    Argon2::default()
        .hash_password(password.as_bytes())
        .ok()
        .map(|h| h.to_string())
}

/// Who waits for one of the two; more are told to come again, so that nobody waits for long.
static WAITING: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(40));

async fn on_pool<T: Send + 'static>(
    known: bool,
    work: impl FnOnce() -> T + Send + 'static,
) -> Option<T> {
    let _waits = match known {
        true => None,
        false => Some(WAITING.try_acquire().ok()?),
    };
    let (tell, told) = oneshot::channel();
    let job = move || {
        // Whoever asked may have gone away.
        let _ = tell.send(work());
    };
    THREADS.send(Box::new(job)).ok()?;
    told.await.ok()
}

/// A PHC string of the password; none if the machine is out of memory.
pub(crate) async fn hash(password: String) -> Option<String> {
    on_pool(true, move || hash_now(&password)).await.flatten()
}

/// None: too many are waiting; whose browser is known never is one too many.
pub(crate) async fn verify(password: String, kept: Option<String>, known: bool) -> Option<bool> {
    let exists = kept.is_some();
    let right = on_pool(known, move || {
        let text = kept.unwrap_or_else(|| NOBODY.clone());
        PasswordHash::new(&text).is_ok_and(|hash| {
            Argon2::default()
                .verify_password(password.as_bytes(), &hash)
                .is_ok()
        })
    });
    Some(right.await? && exists)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_password_is_known_again_and_nobody_is_not() {
        let known = hash("harbour lights".into()).await;
        assert_eq!(
            verify("harbour lights".into(), known.clone(), true).await,
            Some(true)
        );
        assert_eq!(
            verify("harbour light".into(), known, false).await,
            Some(false)
        );
        assert_eq!(
            verify("nobody has this".into(), None, false).await,
            Some(false)
        );
    }
}
