//! New machines on a volume that is made for them: in which pools there can be one, and what it is called.

use super::new::{size, volumes};
use crate::frame::{Fields, consequences::Wrong};
use zastrugi_core::{
    ids::{ArrayId, ClusterId},
    rooms::{
        Proposal,
        machines::{self, CreateMachines},
        providing::{self, Provide},
    },
    text::Line,
    units::Bytes,
    view::View,
};

/// What the choice of a new volume begins with; array and pool follow.
const NEW: &str = "new.";

/// The volumes of a cluster, and pools of arrays at its site in which one can be made.
pub(super) fn places(view: &View, cluster: Option<ClusterId>) -> Vec<(String, String)> {
    let there = volumes(view, cluster).into_iter();
    let mut all: Vec<(String, String)> = there.map(|(id, words)| (id.to_string(), words)).collect();
    let site = cluster
        .and_then(|c| view.estate.clusters.get(&c))
        .map(|c| c.site);
    let arrays = view.estate.arrays.values();
    for array in arrays.filter(|a| Some(a.site) == site && a.answers()) {
        all.extend(array.pools.iter().map(|pool| {
            let words = format!(
                "a new one in pool {} of {} · {} free",
                pool.name,
                array.name,
                pool.free()
            );
            (format!("{NEW}{}.{}", array.id.0, pool.name), words)
        }));
    }
    all
}

/// A new volume, as it was chosen.
pub(super) struct Provided {
    array: Option<ArrayId>,
    pool: Line,
    name: String,
    size: Bytes,
    /// The size as it was typed.
    typed: String,
}

impl Provided {
    /// None: the disks go to one that is there.
    pub(super) fn of(
        fields: &Fields,
        machines: &CreateMachines,
        wrong: &mut Vec<Wrong>,
    ) -> Option<Provided> {
        let (array, pool) = fields.get("volume").strip_prefix(NEW)?.split_once('.')?;
        // Called like what lies on it, unless somebody says otherwise.
        let stem: String = machines.pattern.chars().take_while(|c| *c != '{').collect();
        let stem = stem.trim_matches('-');
        let usual = if stem.is_empty() { "machines" } else { stem };
        let room = providing::usual(machines);
        Some(Provided {
            array: array.parse().ok().map(ArrayId),
            pool: pool.into(),
            name: fields.or("volume_name", &format!("{usual}-volume")),
            size: size(fields, "volume_size", room, wrong),
            typed: fields.or("volume_size", &room.to_string().replace('\u{a0}', " ")),
        })
    }

    /// Its name and its size.
    pub(super) fn shown(&self) -> (String, String) {
        (self.name.clone(), self.typed.clone())
    }
}

/// The machines, on a new volume where that was chosen.
pub(super) fn proposal(provided: Option<Provided>, machines: CreateMachines) -> Proposal {
    let machines = Box::new(machines);
    let Some(new) = provided else {
        return Proposal::Machines(machines::Ask::Create(machines));
    };
    Proposal::Providing(providing::Ask::Provide(Box::new(Provide {
        machines: *machines,
        array: new.array,
        pool: new.pool,
        name: new.name.as_str().into(),
        size: new.size,
    })))
}
