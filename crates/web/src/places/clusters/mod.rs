//! Clusters: making one, and its page.

mod headroom;
mod matrix;
pub(crate) mod new;
pub(crate) mod page;
pub(crate) mod rule;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("new-cluster", Act::Clusters, "hosts", new::fill).prepared(new::prepare),
    Sheet::new("edit-cluster", Act::Clusters, "hosts", page::edit),
    Sheet::new("rule", Act::Clusters, "hosts", rule::fill),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![page::show, page::page_part, page::save]
}
