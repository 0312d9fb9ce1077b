//! The sheets for handing hosts back and for editing one.

use crate::frame::{
    Fields,
    fields::read_labels,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::rooms::{edits, hosts};
use zastrugi_core::{
    ids::HostId,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    view::View,
};

#[derive(Template)]
#[template(path = "places/hosts/change_back_fields.html")]
struct BackFields {
    hosts: Vec<(u64, String)>,
}

pub(crate) fn hand_back(view: &View, fields: &Fields) -> Filled {
    let ids: Vec<HostId> = fields.ids("ids");
    let name = |id: &HostId| {
        view.estate
            .hosts
            .get(id)
            .map_or_else(|| id.to_string(), |h| h.name.clone())
    };
    let hosts: Vec<(u64, String)> = ids.iter().map(|id| (id.0, name(id))).collect();
    let what = match hosts.as_slice() {
        [(_, one)] => one.clone(),
        many => format!("{} hosts", many.len()),
    };
    Filled {
        title: format!("Hand back {what}"),
        lead: "An installation gives a host up; another can claim it afterwards.".into(),
        run: format!("Run: hand back {what}"),
        danger: true,
        back: "/hosts".into(),
        fields: render(&BackFields { hosts }),
        ask: Proposal::Hosts(hosts::Ask::HandBack { hosts: ids }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/hosts/change_edit_fields.html")]
struct EditFields {
    id: u64,
    name: String,
    labels: String,
    note: String,
}

pub(crate) fn edit(view: &View, fields: &Fields) -> Filled {
    let id = fields
        .ids::<HostId>("ids")
        .first()
        .copied()
        .unwrap_or(HostId(0));
    let host = view.estate.hosts.get(&id);
    let (was_name, was_note) = host.map_or((String::new(), String::new()), |h| {
        (h.name.clone(), h.note.clone())
    });
    let (name, note) = (fields.or("name", &was_name), fields.or("note", &was_note));
    let mut sets = Vec::new();
    if name != was_name {
        sets.push(Set::Name((&name).into()));
    }
    let was_labels = host.map_or_else(Default::default, |h| h.labels.clone());
    let shown_labels = host.map_or_else(Vec::new, |h| h.label_words().collect());
    let labels = fields.or("labels", &shown_labels.join(" "));
    sets.extend(relabel(&was_labels, &read_labels(&labels)));
    if note != was_note {
        sets.push(Set::Note((&note).into()));
    }
    Filled {
        title: format!("Edit {was_name}"),
        lead: "Names and notes are Zastrugi's own; the host is not touched.".into(),
        run: "Run: change it".into(),
        danger: false,
        back: format!("/hosts/{}", id.0),
        fields: render(&EditFields {
            id: id.0,
            name,
            labels,
            note,
        }),
        ask: Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Host(id)],
            sets,
        }),
        wrong: vec![],
    }
}

/// What makes the one of the other.
pub(super) fn relabel(was: &BTreeMap<String, String>, then: &BTreeMap<String, String>) -> Vec<Set> {
    let gone = was.keys().filter(|k| !then.contains_key(*k));
    let gone = gone.map(|key| Set::Unlabel { key: key.into() });
    let new = then.iter().filter(|(k, v)| was.get(*k) != Some(v));
    let new = new.map(|(key, value)| Set::Label {
        key: key.into(),
        value: value.into(),
    });
    gone.chain(new).collect()
}
