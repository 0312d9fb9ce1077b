//! What happened to one thing lately, for its page.

use crate::frame::{AtDesk, time};
use zastrugi_engine::{EventFilter, StoreError};

pub(crate) struct Line {
    pub(crate) at: String,
    pub(crate) who: String,
    pub(crate) text: String,
}

const MOST: i64 = 12;

/// The newest events about `id`, such as `machine-7`.
pub(crate) async fn lately(desk: &AtDesk, id: &str) -> Result<Vec<Line>, StoreError> {
    let filter = EventFilter {
        about: id.to_owned(),
        ..EventFilter::default()
    };
    let events = desk.events(&filter, MOST).await?;
    Ok(events
        .into_iter()
        .map(|e| Line {
            at: time(e.at),
            who: e.who,
            text: e.text,
        })
        .collect())
}
