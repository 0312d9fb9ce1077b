//! The sheet that adds disks and cards, takes them out, and puts cards onto other networks.

use super::{
    super::{
        back, chosen,
        new::{DiskField, disk_rows, networks},
        what,
    },
    kind, spare,
};
use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use uuid::Uuid;
use zastrugi_core::{
    estate::Machine,
    ids::{MachineId, NetworkId},
    rooms::{
        Proposal,
        hardware::{Ask, CardWish, Change, DiskWish},
    },
    view::View,
};

/// A disk that it has.
struct DiskRow {
    field: String,
    label: String,
    /// `keep`, `detach` or `delete`.
    act: String,
}

/// A card that it has.
struct CardRow {
    field: String,
    label: String,
    /// A network's number, 0 for none, or `out`.
    to: String,
}

#[derive(Template)]
#[template(path = "places/machines/hardware/change.html")]
struct ChangeFields {
    machines: Vec<(u64, String)>,
    disks: Vec<DiskRow>,
    new: Vec<DiskField>,
    /// Unattached disks beside it: identity, words, whether chosen.
    spare: Vec<(Uuid, String, bool)>,
    cards: Vec<CardRow>,
    /// Networks of new cards.
    more: Vec<u64>,
    networks: Vec<(u64, String)>,
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let (ids, named) = chosen(view, fields);
    let mut wrong = Vec::new();
    let id = ids.first().copied().unwrap_or(MachineId(0));
    let machine = view.estate.machines.get(&id).cloned();
    let mut ask = Change {
        machine: id,
        disks: vec![],
        cards: vec![],
    };
    let mut shown = ChangeFields {
        machines: named.clone(),
        disks: vec![],
        new: vec![],
        spare: vec![],
        cards: vec![],
        more: vec![],
        networks: vec![],
    };
    if let Some(machine) = machine.as_deref() {
        shown.networks = networks(view, machine.cluster);
        shown.disks = disks(view, machine, fields, &mut ask);
        shown.spare = spares(view, machine, fields, &mut ask);
        shown.cards = cards(view, machine, fields, &mut ask);
    }
    shown.new = more_disks(fields, &mut ask, &mut wrong);
    shown.more = more_cards(fields, &mut ask);
    Filled {
        title: format!("Disks and cards of {}", what(&named)),
        lead: "Disks and cards come and go while it runs. A disk is made larger under Edit.".into(),
        run: "Run: change them".into(),
        danger: false,
        back: back(&named),
        fields: render(&shown),
        ask: Proposal::Hardware(Ask::Change(ask)),
        wrong,
    }
}

fn disks(view: &View, machine: &Machine, fields: &Fields, ask: &mut Change) -> Vec<DiskRow> {
    let row = |(n, disk): (usize, &zastrugi_core::estate::Disk)| {
        let volume = view.estate.volumes.get(&disk.volume);
        let on = volume.map_or("its volume", |v| v.name.as_str());
        let (size, kind) = (disk.size, kind(disk.provisioning));
        let field = format!("disk-{}", disk.key);
        let act = fields.or(&field, "keep");
        match act.as_str() {
            "detach" => ask.disks.push(DiskWish::Detach { disk: disk.key }),
            "delete" => ask.disks.push(DiskWish::Delete { disk: disk.key }),
            _ => {}
        }
        DiskRow {
            field,
            label: format!("Disk {}: {size}, {kind}, on {on}", n + 1),
            act,
        }
    };
    machine.disks.iter().enumerate().map(row).collect()
}

/// Those on its volume that no machine has, and nobody deleted.
fn spares(
    view: &View,
    machine: &Machine,
    fields: &Fields,
    ask: &mut Change,
) -> Vec<(Uuid, String, bool)> {
    let chosen: Vec<Uuid> = fields.ids("attach");
    let wishes = chosen.iter().map(|disk| DiskWish::Attach { disk: *disk });
    ask.disks.extend(wishes);
    let volumes = machine.volumes().into_iter();
    let volumes = volumes.filter_map(|v| view.estate.volumes.get(&v));
    let all = volumes.flat_map(|v| v.unattached.disks.iter());
    all.filter(|(_, d)| d.deleted.is_none())
        .map(|(key, d)| (*key, spare(d), chosen.contains(key)))
        .collect()
}

fn cards(view: &View, machine: &Machine, fields: &Fields, ask: &mut Change) -> Vec<CardRow> {
    let row = |(n, nic): (usize, &zastrugi_core::estate::Nic)| {
        let is = nic.network.map_or(0, |id| id.0).to_string();
        let field = format!("card-{}", nic.mac.replace(':', ""));
        let to = fields.or(&field, &is);
        let mac = nic.mac.clone();
        if to == "out" {
            ask.cards.push(CardWish::Out { mac });
        } else if to != is {
            let network = to.parse().ok().filter(|n| *n > 0).map(NetworkId);
            ask.cards.push(CardWish::To { mac, network });
        }
        let known = nic.network.and_then(|id| view.estate.networks.get(&id));
        let addresses: Vec<String> = nic.addresses.iter().map(ToString::to_string).collect();
        let on = known.map_or_else(String::new, |n| format!(", on {}", n.name));
        let with = match addresses.is_empty() {
            true => String::new(),
            false => format!(" as {}", addresses.join(", ")),
        };
        CardRow {
            field,
            label: format!("Card {}: {}{on}{with}", n + 1, nic.mac),
            to,
        }
    };
    machine.nics.iter().enumerate().map(row).collect()
}

/// Disks that it shall have besides.
fn more_disks(fields: &Fields, ask: &mut Change, wrong: &mut Vec<Wrong>) -> Vec<DiskField> {
    let (shown, read) = disk_rows(fields, 0, wrong);
    let wishes = read.into_iter().map(|d| DiskWish::Add {
        size: d.size,
        provisioning: d.provisioning,
    });
    ask.disks.extend(wishes);
    shown
}

fn more_cards(fields: &Fields, ask: &mut Change) -> Vec<u64> {
    let typed = fields.all("network").filter(|n| *n != "none");
    let all: Vec<u64> = typed.map(|n| n.parse().unwrap_or(0)).collect();
    let wishes = all.iter().map(|n| CardWish::Add {
        network: (*n > 0).then_some(NetworkId(*n)),
    });
    ask.cards.extend(wishes);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, a sheet that nobody touched takes a disk from a machine, or what somebody chose is forgotten.
    #[test]
    fn only_what_differs_is_wished() {
        let view = zastrugi_core::testkit::read("cluster a\nhost 1 512\nmachine 7 db 16 on 1").view;
        let wished = |text: &str| match fill(&view, &Fields::parse(text)).ask {
            Proposal::Hardware(Ask::Change(change)) => change,
            other => panic!("{other:?}"),
        };
        let none = wished("ids=7");
        assert!(none.disks.is_empty() && none.cards.is_empty());
        let machine = &view.estate.machines[&MachineId(7)];
        let (disk, mac) = (machine.disks[0].key, machine.nics[0].mac.clone());
        let card = mac.replace(':', "");
        let all = wished(&format!(
            "sent=1&ids=7&disk-{disk}=delete&disk=10+GiB&provisioning=thick&card-{card}=out&network=0"
        ));
        assert_eq!(all.disks[0], DiskWish::Delete { disk });
        assert!(matches!(all.disks[1], DiskWish::Add { .. }));
        let cards = [CardWish::Out { mac }, CardWish::Add { network: None }];
        assert_eq!(all.cards, cards);
    }
}
