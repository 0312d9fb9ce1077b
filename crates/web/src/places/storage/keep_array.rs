//! The sheets for an array that is connected: how it is reached, giving it up, deleting what was ours on it.

use super::connect_array::addresses;
use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::sync::Arc;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::Array,
    evidence::Probe,
    ids::{ArrayId, VolumeId},
    rooms::{Proposal, arrays},
    view::View,
};

fn chosen(view: &View, fields: &Fields) -> (ArrayId, Option<Arc<Array>>) {
    let id = fields.ids("ids").first().copied().unwrap_or(ArrayId(0));
    (id, view.estate.arrays.get(&id).cloned())
}

fn name(array: Option<&Arc<Array>>) -> String {
    array.map_or_else(|| "an array".into(), |a| a.name.clone())
}

#[derive(Template)]
#[template(path = "places/storage/keep_array_access_fields.html")]
struct AccessFields {
    id: u64,
    addresses: String,
    user: String,
}

pub(crate) fn access(view: &View, fields: &Fields) -> Filled {
    let (id, array) = chosen(view, fields);
    let known = array.as_deref().map_or(&[][..], |a| &a.controllers);
    let were: Vec<&str> = known.iter().map(|c| c.address.as_str()).collect();
    let typed = fields.or("addresses", &were.join("\n"));
    let user = fields.or("user", array.as_deref().map_or("", |a| &a.user));
    let given = match fields.has("addresses") {
        true => addresses(fields),
        false => were.iter().map(|a| (*a).to_owned()).collect(),
    };
    let controllers = given.into_iter().map(|address| {
        let shown = view
            .evidence
            .manager_pin(&Probe::ArrayGreeting(address.clone()));
        // One that is silent just now stays as it is known.
        let held = known
            .iter()
            .find(|c| c.address == address)
            .map(|c| c.pin.clone());
        let pin = if shown.is_empty() {
            held.unwrap_or_default()
        } else {
            shown
        };
        Endpoint {
            address: address.into(),
            pin: pin.into(),
        }
    });
    let ask = arrays::Ask::Change(arrays::Access {
        array: id,
        controllers: controllers.collect(),
        user: (&user).into(),
        password: match fields.secret("password").is_empty() {
            true => Password::Missing,
            false => Password::Typed,
        },
    });
    Filled {
        title: format!("Change how {} is reached", name(array.as_ref())),
        lead: "Its management addresses, and as whom Zastrugi signs in. Hosts and machines notice nothing.".into(),
        run: "Run: try it, then keep it".into(),
        danger: false,
        back: format!("/storage/arrays/{}", id.0),
        fields: render(&AccessFields {
            id: id.0,
            addresses: typed,
            user,
        }),
        ask: Proposal::Arrays(ask),
        wrong: vec![],
    }
}

/// Who answers at the addresses, those that are known and those that were typed.
pub(crate) fn greet<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let (_, array) = chosen(&desk.look(), fields);
        let asked = match (fields.has("addresses"), array) {
            (false, Some(array)) => array
                .controllers
                .iter()
                .map(|c| c.address.clone())
                .collect(),
            _ => addresses(fields),
        };
        desk.greet_arrays(&asked).await;
    })
}

#[derive(Template)]
#[template(path = "places/storage/set_back.html")]
struct SetBackFields {
    id: u64,
    array: String,
    volume: u64,
    volumes: Vec<(u64, String)>,
}

/// Volumes for which the array takes snapshots otherwise than before.
fn changed(view: &View, array: &Array) -> Vec<(u64, String)> {
    let of = array
        .served
        .iter()
        .filter(|(_, s)| s.snapshots_before().is_some());
    of.filter_map(|(id, _)| Some((id.0, view.estate.volumes.get(id)?.name.clone())))
        .collect()
}

