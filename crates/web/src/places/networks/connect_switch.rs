//! The sheet for connecting a switch: it is asked who it is before any password is typed, and only ever read.

use crate::frame::AtDesk;
use crate::frame::{
    Fields,
    fields::at_manager,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::rooms::networks;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::Probe,
    rooms::Proposal,
    rooms::networks::ConnectSwitch,
    view::View,
};

#[derive(Template)]
#[template(path = "places/networks/connect_switch_switch_fields.html")]
struct SwitchFields {
    address: String,
    site: String,
    sites: Vec<String>,
    user: String,
}

/// The address that was typed, with the usual port where none is given.
pub(crate) fn address(fields: &Fields) -> String {
    match fields.get("address") {
        "" => String::new(),
        typed => at_manager(typed),
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or("site", sites.first().map_or("", String::as_str));
    let user = fields.or("user", "reader");
    let address = address(fields);
    let pin = view
        .evidence
        .manager_pin(&Probe::SwitchGreeting(address.clone()));
    let ask = Proposal::Networks(networks::Ask::ConnectSwitch(ConnectSwitch {
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
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
        title: "Connect a switch".into(),
        lead: "Zastrugi reads which VLANs and frame sizes its ports carry, and which hosts hang on them.".into(),
        run: "Run: connect it".into(),
        danger: false,
        back: "/networks".into(),
        fields: render(&SwitchFields {
            address: fields.get("address").to_owned(),
            site,
            sites,
            user,
        }),
        ask,
        wrong: vec![],
    }
}

/// Who answers at the address that was typed.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let asked = address(fields);
        if !asked.is_empty() {
            desk.greet_switch(&asked).await;
        }
    })
}
