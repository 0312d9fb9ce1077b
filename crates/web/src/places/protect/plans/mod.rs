//! Recovery plans: a table of them, one with how it would go now, the sheets that keep, drill and answer one, and reports of how it went.

mod answer;
mod drill;
mod failover;
mod file;
mod keep;
mod lanes;
mod list;
mod page;
mod passage;
mod report;
mod shift;

pub(crate) use failover::aside;
pub(super) use list::{PlanRow, left, rows};

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;

pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("plan", Act::Plans, "protect", keep::fill)
        .looking(keep::look)
        .merging(),
    Sheet::new("remove-plan", Act::Plans, "protect", keep::remove),
    Sheet::new("drill", Act::Machines, "protect", drill::fill),
    Sheet::new("move-plan", Act::Machines, "protect", shift::fill)
        .prepared(shift::prepare)
        .leading(shift::after),
    Sheet::new("failover", Act::Machines, "protect", failover::fill).leading(shift::after),
    Sheet::new("take-up", Act::Machines, "protect", failover::take_up),
    Sheet::new("turn-plan", Act::Plans, "protect", shift::turn),
    Sheet::new("answer-plan", Act::Machines, "protect", answer::fill).leading(answer::after),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        page::show,
        page::page_part,
        file::save,
        file::schema,
        passage::show,
        passage::page_part,
        report::csv,
    ]
}
