//! The sheets for extending, editing, healing and handing back a volume.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeSet;
use zastrugi_core::rooms::{edits, storage};
use zastrugi_core::{
    ids::{HostId, VolumeId},
    rooms::Proposal,
    rooms::edits::{Set, Target},
    units::Bytes,
    view::View,
};

pub(super) fn chosen(view: &View, fields: &Fields) -> (VolumeId, String) {
    let id = fields
        .ids::<VolumeId>("ids")
        .first()
        .copied()
        .unwrap_or(VolumeId(0));
    let name = view.estate.volumes.get(&id).map(|v| v.name.clone());
    (id, name.unwrap_or_else(|| id.to_string()))
}

#[derive(Template)]
#[template(path = "places/storage/change_size_field.html")]
struct SizeField {
    id: u64,
    size: String,
    now: String,
}

pub(crate) fn extend(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let now = view
        .estate
        .volumes
        .get(&id)
        .map_or(Bytes::ZERO, |v| v.capacity);
    let more = Bytes(now.0 + now.0 / 4);
    let typed = fields.or("size", &more.to_string().replace('\u{a0}', " "));
    let mut wrong = vec![];
    let size = Bytes::parse(&typed).unwrap_or_else(|words| {
        wrong.push(("size".to_owned(), words));
        Bytes::ZERO
    });
    Filled {
        title: format!("Extend {name}"),
        lead: "First on the array, then its format; machines go on meanwhile.".into(),
        run: format!("Run: extend {name}"),
        danger: false,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&SizeField {
            id: id.0,
            size: typed,
            now: now.to_string(),
        }),
        ask: Proposal::Storage(storage::Ask::ExtendVolume { volume: id, size }),
        wrong,
    }
}

#[derive(Template)]
#[template(path = "places/storage/change_no_fields.html")]
struct NoFields {
    id: u64,
    words: &'static str,
}

#[derive(Template)]
#[template(path = "places/storage/change_without_fields.html")]
struct WithoutFields {
    id: u64,
    host: u64,
}

pub(crate) fn heal(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Bring {name} back to all its hosts"),
        lead: "Hosts that miss it or lack paths are mapped, logged in and mounted again; the others are not touched.".into(),
        run: "Run: bring it back".into(),
        danger: false,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&NoFields {
            id: id.0,
            words: "What is missing, host by host, stands at the right.",
        }),
        ask: Proposal::Storage(storage::Ask::HealVolume { volume: id }),
        wrong: vec![],
    }
}

pub(crate) fn lend(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    Filled {
        title: format!("Lend more disks to {name}"),
        lead: "Every free disk of its hosts is lent; what is on other disks stays.".into(),
        run: "Run: lend them".into(),
        danger: false,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&NoFields {
            id: id.0,
            words: "Which disks these are, host by host, stands at the right.",
        }),
        ask: Proposal::Storage(storage::Ask::LendDisks { volume: id }),
        wrong: vec![],
    }
}

pub(crate) fn go_on(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let host = fields
        .ids::<HostId>("host")
        .first()
        .copied()
        .unwrap_or(HostId(0));
    let of = view
        .estate
        .hosts
        .get(&host)
        .map_or("a host", |h| h.name.as_str());
    Filled {
        title: format!("{name} goes on without {of}"),
        lead: "It is waited for no longer.".into(),
        run: format!("Run: go on without {of}"),
        danger: true,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&WithoutFields {
            id: id.0,
            host: host.0,
        }),
        ask: Proposal::Storage(storage::Ask::GoOnWithout { volume: id, host }),
        wrong: vec![],
    }
}

pub(crate) fn give(view: &View, fields: &Fields) -> Filled {
    let (id, name) = chosen(view, fields);
    let pooled = view
        .estate
        .volumes
        .get(&id)
        .is_some_and(|v| v.pooled.is_some());
    Filled {
        title: format!("Hand back {name}"),
        lead: match pooled {
            true => {
                "It is unmounted everywhere, and its hosts have their disks to themselves again."
            }
            false => "It is unmounted everywhere and has no owner any more. What is on it stays.",
        }
        .into(),
        run: format!("Run: hand back {name}"),
        danger: true,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&NoFields {
            id: id.0,
            words: match pooled {
                true => "Its disks are empty afterwards, and can be lent again.",
                false => "Another installation, or this one, can take it afterwards.",
            },
        }),
        ask: Proposal::Storage(storage::Ask::GiveVolume { volume: id }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/storage/change_edit_fields.html")]
struct EditFields {
    id: u64,
    name: String,
    all: bool,
    hosts: Vec<(u64, String, bool)>,
    note: String,
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let (id, was_name) = chosen(view, fields);
    let volume = view.estate.volumes.get(&id);
    let was_note = volume.map_or_else(String::new, |v| v.note.clone());
    let was_hosts = volume.and_then(|v| v.intended.clone());
    let (name, note) = (fields.or("name", &was_name), fields.or("note", &was_note));
    let all = fields.ticked("all", was_hosts.is_none());
    let picked: BTreeSet<HostId> = fields.picked("host", &was_hosts.clone().unwrap_or_default());
    let hosts = (!all).then(|| picked.clone());
    let mut sets = Vec::new();
    if name != was_name {
        sets.push(Set::Name((&name).into()));
    }
    if hosts != was_hosts {
        sets.push(Set::Intended(hosts));
    }
    if note != was_note {
        sets.push(Set::Note((&note).into()));
    }
    let members = volume.and_then(|v| v.cluster).into_iter();
    let mut rows: Vec<_> = members
        .flat_map(|c| view.estate.hosts_in(c))
        .map(|h| (h.id.0, h.name.clone(), picked.contains(&h.id)))
        .collect();
    rows.sort_by(|a, b| a.1.cmp(&b.1));
    Filled {
        title: format!("Edit {was_name}"),
        lead: "What it is called, and which hosts shall mount it.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/storage/volumes/{}", id.0),
        fields: render(&EditFields {
            id: id.0,
            name,
            all,
            hosts: rows,
            note,
        }),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Volume(id)],
            sets,
        }),
        wrong: vec![],
    }
}
