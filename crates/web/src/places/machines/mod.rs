//! Machines: a list that stays quick at 20,000, one machine's page, and the sheets that change them.

mod console_lock;
mod copies;
mod deeds;
pub(crate) mod edit;
mod firmware;
mod growing;
mod hardware;
pub(crate) mod lifecycle;
mod list;
pub(crate) mod moving;
pub(crate) mod new;
mod package;
mod packages;
mod page;
mod point;
pub(crate) mod power;
mod provided;
mod recover;
pub(super) mod sharing;
mod snapshots;

pub(super) use new::volumes;
pub(super) use sharing::{Row as Shared, on_volume as shared_on};
pub(crate) use snapshots::prepare as layers;

use crate::frame::Fields;
use crate::frame::sheet::Sheet;
use rocket::{Route, routes};
use zastrugi_core::permits::Act;
use zastrugi_core::{
    ids::{ClusterId, MachineId, VolumeId},
    placement::Ledger,
    view::View,
};

/// What can be changed from here.
pub(crate) const SHEETS: &[Sheet] = &[
    Sheet::new("new-machines", Act::Machines, "machines", new::fill).prepared(new::prepare),
    Sheet::new("edit-machines", Act::Machines, "machines", edit::fill).merging(),
    Sheet::new("hardware", Act::Machines, "machines", hardware::change),
    Sheet::new("attach-disk", Act::Machines, "storage", hardware::attach),
    Sheet::new("move", Act::Machines, "machines", moving::fill),
    Sheet::new("move-and-grow", Act::Machines, "machines", growing::fill),
    Sheet::new("power", Act::Machines, "machines", power::fill),
    Sheet::new("delete", Act::Machines, "machines", lifecycle::delete),
    Sheet::new("recover", Act::Machines, "machines", recover::fill),
    Sheet::new("purge", Act::Purge, "machines", lifecycle::purge),
    Sheet::new("withdraw", Act::Machines, "machines", lifecycle::withdraw),
    Sheet::new("snapshot", Act::Machines, "machines", snapshots::take),
    Sheet::new("go-back", Act::Machines, "machines", snapshots::back).prepared(snapshots::prepare),
    Sheet::new(
        "delete-snapshots",
        Act::Machines,
        "machines",
        snapshots::forget,
    )
    .prepared(snapshots::prepare),
    Sheet::new("pack", Act::Machines, "machines", packages::pack::fill).prepared(layers),
    Sheet::new(
        "write-disk",
        Act::Machines,
        "machines",
        packages::write::fill,
    ),
    Sheet::new(
        "console-password",
        Act::Machines,
        "machines",
        console_lock::fill,
    )
    .hashing(),
    Sheet::new(
        "bring-disk",
        Act::Machines,
        "machines",
        packages::bring::fill,
    ),
    Sheet::new("share-disk", Act::Machines, "machines", sharing::share),
    Sheet::new("shared-nodes", Act::Machines, "storage", sharing::change),
    Sheet::new("end-shared", Act::Machines, "storage", sharing::end),
    Sheet::new("keep-snapshot", Act::Machines, "machines", snapshots::keep),
];

pub(crate) fn routes() -> Vec<Route> {
    routes![
        list::show,
        list::list_part,
        page::show,
        page::page_part,
        snapshots::tree_part,
        sharing::page::show,
        sharing::page::page_part
    ]
}

/// The machines that a sheet is about, as their numbers and names.
pub(crate) fn chosen(view: &View, fields: &Fields) -> (Vec<MachineId>, Vec<(u64, String)>) {
    let ids: Vec<MachineId> = fields.ids("ids");
    let named = ids
        .iter()
        .map(|id| {
            (
                id.0,
                view.estate
                    .machines
                    .get(id)
                    .map_or_else(|| id.to_string(), |m| m.name.clone()),
            )
        })
        .collect();
    (ids, named)
}

/// `payroll`, or `4 machines`.
pub(crate) fn what(named: &[(u64, String)]) -> String {
    match named {
        [(_, one)] => one.clone(),
        many => format!("{} machines", many.len()),
    }
}

/// Where a sheet leads back to.
pub(crate) fn back(named: &[(u64, String)]) -> String {
    match named {
        [(id, _)] => format!("/machines/{id}"),
        _ => "/machines".into(),
    }
}

/// The whole images that machines of a cluster can have in their drives.
fn images(view: &View, cluster: Option<ClusterId>) -> Vec<(u64, String)> {
    let estate = &view.estate;
    let near = |v: VolumeId| {
        let volume = estate.volumes.get(&v);
        cluster.is_some() && volume.is_some_and(|v| v.cluster == cluster)
    };
    let mut all: Vec<_> = estate
        .images
        .values()
        .filter(|i| i.ready && i.holds.is_installer() && near(i.volume))
        .map(|i| (i.id.0, i.name.clone()))
        .collect();
    all.sort_by(|a, b| a.1.cmp(&b.1));
    all
}

/// The hosts of the cluster with what is free on each, for those who choose by hand.
fn hosts(view: &View, cluster: Option<ClusterId>) -> Vec<(u64, String)> {
    let Some(cluster) = cluster else {
        return vec![];
    };
    let hosts: Vec<_> = view.estate.hosts_in(cluster).cloned().collect();
    let ledger = Ledger::of(view, hosts, &Default::default());
    let mut named: Vec<_> = ledger
        .rows()
        .map(|row| {
            (
                row.host.id.0,
                format!("{} · {} free", row.host.name, row.free()),
            )
        })
        .collect();
    named.sort_by(|a, b| a.1.cmp(&b.1));
    named
}
