//! What slows guessing down and shuts nobody out.
//!
//! Each try counts as wrong when it begins, so that many at once are slowed too; a right one takes that back. Tries are
//! counted by (account, address), by account and by address, each with its own measure. A browser that has signed in to
//! an account before is counted by itself: whoever guesses from the same address doesn't get in its way.

use base64::{Engine, prelude::BASE64_URL_SAFE_NO_PAD as BASE64};
use hmac::{Hmac, Mac};
use sha2::{Digest, Sha256};
use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
};
use zastrugi_core::{
    ids::PersonId,
    limits,
    moment::{Moment, Span},
};

type Mark = [u8; 16];

fn mark(parts: &[&str]) -> Mark {
    let mut hash = Sha256::new();
    for part in parts {
        hash.update((part.len() as u64).to_be_bytes());
        hash.update(part.as_bytes());
    }
    let mut out = [0; 16];
    out.copy_from_slice(&hash.finalize()[..16]);
    out
}

/// Whose tries are counted together.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
enum Key {
    /// A browser that signed in to the account before.
    Browser(Mark),
    /// An account, from one address.
    Pair(Mark),
    /// An account, from wherever.
    Account(Mark),
    /// An address, whatever the account.
    Source(Mark),
}

impl Key {
    /// Wrong tries before a pause, and the longest pause.
    fn measure(self) -> (u32, Span) {
        match self {
            Key::Browser(_) | Key::Pair(_) => (3, Span::secs(10)),
            Key::Account(_) => (20, Span::secs(5)),
            Key::Source(_) => (30, Span::secs(5)),
        }
    }
    fn pause(self, wrong: u32) -> Span {
        let (free, longest) = self.measure();
        match wrong.checked_sub(free) {
            None => Span(0),
            Some(over) => Span::secs(1 << over.min(10)).min(longest),
        }
    }
}

#[derive(Debug, Clone, Copy)]
struct Tries {
    wrong: u32,
    last: Moment,
    /// When the next one may begin.
    next: Moment,
}

/// A try that has begun; what it was counted as.
#[derive(Debug)]
pub(crate) struct Try {
    keys: Vec<Key>,
    /// Wrong tries of this pair or browser, with this one.
    pub(crate) times: u32,
}

#[derive(Default)]
pub(crate) struct Guard {
    tries: Mutex<HashMap<Key, Tries>>,
}

/// Wrong tries are forgotten after this long.
const FORGOTTEN: Span = Span::mins(15);

impl Guard {
    /// Begins a try, or says how long to wait.
    pub(crate) fn begin(
        &self,
        account: &str,
        source: &str,
        browser: Option<[u8; 16]>,
        now: Moment,
    ) -> Result<Try, Span> {
        let account = account.to_lowercase();
        let keys = match browser {
            Some(browser) => vec![Key::Browser(browser)],
            None => vec![
                Key::Pair(mark(&[&account, source])),
                Key::Account(mark(&[&account])),
                Key::Source(mark(&[source])),
            ],
        };
        let mut tries = self.tries.lock().unwrap_or_else(PoisonError::into_inner);
        let next = keys.iter().filter_map(|k| tries.get(k)).map(|t| t.next);
        if let Some(next) = next.max().filter(|next| *next > now) {
            return Err(next.since(now));
        }
        let mut times = 0;
        for key in keys.iter().rev() {
            make_room(&mut tries, now);
            let fresh = Tries {
                wrong: 0,
                last: now,
                next: now,
            };
            let held = tries.entry(*key).or_insert(fresh);
            if now.since(held.last) > FORGOTTEN {
                *held = fresh;
            }
            held.wrong = held.wrong.saturating_add(1);
            held.last = now;
            held.next = now.plus(key.pause(held.wrong));
            times = held.wrong;
        }
        Ok(Try { keys, times })
    }

    /// It was right: this pair or browser begins anew, and what else counted it takes it back.
    pub(crate) fn right(&self, tried: &Try) {
        let mut tries = self.tries.lock().unwrap_or_else(PoisonError::into_inner);
        for key in &tried.keys {
            match key {
                Key::Browser(_) | Key::Pair(_) => drop(tries.remove(key)),
                Key::Account(_) | Key::Source(_) => {
                    if let Some(held) = tries.get_mut(key) {
                        held.wrong = held.wrong.saturating_sub(1);
                    }
                }
            }
        }
    }

    #[cfg(test)]
    fn len(&self) -> usize {
        self.tries.lock().unwrap().len()
    }
}

/// What is kept is bounded: the forgotten leave, else the oldest.
fn make_room(tries: &mut HashMap<Key, Tries>, now: Moment) {
    if tries.len() < limits::ATTEMPTS.most {
        return;
    }
    tries.retain(|_, t| now.since(t.last) <= FORGOTTEN);
    if tries.len() >= limits::ATTEMPTS.most
        && let Some(oldest) = tries.iter().min_by_key(|(_, t)| t.last).map(|(k, _)| *k)
    {
        tries.remove(&oldest);
    }
}

