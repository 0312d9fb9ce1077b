//! The sheets for mending, editing and removing a network.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::rooms::{edits, networks};
use zastrugi_core::{
    addressing::{each, range},
    estate::{Part, Reservation},
    ids::NetworkId,
    limits::RESERVED,
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

#[derive(Template)]
#[template(path = "places/networks/remove.html")]
struct RemoveFields {
    id: u64,
    typed: String,
    hint: String,
}

pub(super) fn chosen(view: &View, fields: &Fields) -> (NetworkId, String) {
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
        fields: render(&RemoveFields {
            id: id.0,
            typed: fields.get("typed").into(),
            hint: format!("Its name, {name}, where hosts need it themselves."),
        }),
        ask: Proposal::Networks(networks::Ask::Remove {
            network: id,
            typed: fields.get("typed").into(),
        }),
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
    let delimiter = char::from(zastrugi_formats::csv::delimiter(text));
    for (i, line) in text.lines().enumerate() {
        let mut cells = line.split(delimiter).map(|c| c.trim().trim_matches('"'));
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
        let line = i + 1;
        if what.is_empty() {
            return Err(format!("Line {line}: say what {address} is kept for."));
        }
        for address in addresses(address).map_err(|words| format!("Line {line}: {words}"))? {
            let before = before.get(&address).filter(|b| b.what == what);
            let kept = Reservation {
                what: Line::read(what).map_err(|words| format!("Line {line}: {words}"))?,
                since: before.map_or(Moment(0), |b| b.since),
            };
            if all.insert(address, kept).is_some() {
                return Err(format!("Line {line}: {address} stands there twice."));
            }
        }
    }
    Ok(all)
}

/// One address, or all of a range.
fn addresses(text: &str) -> Result<Vec<IpAddr>, String> {
    match text.parse() {
        Ok(one) => Ok(vec![one]),
        Err(_) if text.contains(['-', '–']) => {
            let range = range(&text.replace('–', "-"), Part::Guests)?;
            if range.first > range.last {
                return Err(format!("{text}: the first is above the last."));
            }
            each(&range, RESERVED.most)
        }
        Err(_) => Err(format!("“{text}” is no address.")),
    }
}

/// What is kept, a line for each address, or for all in a row that are kept for the same.
fn lines(kept: &BTreeMap<IpAddr, Reservation>) -> String {
    let mut rows: Vec<(IpAddr, IpAddr, &str)> = Vec::new();
    for (address, reservation) in kept {
        let what = reservation.what.as_str();
        match rows.last_mut() {
            Some((_, last, same)) if *same == what && follows(*last, *address) => *last = *address,
            _ => rows.push((*address, *address, what)),
        }
    }
    let line = |(first, last, what): &(IpAddr, IpAddr, &str)| {
        if first == last {
            format!("{first},{what}")
        } else {
            format!("{first}-{last},{what}")
        }
    };
    rows.iter().map(line).collect::<Vec<_>>().join("\n")
}

fn follows(one: IpAddr, other: IpAddr) -> bool {
    match (one, other) {
        (IpAddr::V4(a), IpAddr::V4(b)) => u32::from(a).checked_add(1) == Some(u32::from(b)),
        (IpAddr::V6(a), IpAddr::V6(b)) => u128::from(a).checked_add(1) == Some(u128::from(b)),
        _ => false,
    }
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let network = view.estate.networks.get(&id);
    let was = network.map(|n| n.reserved.clone()).unwrap_or_default();
    let was_note = network.map_or_else(String::new, |n| n.note.clone());
    let typed = fields.or("reserved", &lines(&was));
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
