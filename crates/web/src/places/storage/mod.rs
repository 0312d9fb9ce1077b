//! Storage: arrays and filers, the volumes that hosts mount, the paths between them, and the sheets that change them.

mod array;
pub(crate) mod change;
pub(crate) mod connect_array;
pub(crate) mod connect_volume;
mod copies;
mod file;
mod image;
pub(crate) mod image_sheets;
pub(crate) mod keep_array;
mod list;
mod paths;
pub(crate) mod qualities;
pub(crate) mod records;
pub(crate) mod spare;
mod volume;

pub(crate) use connect_volume::{options, source};

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;
use zastrugi_core::{estate::Volume, units::Bytes, view::View};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new(
        "connect-array",
        Act::Storage,
        "storage",
        connect_array::fill,
    )
    .prepared(connect_array::prepare),
    Sheet::new(
        "connect-volume",
        Act::Storage,
        "storage",
        connect_volume::fill,
    )
    .prepared(connect_volume::prepare),
    Sheet::new("set-back", Act::Storage, "storage", keep_array::set_back),
    Sheet::new("array-access", Act::Storage, "storage", keep_array::access)
        .prepared(keep_array::greet),
    Sheet::new("remove-array", Act::Storage, "storage", keep_array::remove),
    Sheet::new(
        "withdraw-reach",
        Act::Storage,
        "storage",
        keep_array::withdraw,
    ),
    Sheet::new("delete-lun", Act::Storage, "storage", keep_array::delete)
        .prepared(keep_array::look),
    Sheet::new("heal-volume", Act::Storage, "storage", change::heal),
    Sheet::new("extend-volume", Act::Storage, "storage", change::extend),
    Sheet::new("lend-disks", Act::Storage, "storage", change::lend),
    Sheet::new("go-on-without", Act::Storage, "storage", change::go_on),
    Sheet::new("qualities", Act::Storage, "storage", qualities::fill).merging(),
    Sheet::new("edit-volume", Act::Storage, "storage", change::edit).merging(),
    Sheet::new("give-volume", Act::Storage, "storage", change::give),
    Sheet::new("spare-disks", Act::Machines, "storage", spare::fill),
    Sheet::new(
        "register-records",
        Act::Machines,
        "storage",
        records::register,
    ),
    Sheet::new("forget-records", Act::Machines, "storage", records::forget),
    Sheet::new("add-image", Act::Images, "storage", image_sheets::add).leading(image_sheets::after),
    Sheet::new("edit-image", Act::Storage, "storage", image_sheets::edit).merging(),
    Sheet::new(
        "remove-image",
        Act::Storage,
        "storage",
        image_sheets::remove,
    ),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list::show,
        list::list_part,
        volume::show,
        volume::page_part,
        array::show,
        array::page_part,
        file::fetch,
        image::show,
        image::page_part,
        image::received,
        image::take
    ]
}

/// `part` of `whole` as a width from 0 to 100.
fn width(part: Bytes, whole: Bytes) -> u64 {
    let hundredths = (u128::from(part.0) * 100).checked_div(u128::from(whole.0).max(1));
    u64::try_from(hundredths.unwrap_or(0))
        .unwrap_or(100)
        .min(100)
}

fn hosts(n: usize, one: &str, many: &str) -> String {
    if n == 1 {
        format!("1 host {one}")
    } else {
        format!("{n} hosts {many}")
    }
}

/// A volume's glyph and word: whether every host that shall mount it does, by all paths.
fn state(view: &View, volume: &Volume) -> (&'static str, String) {
    if !volume.ready {
        return ("busy", "being connected".into());
    }
    let hosts_of = volume.hosts(&view.estate);
    if !hosts_of.iter().any(|h| h.reports()) {
        let word = if hosts_of.is_empty() {
            "mounted by no host"
        } else {
            "none of its hosts answers"
        };
        return ("unknown", word.into());
    }
    let trouble = copies::state(volume);
    if let Some(down) = trouble.clone().filter(|t| t.0 == "down") {
        return down;
    }
    let drift = volume.drift(&view.estate);
    let missing = drift.iter().filter(|d| d.misses()).count();
    if missing > 0 {
        return ("down", hosts(missing, "misses it", "miss it"));
    }
    if !drift.is_empty() {
        return ("mind", hosts(drift.len(), "lacks paths", "lack paths"));
    }
    if volume.used.0 >= volume.capacity.0 {
        return ("down", "full".into());
    }
    if let Some(trouble) = trouble {
        return trouble;
    }
    if width(volume.free(), volume.capacity) < 15 {
        return ("mind", "filling up".into());
    }
    ("steady", "steady".into())
}
