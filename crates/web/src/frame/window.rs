//! A long list is shown a window at a time.

use super::Query;
use askama::Template;
use std::ops::Range;

/// Rows of one window.
const ROWS: usize = 100;

/// Which rows are shown, with the ways to those before and behind.
#[derive(Template)]
#[template(path = "frame/window.html")]
pub(crate) struct Window {
    from: usize,
    to: usize,
    total: usize,
    before: Option<String>,
    after: Option<String>,
}

impl Window {
    /// There are others before or behind.
    pub(crate) fn is_long(&self) -> bool {
        self.before.is_some() || self.after.is_some()
    }

    /// The window that the query asks for of a list of so many rows at `path`, and which rows that are.
    pub(crate) fn of(path: &str, query: &Query, total: usize) -> (Window, Range<usize>) {
        let asked = query.0.get("from").parse::<usize>().unwrap_or(0);
        let from = asked.min(total.saturating_sub(1)) / ROWS * ROWS;
        let to = (from + ROWS).min(total);
        let at = |from: usize| format!("{path}?{}", query.0.with("from", &from.to_string()));
        let window = Window {
            from: from + usize::from(total > 0),
            to,
            total,
            before: (from > 0).then(|| at(from - ROWS)),
            after: (to < total).then(|| at(to)),
        };
        (window, from..to)
    }
}
