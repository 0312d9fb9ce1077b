//! Connecting an array or filer: every management address, the certificates that were shown, one sign-in.

use super::{ConnectArray, Draft, Event, Step};
use crate::{
    estate::{Array, ArrayCondition, Controller},
    evidence::Probe,
    finding::{Finding, Rule},
    ids::{ArrayId, SecretRef},
    limits,
    endpoint::{Endpoint, Password},
};
use std::collections::BTreeSet;

pub(super) fn connect(draft: &mut Draft<'_>, ask: &ConnectArray) {
    "Connect an array".clone_into(&mut draft.title);
    if ask.controllers.is_empty() {
        let text = "Type the management address of each of its controllers.";
        draft.found(Finding::stop(Rule::Nothing, "addresses", text).at("addresses"));
    }
    if let Err(words) = limits::CONTROLLERS.check(ask.controllers.len()) {
        draft.found(Finding::stop(Rule::Count, "addresses", words).at("addresses"));
    }
    if ask.user.trim().is_empty() {
        draft.found(Finding::stop(Rule::Name, "user", "A user name is missing.").at("user"));
    }
    if ask.password == Password::Missing {
        let text = "Type the password of this user on the array.";
        draft.found(Finding::stop(Rule::Password, "password", text).at("password"));
    }
    let site = draft.site(&ask.site);
    let mut names = BTreeSet::new();
    for target in &ask.controllers {
        if let Some(name) = greeting(draft, target) {
            names.insert(name);
        }
    }
    if names.len() > 1 {
        let all: Vec<_> = names.iter().cloned().collect();
        let text = "These addresses belong to different arrays; connect one at a time.";
        draft.found(
            Finding::stop(Rule::Identity, "addresses", text)
                .because(all.join(", "))
                .at("addresses"),
        );
    }
    let Some((name, site)) = names.pop_first().zip(site) else {
        return;
    };
    if draft.estate().array_named(&name).is_some() {
        let text = format!("There is an array {name} already.");
        draft.found(Finding::stop(Rule::Name, &name, text).at("addresses"));
    }
    if let [_] = ask.controllers.as_slice() {
        let text = format!("Only one management address: when it fails, {name} can't be managed.");
        draft.found(Finding::mind(Rule::Reachable, &name, text).at("addresses"));
    }
    draft.title = format!("Connect {name}");
    let id = ArrayId(draft.number());
    let key = match ask.password {
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => None,
    };
    let controllers = ask.controllers.iter().map(|t| Controller {
        address: t.address.to_string(),
        pin: t.pin.to_string(),
        silent: None,
    });
    draft.intend(Event::ArrayConnecting(Box::new(Array {
        id,
        name: name.clone(),
        site,
        kind: ask.kind,
        controllers: controllers.collect(),
        user: ask.user.trim().to_owned(),
        key,
        maker: String::new(),
        model: String::new(),
        serial: String::new(),
        pools: vec![],
        portals: vec![],
        condition: ArrayCondition::Connecting,
        note: String::new(),
        left: vec![],
        found: Default::default(),
        served: Default::default(),
    })));
    let read = Step::ReadArray { array: id };
    draft.step(
        read,
        format!("Sign in on {name} and read it"),
        &[],
        Some("password"),
    );
}

/// The name that it calls itself, if it answered with the certificate that the person was shown.
fn greeting(draft: &mut Draft<'_>, target: &Endpoint) -> Option<String> {
    let address = &target.address;
    if let Some(array) = draft.estate().array_at(address) {
        let text = format!(
            "{address} belongs to {}, which is connected already.",
            array.name
        );
        draft.found(Finding::stop(Rule::Owner, address, text).at("addresses"));
        return None;
    }
    let probe = Probe::ArrayGreeting(address.to_string());
    draft.manager(&probe, target, false, "addresses")
}
