//! The sheets that give a pledge by hand, and that take disks out of what is promised.

use super::choices;
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use uuid::Uuid;
use zastrugi_core::{
    estate::Disk,
    ids::{MachineId, PledgeId},
    rooms::{Proposal, pledges::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/protect/give.html")]
struct GiveFields {
    machines: Vec<(u64, String)>,
    pledge: u64,
    pledges: Vec<(u64, String)>,
    given: bool,
}

fn named(view: &View, ids: &[MachineId]) -> Vec<(u64, String)> {
    let found = ids.iter().filter_map(|id| view.estate.machines.get(id));
    found.map(|m| (m.id.0, m.name.clone())).collect()
}

fn back(ids: &[MachineId]) -> String {
    match ids {
        [one] => format!("/protect/machines/{}", one.0),
        _ => "/machines".into(),
    }
}

pub(crate) fn give(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<MachineId> = fields.ids("ids");
    let pledges = choices(view);
    let first = pledges.first().map_or(0, |(id, _)| *id);
    let pledge = fields.or("pledge", &first.to_string()).parse().unwrap_or(0);
    let given = fields.or("given", "yes") == "yes";
    Filled {
        title: if given {
            "Give a pledge by hand"
        } else {
            "Take a pledge away"
        }
        .into(),
        lead: "Beside what their labels give them.".into(),
        run: if given {
            "Run: give it"
        } else {
            "Run: take it away"
        }
        .into(),
        danger: !given,
        back: back(&ids),
        fields: render(&GiveFields {
            machines: named(view, &ids),
            pledge,
            pledges,
            given,
        }),
        ask: Proposal::Pledges(Ask::Give {
            pledge: PledgeId(pledge),
            machines: ids,
            given,
        }),
        wrong: vec![],
    }
}

struct DiskField {
    key: String,
    words: String,
    out: bool,
}

#[derive(Template)]
#[template(path = "places/protect/except.html")]
struct ExceptFields {
    machines: Vec<(u64, String)>,
    disks: Vec<DiskField>,
}

pub(crate) fn except(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<MachineId> = fields.ids("ids");
    let machine = ids.first().and_then(|id| view.estate.machines.get(id));
    let chosen: BTreeSet<Uuid> =
        match (fields.has("sent"), machine.and_then(|m| m.pledged.as_ref())) {
            (true, _) | (false, None) => fields.ids("disks").into_iter().collect(),
            (false, Some(pledged)) => pledged.except.clone(),
        };
    let words = |n: usize, d: &Disk| {
        let on = view
            .estate
            .volumes
            .get(&d.volume)
            .map_or("a volume that is gone", |v| &v.name);
        format!("disk {} of {} on {on}", n + 1, d.size)
    };
    let row = |(n, d): (usize, &Disk)| DiskField {
        key: d.key.to_string(),
        words: words(n, d),
        out: chosen.contains(&d.key),
    };
    let disks = machine
        .iter()
        .flat_map(|m| m.disks.iter().enumerate().map(row))
        .collect();
    let one = ids.first().copied().unwrap_or(MachineId(0));
    Filled {
        title: machine.map_or_else(
            || "What is not promised of".into(),
            |m| format!("What {} is promised is not about", m.name),
        ),
        lead: "Of a disk that is ticked nothing is promised.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: back(&ids),
        fields: render(&ExceptFields {
            machines: named(view, &ids),
            disks,
        }),
        ask: Proposal::Pledges(Ask::Except {
            machine: one,
            disks: chosen,
        }),
        wrong: vec![],
    }
}
