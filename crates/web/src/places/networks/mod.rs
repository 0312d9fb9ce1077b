//! Networks: hosts and networks as a matrix, one network with its addresses, switches, and the sheets.

pub(crate) mod change;
pub(crate) mod connect_switch;
mod flows;
pub(crate) mod fronts;
mod list;
mod matrix;
pub(crate) mod new;
mod page;
mod tried;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new(
        "connect-switch",
        Act::Storage,
        "networks",
        connect_switch::fill,
    )
    .prepared(connect_switch::prepare),
    Sheet::new(
        "connect-balancer",
        Act::Storage,
        "networks",
        fronts::balancer::connect,
    )
    .prepared(fronts::balancer::prepare),
    Sheet::new(
        "forget-balancer",
        Act::Storage,
        "networks",
        fronts::balancer::forget,
    ),
    Sheet::new("front", Act::Storage, "networks", fronts::sheet::fill)
        .prepared(fronts::sheet::prepare),
    Sheet::new(
        "remove-front",
        Act::Storage,
        "networks",
        fronts::sheet::remove,
    ),
    Sheet::new("new-network", Act::Storage, "networks", new::fill),
    Sheet::new("heal-network", Act::Storage, "networks", change::heal),
    Sheet::new("edit-network", Act::Storage, "networks", change::edit).merging(),
    Sheet::new("change-network", Act::Storage, "networks", new::change),
    Sheet::new("remove-network", Act::Storage, "networks", change::remove),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list::show,
        list::list_part,
        flows::show,
        flows::flows_part,
        flows::csv,
        flows::text,
        fronts::page::show,
        fronts::page::page_part,
        page::show,
        page::page_part,
        page::csv,
        page::try_it
    ]
}
