//! Protect: what machines are promised, whether it holds, and what that rests on.

pub(crate) mod back_up;
mod clauses;
mod files;
mod give;
pub(crate) mod jobs;
mod keep;
mod keep_job;
mod line;
mod list;
mod machine;
mod make_store;
mod pair_sheets;
mod pairs;
mod plans;
mod pledge;
mod pledge_file;
mod point;
pub(crate) mod prove;
mod replica;
mod replica_point;
pub(crate) mod restore;
mod series;
mod stores;
mod typed;
mod week;

pub(crate) use clauses::key;
pub(crate) use list::at_site;
pub(crate) use plans::{SHEETS as PLAN_SHEETS, aside};
pub(crate) use replica::ReplicaOf;

use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::{estate::Estate, permits::Act, pledges::Standing, runs::Object, view::View};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("pledge", Act::Machines, "protect", keep::fill).merging(),
    Sheet::new("remove-pledge", Act::Machines, "protect", keep::remove),
    Sheet::new("make-store", Act::Storage, "protect", make_store::make)
        .prepared(make_store::prepare),
    Sheet::new("read-store", Act::Storage, "protect", make_store::read),
    Sheet::new("forget-store", Act::Storage, "protect", stores::forget),
    Sheet::new("pair", Act::Storage, "protect", pair_sheets::keep)
        .prepared(pair_sheets::prepare)
        .merging(),
    Sheet::new("remove-pair", Act::Storage, "protect", pair_sheets::remove),
    Sheet::new("start-replica", Act::Machines, "machines", replica::start),
    Sheet::new("free-replica", Act::Machines, "machines", replica::free),
    Sheet::new("back-up", Act::Machines, "machines", back_up::now)
        .prepared(crate::places::machines::layers),
    Sheet::new(
        "copy-snapshot",
        Act::Machines,
        "machines",
        back_up::snapshot,
    )
    .prepared(crate::places::machines::layers),
    Sheet::new("job", Act::Machines, "protect", keep_job::keep).merging(),
    Sheet::new("begin-job", Act::Machines, "protect", jobs::begin)
        .prepared(crate::places::machines::layers),
    Sheet::new("pause-job", Act::Machines, "protect", jobs::pause),
    Sheet::new("remove-job", Act::Machines, "protect", jobs::remove),
    Sheet::new("put-back", Act::Machines, "machines", restore::put_back).prepared(restore::prepare),
    Sheet::new("bring-disks", Act::Machines, "machines", restore::disks).prepared(restore::prepare),
    Sheet::new("let-go", Act::Purge, "protect", restore::let_go),
    Sheet::new("prove", Act::Machines, "protect", prove::point).prepared(prove::prepare),
    Sheet::new("must-answer", Act::Machines, "machines", prove::must),
    Sheet::new("ask-now", Act::Machines, "machines", prove::now),
    Sheet::new("give-pledge", Act::Machines, "machines", give::give),
    Sheet::new("except-disks", Act::Machines, "machines", give::except),
];

pub(crate) fn routes() -> Vec<Route> {
    let own = routes![
        list::show,
        list::list_part,
        pledge::show,
        pledge::page_part,
        pledge_file::save,
        pledge_file::schema,
        machine::show,
        machine::page_part,
        stores::show,
        stores::page_part,
        stores::take_out,
        series::show,
        series::page_part,
        point::show,
        point::page_part,
        point::has,
        files::show,
        files::list,
        files::take,
        replica_point::show,
        replica_point::page_part,
        jobs::show,
        jobs::page_part,
        pairs::show,
        pairs::page_part
    ];
    own.into_iter().chain(plans::routes()).collect()
}

/// The shape of a standing.
pub(crate) fn glyph_of(standing: Standing) -> &'static str {
    match standing {
        Standing::Kept => "steady",
        Standing::Unchecked => "unknown",
        Standing::AtRisk => "mind",
        Standing::Broken => "down",
    }
}

/// By which a standing is chosen in an address.
pub(crate) fn key_of(standing: Standing) -> &'static str {
    match standing {
        Standing::Kept => "kept",
        Standing::Unchecked => "unchecked",
        Standing::AtRisk => "risk",
        Standing::Broken => "broken",
    }
}

/// Pledges that can be given by hand, by name.
pub(crate) fn choices(view: &View) -> Vec<(u64, String)> {
    let pledges = view.estate.pledges.values();
    let mut all: Vec<(u64, String)> = pledges.map(|p| (p.id.0, p.name.clone())).collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    all
}

/// Where something that evidence names can be looked at.
fn place(estate: &Estate, of: Object) -> Option<(String, String)> {
    let to = match of {
        Object::Machine(id) => format!("/machines/{}", id.0),
        Object::Volume(id) => format!("/storage/volumes/{}", id.0),
        Object::Array(id) => format!("/storage/arrays/{}", id.0),
        Object::Schedule(_) => "/schedules".to_owned(),
        Object::Store(id) => format!("/protect/stores/{}", id.0),
        Object::Pair(id) => format!("/protect/pairs/{}", id.0),
        _ => return None,
    };
    Some((of.name(estate), to))
}
