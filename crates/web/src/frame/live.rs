//! One stream a browser: it says that there is a new revision or that loads changed; the page fetches its parts.

use super::{AtDesk, Signed, seats::Seats};
use rocket::{
    Shutdown, State, get,
    response::stream::{Event, EventStream},
    serde::json::Json,
    tokio::{
        select,
        time::{Duration, interval, sleep},
    },
};
use serde_json::{Value, json};
use zastrugi_core::limits;

pub(crate) struct Streams(Seats);

impl Default for Streams {
    fn default() -> Self {
        Streams(Seats::of(limits::STREAMS))
    }
}

/// For browsers that can't share a stream: where things are now.
#[get("/live/now")]
pub(crate) fn now(_signed: Signed, desk: &AtDesk) -> Json<Value> {
    let revision = desk.look().estate.revision.0.to_string();
    Json(json!({ "revision": revision }))
}

#[get("/live")]
pub(crate) fn live(
    signed: Signed,
    desk: &AtDesk,
    streams: &State<Streams>,
    mut end: Shutdown,
) -> EventStream![] {
    let desk = desk.inner().clone();
    let seat = streams.0.take(signed.viewer.id);
    EventStream! {
        let Some(_seat) = seat else { return };
        let mut revisions = desk.revisions();
        let mut progress = desk.progresses();
        progress.mark_unchanged();
        let mut session = interval(Duration::from_secs(15));
        let mut loads = interval(Duration::from_secs(5));
        session.tick().await;
        loads.tick().await;
        let mut well = (desk.health().database, desk.health().writes);
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
                    let now = (desk.health().database, desk.health().writes);
                    if now != well {
                        // There is no revision of it: the pages look again.
                        well = now;
                        let revision = revisions.borrow().0;
                        yield Event::data(revision.to_string()).event("revision");
                    }
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
    // Who is gone is only noticed by sending: until then the seat is taken.
    .heartbeat(Duration::from_secs(3))
}
