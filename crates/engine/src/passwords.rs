//! Passwords: hashed (Argon2id) on a bounded pool. Whom guessing is slowed by is in `guard`.

use argon2::{Algorithm, Argon2, Block, Params, Version};
use password_hash::phc::{Output, PasswordHash, Salt};
use std::panic::{AssertUnwindSafe, catch_unwind};
use std::sync::{Arc, LazyLock, Mutex, PoisonError, mpsc};
use tokio::sync::{Semaphore, oneshot};

/// Hashing takes a core and 19 MiB; two at once are enough. They are always the same two threads, each with its own memory: the
/// allocator does not find again what was given back to it so largely aligned, and grows with every wrong password.
const AT_ONCE: usize = 2;

/// What a hash is computed in.
type Memory = Vec<Block>;
type Job = Box<dyn FnOnce(&mut Memory) + Send>;

static THREADS: LazyLock<mpsc::Sender<Job>> = LazyLock::new(|| {
    let (jobs, queue) = mpsc::channel::<Job>();
    let queue = Arc::new(Mutex::new(queue));
    for _ in 0..AT_ONCE {
        let queue = queue.clone();
        std::thread::spawn(move || {
            let mut memory = Memory::new();
            loop {
                let next = queue.lock().unwrap_or_else(PoisonError::into_inner).recv();
                let Ok(job) = next else { return };
                // A hash that fails in itself must not take the thread with it.
                drop(catch_unwind(AssertUnwindSafe(|| job(&mut memory))));
            }
        });
    }
    jobs
});

/// Verified for unknown names, so that they take as long as known ones.
static NOBODY: LazyLock<String> =
    LazyLock::new(|| hash_now("nobody has this", &mut Memory::new()).unwrap_or_default());

/// The hash of a password with these settings and salt, computed in `memory`.
fn compute(
    argon: &Argon2<'_>,
    password: &str,
    salt: &[u8],
    length: usize,
    memory: &mut Memory,
) -> Option<Output> {
    let blocks = argon.params().block_count();
    if memory.len() < blocks {
        memory.resize(blocks, Block::default());
    }
    let mut out = vec![0; length];
    let blocks = memory.get_mut(..blocks)?;
    argon
        .hash_password_into_with_memory(password.as_bytes(), salt, &mut out, blocks)
        .ok()?;
    Output::new(&out).ok()
}

fn hash_now(password: &str, memory: &mut Memory) -> Option<String> {
    let argon = Argon2::default();
    let salt = Salt::new(&rand::random::<[u8; 16]>()).ok()?;
    let length = Params::DEFAULT_OUTPUT_LEN;
    let output = compute(&argon, password, &salt, length, memory)?;
    let hash = PasswordHash {
        algorithm: Algorithm::default().ident(),
        version: Some(Version::default().into()),
        params: argon.params().try_into().ok()?,
        salt: Some(salt),
        hash: Some(output),
    };
    Some(hash.to_string())
}

/// Whether a password is the one of a PHC string. Hashes are compared in constant time.
fn fits(text: &str, password: &str, memory: &mut Memory) -> Option<bool> {
    let kept = PasswordHash::new(text).ok()?;
    let (salt, expected) = (kept.salt.as_ref()?, kept.hash.as_ref()?);
    let algorithm = Algorithm::try_from(kept.algorithm.as_str()).ok()?;
    let version = match kept.version {
        Some(version) => Version::try_from(version).ok()?,
        None => Version::default(),
    };
    let params = Params::try_from(&kept).ok()?;
    let argon = Argon2::new(algorithm, version, params);
    let computed = compute(&argon, password, salt, expected.as_bytes().len(), memory)?;
    Some(computed == *expected)
}

/// Who waits for one of the two; more are told to come again, so that nobody waits for long.
static WAITING: LazyLock<Semaphore> = LazyLock::new(|| Semaphore::new(40));

async fn on_pool<T: Send + 'static>(
    known: bool,
    work: impl FnOnce(&mut Memory) -> T + Send + 'static,
) -> Option<T> {
    let _waits = match known {
        true => None,
        false => Some(WAITING.try_acquire().ok()?),
    };
    let (tell, told) = oneshot::channel();
    let job = move |memory: &mut Memory| {
        // Whoever asked may have gone away.
        let _ = tell.send(work(memory));
    };
    THREADS.send(Box::new(job)).ok()?;
    told.await.ok()
}

/// A PHC string of the password; none if the machine is out of memory.
pub(crate) async fn hash(password: String) -> Option<String> {
    on_pool(true, move |memory| hash_now(&password, memory))
        .await
        .flatten()
}

/// None: too many are waiting; whose browser is known never is one too many.
pub(crate) async fn verify(password: String, kept: Option<String>, known: bool) -> Option<bool> {
    let exists = kept.is_some();
    let right = on_pool(known, move |memory| {
        let text = kept.unwrap_or_else(|| NOBODY.clone());
        fits(&text, &password, memory).unwrap_or(false)
    });
    Some(right.await? && exists)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Whatever this module writes, others that read the format agree with, and the other way round.
    #[test]
    fn hashes_are_those_of_the_format() {
        use argon2::{PasswordHasher, PasswordVerifier};
        let mut memory = Memory::new();
        let ours = hash_now("harbour lights", &mut memory).unwrap();
        let read = PasswordHash::new(&ours).unwrap();
        assert!(
            Argon2::default()
                .verify_password(b"harbour lights", &read)
                .is_ok()
        );
        let theirs: PasswordHash = Argon2::default().hash_password(b"harbour lights").unwrap();
        let theirs = theirs.to_string();
        assert_eq!(fits(&theirs, "harbour lights", &mut memory), Some(true));
        assert_eq!(fits(&theirs, "harbour light", &mut memory), Some(false));
        assert_ne!(
            ours,
            hash_now("harbour lights", &mut memory).unwrap(),
            "salted"
        );
        assert_eq!(fits("nonsense", "", &mut memory), None);
    }

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
