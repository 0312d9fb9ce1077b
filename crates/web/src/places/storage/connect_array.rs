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
    rooms::Proposal,
    rooms::storage::ConnectArray,
    view::View,
};

/// More controllers than any array has.
const MOST: usize = 8;

#[derive(Template)]
#[template(
    source = r#"<fieldset><legend class="legend">Array or filer</legend><div class="row"><div class="field wide" id="f-addresses" data-field="addresses"><label for="addresses">Management addresses, one a line</label><textarea id="addresses" class="mono" name="addresses" placeholder="10.20.0.11">{{ addresses }}</textarea><span class="wrong" role="alert"></span><span class="hint">All of its controllers. Their certificates are shown at the right; compare them before you run.</span></div></div>
<div class="row"><div class="field" id="f-kind" data-field="kind"><label for="kind">It gives</label><select id="kind" name="kind"><option value="block"{% if !file %} selected{% endif %}>LUNs by iSCSI</option><option value="file"{% if file %} selected{% endif %}>exports by NFS</option></select></div>
<div class="field" id="f-site" data-field="site"><label for="site">Site</label><input id="site" name="site" value="{{ site }}" list="sites"><datalist id="sites">{% for s in sites %}<option value="{{ s }}">{% endfor %}</datalist><span class="wrong" role="alert"></span></div></div></fieldset>
<fieldset><legend class="legend">Sign-in</legend><div class="row"><div class="field" id="f-user" data-field="user"><label for="user">User</label><input id="user" name="user" value="{{ user }}" autocomplete="off"><span class="wrong" role="alert"></span></div>
<div class="field" id="f-password" data-field="password"><label for="password">Password</label><input id="password" type="password" name="password" autocomplete="new-password"><span class="wrong" role="alert"></span></div></div></fieldset>"#,
    ext = "html"
)]
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
        .take(MOST)
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
        Endpoint { address, pin }
    });
    let ask = Proposal::Storage(storage::Ask::ConnectArray(ConnectArray {
        controllers: controllers.collect(),
        kind: if file {
            ArrayKind::File
        } else {
            ArrayKind::Block
        },
        site: site.clone(),
        user: user.clone(),
        password: if fields.get("password").is_empty() {
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
