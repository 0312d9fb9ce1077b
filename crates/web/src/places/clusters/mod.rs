//! Clusters: making one, and its page.

mod headroom;
pub(crate) mod new;
pub(crate) mod page;
pub(crate) mod rule;

use rocket::{Route, routes};

pub(crate) fn routes() -> Vec<Route> {
    routes![page::show, page::page_part, page::save]
}
