//! The sheet for connecting an array or filer: it is asked who it is before any password is typed.

use crate::frame::AtDesk;
use crate::frame::{
    Fields,
    fields::at_manager,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::rooms::storage;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::ArrayKind,
    evidence::Probe,
    limits,
    rooms::Proposal,
    rooms::storage::ConnectArray,
    view::View,
};

#[derive(Template)]
#[template(path = "places/storage/connect_array_array_fields.html")]
struct ArrayFields {
    addresses: String,
    file: bool,
    site: String,
    sites: Vec<String>,
    user: String,
}

/// The addresses that were typed, with the usual port where none is given.
pub(crate) fn addresses(fields: &Fields) -> Vec<String> {
    let given = fields
        .get("addresses")
        .split(|c: char| c.is_whitespace() || c == ',');
    given
        .filter(|a| !a.is_empty())
        .take(limits::CONTROLLERS.most + 1)
        .map(at_manager)
        .collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or("site", sites.first().map_or("", String::as_str));
    let user = fields.or("user", "keeper");
    let file = fields.get("kind") == "file";
    let controllers = addresses(fields).into_iter().map(|address| {
        let pin = view
            .evidence
            .manager_pin(&Probe::ArrayGreeting(address.clone()));
        Endpoint {
            address: address.into(),
            pin: pin.into(),
        }
    });
    let ask = Proposal::Storage(storage::Ask::ConnectArray(ConnectArray {
        controllers: controllers.collect(),
        kind: if file {
            ArrayKind::File
        } else {
            ArrayKind::Block
        },
        site: (&site).into(),
        user: (&user).into(),
        password: if fields.secret("password").is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
    }));
    Filled {
        title: "Connect an array".into(),
        lead: "Zastrugi signs in on every management address and reads pools and portals. Nothing is changed there.".into(),
        run: "Run: connect it".into(),
        danger: false,
        back: "/storage".into(),
        fields: render(&ArrayFields {
            addresses: fields.get("addresses").to_owned(),
            file,
            site,
            sites,
            user,
        }),
        ask,
        wrong: vec![],
    }
}

/// Who answers at the addresses that were typed.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move { desk.greet_arrays(&addresses(fields)).await })
}
