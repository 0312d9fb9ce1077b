//! How much one person may have open at once; nobody else's count.

use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::{ids::PersonId, limits::Limit};

pub(crate) struct Seats {
    most: usize,
    taken: Arc<Mutex<HashMap<PersonId, usize>>>,
}

/// One of them, while it lives.
pub(crate) struct Seat {
    taken: Arc<Mutex<HashMap<PersonId, usize>>>,
    person: PersonId,
}

impl Seats {
    pub(crate) fn of(limit: Limit) -> Self {
        Seats {
            most: limit.most,
            taken: Arc::default(),
        }
    }
    /// None when this person has as many as there may be.
    pub(crate) fn take(&self, person: PersonId) -> Option<Seat> {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        let count = taken.entry(person).or_insert(0);
        if *count >= self.most {
            return None;
        }
        *count += 1;
        drop(taken);
        Some(Seat {
            taken: self.taken.clone(),
            person,
        })
    }
}

impl Drop for Seat {
    fn drop(&mut self) {
        let mut taken = self.taken.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = taken.get_mut(&self.person) {
            *count -= 1;
            if *count == 0 {
                taken.remove(&self.person);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::limits;

    #[test]
    fn one_person_takes_nobody_elses_seat_and_gives_theirs_back() {
        let seats = Seats::of(limits::STREAMS);
        let mine: Vec<_> = (0..100).map_while(|_| seats.take(PersonId(1))).collect();
        assert_eq!(mine.len(), limits::STREAMS.most);
        assert!(seats.take(PersonId(2)).is_some());
        drop(mine);
        assert!(seats.take(PersonId(1)).is_some());
    }
}
