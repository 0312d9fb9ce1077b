//! Clusters: making one, and its page.

mod build;
mod free_hosts;
mod headroom;
pub(crate) mod join;
pub(crate) mod keepers;
mod kind;
mod matrix;
mod naming;
pub(crate) mod new;
pub(crate) mod page;
pub(crate) mod rule;
mod takeover;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("new-cluster", Act::Clusters, "hosts", new::fill).prepared(free_hosts::prepare),
    Sheet::new("build", Act::Clusters, "hosts", build::fill)
        .prepared(build::prepare)
        .looking(build::look),
    Sheet::new("take-over", Act::Clusters, "hosts", takeover::fill)
        .prepared(takeover::prepare)
        .looking(takeover::look),
    Sheet::new("join-cluster", Act::Clusters, "hosts", join::fill).prepared(free_hosts::prepare),
    Sheet::new("edit-cluster", Act::Clusters, "hosts", page::edit).merging(),
    Sheet::new("keepers", Act::Clusters, "hosts", keepers::fill),
    Sheet::new("names", Act::Clusters, "hosts", naming::fill).prepared(naming::prepare),
    Sheet::new("rule", Act::Clusters, "hosts", rule::fill).merging(),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        page::show,
        page::page_part,
        page::save,
        build::file::save,
        build::file::schema
    ]
}
