//! Snapshots that are taken by a schedule: the list, and the sheets that keep, pause and remove one.

mod keep;
mod list;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("schedule", Act::Machines, "machines", keep::fill),
    Sheet::new("pause-schedule", Act::Machines, "machines", keep::pause),
    Sheet::new("remove-schedule", Act::Machines, "machines", keep::remove),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![list::show, list::list_part]
}