/// Makes and knows the words that browsers keep of having signed in: (person, number, seal). They let nobody in.
#[derive(Clone)]
pub(crate) struct Browsers {
    key: [u8; 32],
}

impl Browsers {
    pub(crate) fn new(key: &[u8; 32]) -> Self {
        let mut hash = Sha256::new();
        hash.update(b"zastrugi browsers");
        hash.update(key);
        Browsers {
            key: hash.finalize().into(),
        }
    }

    /// Valid until the person's password changes.
    fn seal(&self, person: PersonId, number: &[u8], password: &str) -> Option<Hmac<Sha256>> {
        let mut mac = Hmac::<Sha256>::new_from_slice(&self.key).ok()?;
        mac.update(&person.0.to_be_bytes());
        mac.update(number);
        mac.update(password.as_bytes());
        Some(mac)
    }

    pub(crate) fn word(&self, person: PersonId, password: &str) -> String {
        let number: [u8; 16] = rand::random();
        let mut bytes = number.to_vec();
        if let Some(seal) = self.seal(person, &number, password) {
            bytes.extend(seal.finalize().into_bytes());
        }
        BASE64.encode(bytes)
    }

    /// The number of a browser whose word is right for this person.
    pub(crate) fn known(&self, word: &str, person: PersonId, password: &str) -> Option<[u8; 16]> {
        let bytes = BASE64.decode(word).ok().filter(|b| b.len() == 48)?;
        let (number, seal) = bytes.split_at(16);
        let right = self.seal(person, number, password)?;
        right.verify_slice(seal).ok()?;
        number.try_into().ok()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Tries as often as it is let for this long; how many that are.
    fn hammer(guard: &Guard, account: &str, source: &str, from: Moment, long: Span) -> u32 {
        let mut now = from;
        let mut count = 0;
        while now.since(from) < long {
            match guard.begin(account, source, None, now) {
                Ok(_) => count += 1,
                Err(wait) => now = now.plus(wait.max(Span(1))),
            }
        }
        count
    }

    #[test]
    fn guesses_are_slowed_by_pair_account_and_address_and_nobody_is_shut_out() {
        let minute = Span::mins(1);
        let pair = hammer(&Guard::default(), "ada", "a", Moment(0), minute);
        assert!((8..=12).contains(&pair), "{pair}");
        let later = Guard::default();
        hammer(&later, "ada", "a", Moment(0), minute);
        let steady = hammer(&later, "ada", "a", Moment(60_000), minute);
        assert!((6..=7).contains(&steady), "{steady} a minute go on");

        let many = Guard::default();
        let mut by_account = 0;
        for source in 0..500 {
            let source = source.to_string();
            by_account += u32::from(many.begin("ada", &source, None, Moment(0)).is_ok());
        }
        assert_eq!(by_account, 20, "from 500 addresses at once");
        let spray = Guard::default();
        let mut by_source = 0;
        for account in 0..500 {
            let account = account.to_string();
            by_source += u32::from(spray.begin(&account, "a", None, Moment(0)).is_ok());
        }
        assert_eq!(by_source, 30, "500 accounts at once");
    }

    #[test]
    fn many_at_once_count_as_many() {
        let guard = Guard::default();
        let began = (0..100).filter(|_| guard.begin("ada", "a", None, Moment(5)).is_ok());
        assert_eq!(began.count(), 3);
    }

    #[test]
    fn a_right_one_begins_anew_and_a_known_browser_is_by_itself() {
        let guard = Guard::default();
        let one = |now| guard.begin("Ada", "a", None, Moment(now));
        drop((one(0), one(0)));
        let third = one(0).unwrap();
        assert_eq!(third.times, 3);
        assert!(one(1).is_err());
        assert!(guard.begin("ada", "a", Some([7; 16]), Moment(1)).is_ok());
        guard.right(&third);
        assert_eq!(one(1).unwrap().times, 1);
    }

    #[test]
    fn what_is_kept_is_bounded_and_ends() {
        let guard = Guard::default();
        for n in 0..30_000 {
            let source = n.to_string();
            drop(guard.begin("ada", &source, None, Moment(n * 6000)));
        }
        assert!(guard.len() <= limits::ATTEMPTS.most, "{}", guard.len());
        let much_later = Moment(30_000 * 6000).plus(FORGOTTEN).plus(Span::secs(1));
        assert_eq!(guard.begin("ada", "0", None, much_later).unwrap().times, 1);
    }

    #[test]
    fn a_browsers_word_counts_for_its_person_until_the_password_changes() {
        let browsers = Browsers::new(&[1; 32]);
        let word = browsers.word(PersonId(7), "hash");
        assert!(browsers.known(&word, PersonId(7), "hash").is_some());
        assert_eq!(browsers.known(&word, PersonId(8), "hash"), None);
        assert_eq!(browsers.known(&word, PersonId(7), "other"), None);
        assert_eq!(
            Browsers::new(&[2; 32]).known(&word, PersonId(7), "hash"),
            None
        );
        for bad in ["", "zz", &"é".repeat(48), &word.replace(&word[..2], "zz")] {
            assert_eq!(browsers.known(bad, PersonId(7), "hash"), None);
        }
    }
}
