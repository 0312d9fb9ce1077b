//! Networks: hosts and networks as a matrix, one network with its addresses, switches, and the sheets.

pub(crate) mod change;
pub(crate) mod connect_switch;
mod list;
mod matrix;
pub(crate) mod new;
mod page;

use rocket::{Route, routes};

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list::show,
        list::list_part,
        page::show,
        page::page_part,
        page::csv,
        page::try_mtu
    ]
}
