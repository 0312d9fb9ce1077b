//! The sheets for mending, editing and removing a network.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::rooms::{edits, networks};
use zastrugi_core::{
    estate::Reservation,
    ids::NetworkId,
    moment::Moment,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    text::Line,
    view::View,
};

#[derive(Template)]
#[template(path = "places/networks/change_no_fields.html")]
struct NoFields {
    id: u64,
    words: &'static str,
}

fn chosen(view: &View, fields: &Fields) -> (NetworkId, String) {
    let first = fields.ids::<NetworkId>("ids").first().copied();
    let id = first.unwrap_or(NetworkId(0));
    let name = view.estate.networks.get(&id).map(|n| n.name.clone());
    (id, name.unwrap_or_else(|| id.to_string()))
}

pub(crate) fn heal(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Set {name} up again where it differs"),
        lead: "Hosts that have it as it was meant are not touched.".into(),
        run: "Run: set it up again".into(),
        danger: false,
        back: format!("/networks/{}", id.0),
        fields: render(&NoFields {
            id: id.0,
            words: "What differs, host by host, stands at the right.",
        }),
        ask: Proposal::Networks(networks::Ask::Heal { network: id }),
        wrong: vec![],
    }
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Remove {name}"),
        lead: "It is taken off every host of its cluster. Switches are not touched.".into(),
        run: format!("Run: remove {name}"),
        danger: true,
        back: format!("/networks/{}", id.0),
        fields: render(&NoFields {
            id: id.0,
            words: "Machines with a card on it stop this.",
        }),
        ask: Proposal::Networks(networks::Ask::Remove { network: id }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/networks/change_edit_fields.html")]
struct EditFields {
    id: u64,
    reserved: String,
    note: String,
}

/// Reads pasted CSV; the head line and machines' own lines are passed over. What was kept before keeps its time.
fn read(
    view: &View,
    text: &str,
    before: &BTreeMap<IpAddr, Reservation>,
) -> Result<BTreeMap<IpAddr, Reservation>, String> {
    let mut all = BTreeMap::new();
    for (i, line) in text.lines().enumerate() {
        let mut cells = line.split(',').map(|c| c.trim().trim_matches('"'));
        let (address, what) = (
            cells.next().unwrap_or_default(),
            cells.next().unwrap_or_default(),
        );
        let skip = address.is_empty()
            || address == "address"
            || what == "gateway"
            || view.estate.machine_named(what).is_some();
        if skip {
            continue;
        }
        let address: IpAddr = address
            .parse()
            .map_err(|_| format!("Line {}: “{address}” is no address.", i + 1))?;
        if what.is_empty() {
            return Err(format!("Line {}: say what {address} is kept for.", i + 1));
        }
        let since = before
            .get(&address)
            .filter(|b| b.what == what)
            .map_or(Moment(0), |b| b.since);
        let kept = Reservation {
            what: Line::read(what).map_err(|words| format!("Line {}: {words}", i + 1))?,
            since,
        };
        if all.insert(address, kept).is_some() {
            return Err(format!("Line {}: {address} stands there twice.", i + 1));
        }
    }
    Ok(all)
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let network = view.estate.networks.get(&id);
    let was = network.map(|n| n.reserved.clone()).unwrap_or_default();
    let was_note = network.map_or_else(String::new, |n| n.note.clone());
    let lines: Vec<String> = was.iter().map(|(a, r)| format!("{a},{}", r.what)).collect();
    let typed = fields.or("reserved", &lines.join("\n"));
    let note = fields.or("note", &was_note);
    let (mut sets, mut wrong) = (Vec::new(), Vec::new());
    match read(view, &typed, &was) {
        Ok(all) if all != was => sets.push(Set::Reserved(all)),
        Ok(_) => {}
        Err(words) => wrong.push(("reserved".to_owned(), words)),
    }
    if note != was_note {
        sets.push(Set::Note((&note).into()));
    }
    Filled {
        title: format!("Edit {name}"),
        lead: "Addresses that are kept are never given to machines.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/networks/{}", id.0),
        fields: render(&EditFields {
            id: id.0,
            reserved: typed,
            note,
        }),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Network(id)],
            sets,
        }),
        wrong,
    }
}
