//! A reset is a blunt call: it has no key, and a repetition may be another deed. Here is what was told to whom, so that each step
//! tells once, and nothing contrary is told while nobody knows whether the last was done.

use super::Switch;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

/// So long after a call without an answer nothing contrary is told.
const SETTLES: Duration = Duration::from_secs(30);

/// One that did not answer and has not done it within so long is told again.
const HEARS: Duration = Duration::from_secs(15);

#[derive(Debug, Clone)]
struct Told {
    key: String,
    switch: Switch,
    at: Instant,
    answered: bool,
}

/// Whether a step may tell a controller something now.
#[derive(Debug, PartialEq, Eq)]
pub(crate) enum Telling {
    Now,
    /// This step has told it already; what came of it is read.
    Already,
    /// Somebody told it the contrary, and nobody knows yet what became of that.
    Wait,
}

/// By the controller's address. A process that starts anew knows nothing: then what is read decides.
#[derive(Debug, Clone, Default)]
pub(crate) struct Resets(Arc<Mutex<HashMap<String, Told>>>);

impl Resets {
    /// Notes that it is told now, if it may be.
    pub(crate) fn begin(&self, address: &str, switch: Switch, key: &str) -> Telling {
        self.begin_at(address, switch, key, Instant::now())
    }
    fn begin_at(&self, address: &str, switch: Switch, key: &str, now: Instant) -> Telling {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(told) = all.get(address) {
            let ago = now.saturating_duration_since(told.at);
            // One that never answered and whose host has not done it may not have heard it.
            let deaf = !told.answered && ago > HEARS;
            if told.key == key && told.switch == switch && !deaf {
                return Telling::Already;
            }
            if told.switch != switch && !told.answered && ago < SETTLES {
                return Telling::Wait;
            }
        }
        let told = Told {
            key: key.to_owned(),
            switch,
            at: now,
            answered: false,
        };
        all.insert(address.to_owned(), told);
        Telling::Now
    }
    /// What it answered: a yes or a no are known; a no may be asked again.
    pub(crate) fn answered(&self, address: &str, yes: bool) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if yes {
            all.entry(address.to_owned())
                .and_modify(|t| t.answered = true);
        } else {
            all.remove(address);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a host is switched off twice by one step, or on while it is being switched off.
    #[test]
    fn a_step_tells_once_and_nothing_contrary_is_told_into_the_unknown() {
        let resets = Resets::default();
        assert_eq!(resets.begin("a", Switch::Off, "k1"), Telling::Now);
        assert_eq!(resets.begin("a", Switch::Off, "k1"), Telling::Already);
        assert_eq!(
            resets.begin("a", Switch::On, "k2"),
            Telling::Wait,
            "nobody knows yet"
        );
        assert_eq!(
            resets.begin("b", Switch::On, "k2"),
            Telling::Now,
            "another host's"
        );
        resets.answered("a", true);
        assert_eq!(resets.begin("a", Switch::On, "k2"), Telling::Now);
        resets.answered("a", false);
        assert_eq!(
            resets.begin("a", Switch::On, "k2"),
            Telling::Now,
            "a no is no deed"
        );
    }

    /// If this fails, a host whose controller never heard the order stays as it is until somebody looks.
    #[test]
    fn who_never_answered_is_told_again_and_who_did_is_not() {
        let (resets, began) = (Resets::default(), Instant::now());
        let at =
            |seconds| resets.begin_at("a", Switch::On, "k", began + Duration::from_secs(seconds));
        assert_eq!(at(0), Telling::Now);
        assert_eq!(at(10), Telling::Already);
        assert_eq!(at(16), Telling::Now);
        assert_eq!(at(20), Telling::Already, "counted from the second time");
        resets.answered("a", true);
        assert_eq!(at(90), Telling::Already);
    }
}
