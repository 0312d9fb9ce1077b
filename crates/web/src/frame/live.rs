//! One stream a page: it says that there is a new revision or that loads changed; the page fetches its parts.

use super::{AtDesk, Signed};
use rocket::{
    Shutdown, State, get,
    response::stream::{Event, EventStream},
    tokio::{
        select,
        time::{Duration, interval, sleep},
    },
};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
};
use zastrugi_core::ids::PersonId;

/// Streams of one person at once.
const MOST: usize = 8;

#[derive(Default)]
pub(crate) struct Streams(Arc<Mutex<HashMap<PersonId, usize>>>);

/// Counts a stream while it lives.
struct Ticket(Arc<Mutex<HashMap<PersonId, usize>>>, PersonId);

impl Streams {
    fn open(&self, person: PersonId) -> Option<Ticket> {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let count = open.entry(person).or_insert(0);
        if *count >= MOST {
            return None;
        }
        *count += 1;
        drop(open);
        Some(Ticket(self.0.clone(), person))
    }
}

impl Drop for Ticket {
    fn drop(&mut self) {
        let mut open = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(count) = open.get_mut(&self.1) {
            *count = count.saturating_sub(1);
        }
    }
}

#[get("/live")]
pub(crate) fn live(
    signed: Signed,
    desk: &AtDesk,
    streams: &State<Streams>,
    mut end: Shutdown,
) -> EventStream![] {
    let desk = desk.inner().clone();
    let ticket = streams.open(signed.viewer.id);
    EventStream! {
        let Some(_ticket) = ticket else { return };
        let mut revisions = desk.revisions();
        let mut progress = desk.progresses();
        progress.mark_unchanged();
        let mut session = interval(Duration::from_secs(15));
        let mut loads = interval(Duration::from_secs(5));
        session.tick().await;
        loads.tick().await;
        let mut loads_at = desk.loads_at();
        let first = revisions.borrow_and_update().0;
        yield Event::data(first.to_string()).event("hello");
        loop {
            select! {
                changed = revisions.changed() => {
                    if changed.is_err() { return }
                    // What comes close together is told once.
                    sleep(Duration::from_millis(40)).await;
                    let revision = revisions.borrow_and_update().0;
                    yield Event::data(revision.to_string()).event("revision");
                }
                told = progress.changed() => {
                    if told.is_err() { return }
                    progress.mark_unchanged();
                    yield Event::data("new").event("progress");
                }
                _ = loads.tick() => {
                    if desk.loads_at() != loads_at {
                        loads_at = desk.loads_at();
                        yield Event::data("new").event("loads");
                    }
                }
                _ = session.tick() => {
                    if !matches!(desk.session(&signed.cookie, false).await, Ok(Some(_)) | Err(_)) {
                        yield Event::data("signed out").event("ended");
                        return;
                    }
                }
                () = &mut end => return,
            }
        }
    }
    .heartbeat(Duration::from_secs(15))
}
