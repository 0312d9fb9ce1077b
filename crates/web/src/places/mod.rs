//! The places. Each has its routes, view structs and templates in one folder.

pub(crate) mod clusters;
pub(crate) mod door;
pub(crate) mod field;
pub(crate) mod first_boot;
pub(crate) mod hosts;
pub(crate) mod logbook;
pub(crate) mod machines;
pub(crate) mod networks;
pub(crate) mod pools;
pub(crate) mod protect;
pub(crate) mod schedules;
pub(crate) mod settings;
pub(crate) mod standing;
pub(crate) mod storage;
pub(crate) mod templates;
pub(crate) mod weather;

use crate::frame::sheet::Sheet;
use rocket::Route;

/// Every sheet that a place offers.
pub(crate) fn sheets() -> impl Iterator<Item = &'static Sheet> {
    [
        clusters::SHEETS,
        first_boot::SHEETS,
        hosts::SHEETS,
        machines::SHEETS,
        networks::SHEETS,
        pools::SHEETS,
        protect::SHEETS,
        protect::PLAN_SHEETS,
        schedules::SHEETS,
        storage::SHEETS,
        templates::SHEETS,
    ]
    .into_iter()
    .flatten()
}

pub(crate) fn routes() -> Vec<Route> {
    [
        clusters::routes(),
        door::routes(),
        field::routes(),
        first_boot::routes(),
        hosts::routes(),
        logbook::routes(),
        machines::routes(),
        networks::routes(),
        pools::routes(),
        protect::routes(),
        schedules::routes(),
        settings::routes(),
        standing::routes(),
        storage::routes(),
        templates::routes(),
        weather::routes(),
    ]
    .concat()
}