pub(crate) fn set_back(view: &View, fields: &Fields) -> Filled {
    let (id, array) = chosen(view, fields);
    let volumes = array
        .as_deref()
        .map(|a| changed(view, a))
        .unwrap_or_default();
    let first = volumes.first().map_or(0, |(id, _)| *id);
    let volume = fields
        .or("volume", &first.to_string())
        .parse()
        .unwrap_or(first);
    let array = name(array.as_ref());
    Filled {
        title: format!("Have {array} take snapshots as before"),
        lead:
            "What was changed there is asked to be as it was. Nothing of what is kept is touched."
                .into(),
        run: "Run: ask for it".into(),
        danger: false,
        back: format!("/storage/arrays/{}", id.0),
        fields: render(&SetBackFields {
            id: id.0,
            array,
            volume,
            volumes,
        }),
        ask: Proposal::Arrays(arrays::Ask::SetBack {
            array: id,
            volume: VolumeId(volume),
        }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/storage/keep_array_remove_fields.html")]
struct RemoveFields {
    id: u64,
    /// The LUN that is meant; none for the array itself.
    lun: String,
}

pub(crate) fn remove(view: &View, fields: &Fields) -> Filled {
    let (id, array) = chosen(view, fields);
    let name = name(array.as_ref());
    Filled {
        title: format!("Remove {name}"),
        lead: "Zastrugi forgets it. Nothing on it is changed, and it can be connected again."
            .into(),
        run: format!("Run: remove {name}"),
        danger: true,
        back: format!("/storage/arrays/{}", id.0),
        fields: render(&RemoveFields {
            id: id.0,
            lun: String::new(),
        }),
        ask: Proposal::Arrays(arrays::Ask::Remove { array: id }),
        wrong: vec![],
    }
}

/// The LUN that is meant: its number there, and its name.
fn lun(array: Option<&Array>, fields: &Fields) -> (String, String) {
    let lun = fields.get("lun").to_owned();
    let left = array.and_then(|a| a.left.iter().find(|l| l.lun == lun));
    let what = left.map_or_else(|| "a LUN".into(), |l| l.name.clone());
    (lun, what)
}

/// What Zastrugi does by itself after a connection was given up, where somebody gave up that as well.
pub(crate) fn withdraw(view: &View, fields: &Fields) -> Filled {
    let (id, array) = chosen(view, fields);
    let (lun, what) = lun(array.as_deref(), fields);
    Filled {
        title: format!("Take away the reach of {what} on {}", name(array.as_ref())),
        lead: "Hosts of ours that could reach it can't any more. What is on it stays.".into(),
        run: "Run: take it away".into(),
        danger: false,
        back: format!("/storage/arrays/{}", id.0),
        fields: render(&RemoveFields {
            id: id.0,
            lun: lun.clone(),
        }),
        ask: Proposal::Arrays(arrays::Ask::Withdraw { array: id, lun }),
        wrong: vec![],
    }
}

#[derive(Template)]
#[template(path = "places/storage/keep_array_delete_fields.html")]
struct DeleteFields {
    id: u64,
    lun: String,
    name: String,
    typed: String,
}

pub(crate) fn delete(view: &View, fields: &Fields) -> Filled {
    let (id, array) = chosen(view, fields);
    let (lun, what) = lun(array.as_deref(), fields);
    let on = name(array.as_ref());
    Filled {
        title: format!("Delete {what} on {on}"),
        lead: "It was ours and is connected no more. What is on it is gone for good.".into(),
        run: format!("Run: delete {what}"),
        danger: true,
        back: format!("/storage/arrays/{}", id.0),
        fields: render(&DeleteFields {
            id: id.0,
            lun: lun.clone(),
            name: what,
            typed: fields.get("typed").to_owned(),
        }),
        ask: Proposal::Arrays(arrays::Ask::DeleteLun {
            array: id,
            lun,
            typed: fields.get("typed").into(),
        }),
        wrong: vec![],
    }
}

/// What the array has, and who reaches it.
pub(crate) fn look<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        if let Some(id) = fields.ids("ids").first() {
            desk.inspect_storage(&[*id], &[], !fields.has("sent")).await;
        }
    })
}
