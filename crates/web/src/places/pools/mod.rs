//! Pools of machines that are kept ready: a list, a page with who has what, and the sheets that change them, hand machines out and
//! take them back.

mod hand;
mod keep;
mod list;
mod page;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::{
    estate::{Estate, SparePool},
    permits::Act,
    spares::{Stand, newest},
};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("pool", Act::Machines, "machines", keep::fill),
    Sheet::new("end-pool", Act::Machines, "machines", keep::end),
    Sheet::new("hand-out", Act::Machines, "machines", hand::out),
    Sheet::new("give-back", Act::Machines, "machines", hand::back),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![list::show, list::list_part, page::show, page::page_part]
}

/// Its glyph and word.
fn state(estate: &Estate, pool: &SparePool, stand: &Stand) -> (&'static str, String) {
    let ready = stand.ready.len();
    let wanted = usize::try_from(pool.spare).unwrap_or(usize::MAX);
    match (ready, stand.coming.len()) {
        _ if newest(estate, pool).is_none() => ("mind", "its template has no version yet".into()),
        (r, _) if r >= wanted && stand.stale.is_empty() => ("steady", format!("{r} ready")),
        (r, _) if r >= wanted => (
            "busy",
            format!("{r} ready, {} of an older version", stand.stale.len()),
        ),
        (r, 0) => ("mind", format!("{r} of {wanted} ready")),
        (r, n) => ("busy", format!("{r} of {wanted} ready, {n} on their way")),
    }
}
