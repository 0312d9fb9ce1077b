//! Sessions at a manager that stands by: its database takes none, so they are kept in memory, by the same limits.

use super::Viewer;
use std::{
    collections::HashMap,
    sync::{Mutex, MutexGuard, PoisonError},
    time::Duration,
};
use tokio::time::Instant;
use zastrugi_core::{ids::PersonId, limits};
use zastrugi_store::{People, StoreError};

struct Seat {
    person: PersonId,
    csrf: String,
    opened: Instant,
    used: Instant,
}

#[derive(Default)]
pub(crate) struct Seats(Mutex<HashMap<Vec<u8>, Seat>>);

const IDLE: Duration = Duration::from_mins(People::IDLE_MINUTES.unsigned_abs() as u64);
const LONGEST: Duration = Duration::from_hours(People::HOURS.unsigned_abs() as u64);

impl Seats {
    fn lock(&self) -> MutexGuard<'_, HashMap<Vec<u8>, Seat>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn open(&self, token: Vec<u8>, person: PersonId, csrf: String) {
        let now = Instant::now();
        let seat = Seat {
            person,
            csrf,
            opened: now,
            used: now,
        };
        let mut all = self.lock();
        all.retain(|_, s| good(s));
        let own = all.iter().filter(|(_, s)| s.person == person);
        let own = own.map(|(token, s)| (s.used, token.clone()));
        let mut own: Vec<_> = own.collect();
        own.sort_unstable();
        let over = (own.len() + 1).saturating_sub(limits::SESSIONS.most);
        for (_, token) in own.into_iter().take(over) {
            all.remove(&token);
        }
        all.insert(token, seat);
    }

    pub(super) fn close(&self, token: &[u8]) {
        self.lock().remove(token);
    }

    /// Those that are good still: (token, person, CSRF token).
    pub(super) fn all(&self) -> Vec<(Vec<u8>, PersonId, String)> {
        let all = self.lock();
        let good = all.iter().filter(|(_, s)| good(s));
        good.map(|(token, s)| (token.clone(), s.person, s.csrf.clone()))
            .collect()
    }

    /// Who sits there, by the database's word of now; at a stand-by everybody only looks. With CSRF token and theme.
    ///
    /// # Errors
    /// [`StoreError`] when the database does not answer.
    pub(super) async fn who(
        &self,
        people: &People,
        token: &[u8],
        extend: bool,
    ) -> Result<Option<(Viewer, String, String)>, StoreError> {
        let found = {
            let mut all = self.lock();
            all.get_mut(token).filter(|s| good(s)).map(|seat| {
                if extend {
                    seat.used = Instant::now();
                }
                (seat.person, seat.csrf.clone())
            })
        };
        let Some((person, csrf)) = found else {
            return Ok(None);
        };
        let person = people.active(person).await?;
        Ok(person.map(|p| {
            let viewer = Viewer {
                id: p.id,
                name: p.name,
                role: zastrugi_core::permits::Role::Viewer,
            };
            (viewer, csrf, p.theme)
        }))
    }
}

fn good(seat: &Seat) -> bool {
    seat.used.elapsed() < IDLE && seat.opened.elapsed() < LONGEST
}
