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
#[template(
    source = r#"<fieldset><legend class="legend">Switch</legend><div class="row"><div class="field wide" id="f-address" data-field="address"><label for="address">Management address</label><input id="address" class="mono" name="address" value="{{ address }}" placeholder="10.20.0.21"><span class="wrong" role="alert"></span><span class="hint">Its certificate is shown at the right; compare it before you run.</span></div>
<div class="field" id="f-site" data-field="site"><label for="site">Site</label><input id="site" name="site" value="{{ site }}" list="sites"><datalist id="sites">{% for s in sites %}<option value="{{ s }}">{% endfor %}</datalist><span class="wrong" role="alert"></span></div></div></fieldset>
<fieldset><legend class="legend">Sign-in</legend><div class="row"><div class="field" id="f-user" data-field="user"><label for="user">User that may read</label><input id="user" name="user" value="{{ user }}" autocomplete="off"><span class="wrong" role="alert"></span></div>
<div class="field" id="f-password" data-field="password"><label for="password">Password</label><input id="password" type="password" name="password" autocomplete="new-password"><span class="wrong" role="alert"></span></div></div></fieldset>"#,
    ext = "html"
)]
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
        target: Endpoint { address, pin },
        site: site.clone(),
        user: user.clone(),
        password: if fields.get("password").is_empty() {
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
