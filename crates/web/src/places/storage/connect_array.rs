//! The sheet for connecting an array or filer: it is asked who it is before any password is typed.

use crate::frame::AtDesk;
use crate::frame::{
    Fields,
    fields::at_manager,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::collections::BTreeSet;
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

/// The addresses that were typed, each once, with the usual port where none is given.
pub(crate) fn addresses(fields: &Fields) -> Vec<String> {
    let given = fields
        .get("addresses")
        .split(|c: char| c.is_whitespace() || c == ',');
    let mut once = BTreeSet::new();
    given
        .filter(|a| !a.is_empty())
        .map(at_manager)
        .filter(|a| once.insert(a.clone()))
        .take(limits::CONTROLLERS.most + 1)
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

#[cfg(test)]
mod tests {
    use super::*;

    /// If this fails, an address that was pasted a thousand times is asked and told a thousand times.
    #[test]
    fn an_address_counts_once_and_a_list_without_end_is_cut() {
        let read = |text: &str| addresses(&Fields::parse(text));
        let once = read("addresses=10.0.0.1+10.0.0.1:8443%0A10.0.0.2,10.0.0.1");
        assert_eq!(once, ["10.0.0.1:8443", "10.0.0.2:8443"]);
        let many: Vec<String> = (0..999)
            .map(|n| format!("10.0.{}.{}", n / 250, n % 250))
            .collect();
        let cut = read(&format!("addresses={}", many.join("+")));
        assert_eq!(
            cut.len(),
            limits::CONTROLLERS.most + 1,
            "enough to say that it is too many"
        );
    }
}
