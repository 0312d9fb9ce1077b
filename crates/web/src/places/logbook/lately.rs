//! What happened to one thing lately, for its page.

use crate::frame::{AtDesk, time};
use zastrugi_engine::{EventFilter, StoreError};

pub(crate) struct Line {
    pub(crate) at: String,
    pub(crate) who: String,
    pub(crate) text: String,
    pub(crate) picture: Option<String>,
    /// The run that it came of.
    pub(crate) run: Option<u64>,
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
            picture: super::events::picture(&e.about),
            run: e.run.map(|r| r.0),
            text: e.text,
        })
        .collect())
}
