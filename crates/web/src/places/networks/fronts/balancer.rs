//! The sheets of a load balancer: it is asked who it is before any token is typed; and forgotten again.

use crate::frame::AtDesk;
use crate::frame::{
    Fields,
    fields::at_manager,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    evidence::Probe,
    ids::BalancerId,
    rooms::{
        Proposal,
        fronts::{Ask, ConnectBalancer},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/networks/fronts/balancer_fields.html")]
struct BalancerFields {
    address: String,
    site: String,
    sites: Vec<String>,
}

fn address(fields: &Fields) -> String {
    match fields.get("address") {
        "" => String::new(),
        typed => at_manager(typed),
    }
}

pub(crate) fn connect(view: &View, fields: &Fields) -> Filled {
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or("site", sites.first().map_or("", String::as_str));
    let address = address(fields);
    let pin = view
        .evidence
        .manager_pin(&Probe::BalancerGreeting(address.clone()));
    let ask = Proposal::Fronts(Ask::Connect(ConnectBalancer {
        target: Endpoint {
            address: address.into(),
            pin: pin.into(),
        },
        site: (&site).into(),
        token: if fields.secret("password").is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
    }));
    Filled {
        title: "Connect a load balancer".into(),
        lead: "It gets the fronts that are made here, and says which of their members serve."
            .into(),
        run: "Run: connect it".into(),
        danger: false,
        back: "/networks".into(),
        fields: render(&BalancerFields {
            address: fields.get("address").to_owned(),
            site,
            sites,
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
            desk.greet_balancer(&asked).await;
        }
    })
}

#[derive(Template)]
#[template(path = "places/networks/fronts/id_fields.html")]
pub(super) struct IdFields {
    pub(super) id: u64,
    pub(super) words: &'static str,
}

pub(crate) fn forget(view: &View, fields: &Fields) -> Filled {
    let id = fields
        .ids::<BalancerId>("ids")
        .first()
        .copied()
        .unwrap_or(BalancerId(0));
    let name = view
        .estate
        .balancers
        .get(&id)
        .map_or("a load balancer", |b| b.name.as_str());
    Filled {
        title: format!("Forget {name}"),
        lead: "Zastrugi asks it nothing any more, and gives it no orders.".into(),
        run: format!("Run: forget {name}"),
        danger: true,
        back: "/networks".into(),
        fields: render(&IdFields {
            id: id.0,
            words: "What it balances goes on as it is.",
        }),
        ask: Proposal::Fronts(Ask::Forget { balancer: id }),
        wrong: vec![],
    }
}
