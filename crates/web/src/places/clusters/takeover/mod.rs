//! The sheet by which a cluster that another manager runs becomes ours: what its hosts have is read, and shown object by object
//! with what becomes of it, before anything changes its owner (rules, section 30).

mod table;

use crate::{
    frame::{
        AtDesk, Fields, Signed,
        consequences::Wrong,
        sheet::{Filled, render},
    },
    places::hosts::claim::{TargetRow, addresses, endpoints, targets},
};
use askama::Template;
use futures::future::BoxFuture;
use std::collections::BTreeMap;
use table::Group;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::Password,
    estate::NetRole,
    ids::SecretRef,
    moment::Moment,
    rooms::{
        Proposal,
        taking::{self, Ask, TakeOver},
    },
    view::View,
};

#[derive(Template)]
#[template(path = "places/clusters/takeover/fields.html")]
struct TakeOverFields {
    targets: Vec<TargetRow>,
    name: String,
    site: String,
    sites: Vec<String>,
    former: String,
    /// Whoever owns them, as they say; empty before they are read.
    owner: String,
    /// The password that was typed lately, sealed.
    kept: String,
    groups: Vec<Group>,
    roles: Vec<&'static str>,
}

fn kept(fields: &Fields) -> Option<SecretRef> {
    fields.get("kept").parse::<Uuid>().ok().map(SecretRef)
}

/// The site at which hosts with addresses like theirs are, else the first.
fn near(view: &View, targets: &[TargetRow]) -> String {
    let net = |address: &str| address.rsplit_once('.').map(|(net, _)| net.to_owned());
    let theirs = targets.first().and_then(|t| net(&t.address));
    let mut ours = view.estate.hosts.values();
    let beside = ours.find(|h| theirs.is_some() && net(&h.access.address) == theirs);
    let site = beside.and_then(|h| view.estate.sites.get(&h.site));
    let first = || view.estate.sites.values().next();
    site.or_else(first)
        .map_or_else(String::new, |s| s.name.clone())
}

/// What was chosen for a network, by its name.
fn roles(fields: &Fields) -> BTreeMap<String, NetRole> {
    let role = |word: &str| NetRole::ALL.into_iter().find(|r| r.word() == word);
    let all = fields.under("role:");
    all.filter_map(|(name, word)| Some((name.to_owned(), role(word)?)))
        .collect()
}

fn ask(targets: &[TargetRow], site: &str, fields: &Fields) -> TakeOver {
    TakeOver {
        hosts: endpoints(targets),
        password: match kept(fields) {
            Some(kept) => Password::Kept(kept),
            None if fields.secret("password").is_empty() => Password::Missing,
            None => Password::Typed,
        },
        site: site.into(),
        name: fields.get("name").into(),
        former: fields.get("former").into(),
        roles: roles(fields),
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let targets = targets(view, fields);
    let sites: Vec<String> = view.estate.sites.values().map(|s| s.name.clone()).collect();
    let site = fields.or("site", &near(view, &targets));
    let ask = ask(&targets, &site, fields);
    // As it was read last; the checks beside it say whether that is too long ago.
    let plan = taking::plan(view, Moment(0), &ask);
    let first = plan.hosts.first();
    let shown = TakeOverFields {
        targets,
        name: fields.get("name").to_owned(),
        site,
        sites,
        former: fields.get("former").to_owned(),
        owner: first.map_or_else(String::new, |h| h.former.name.clone()),
        kept: kept(fields).map_or_else(String::new, |k| k.0.to_string()),
        groups: table::groups(&plan),
        roles: NetRole::ALL.into_iter().map(NetRole::word).collect(),
    };
    let hosts = ask.hosts.len();
    Filled {
        title: "Take over a cluster".into(),
        lead: "What its hosts have is read first, and nothing is written. What runs goes on running when they change their owner.".into(),
        run: format!("Run: take over {hosts} {}", if hosts == 1 { "host" } else { "hosts" }),
        danger: true,
        back: "/hosts/look".into(),
        fields: render(&shown),
        ask: Proposal::Taking(Ask::TakeOver(Box::new(ask))),
        wrong: vec![],
    }
}

/// Who answers at the addresses that were chosen, and what they have, where it was read before.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        if !fields.has("sent") {
            desk.greet(&addresses(fields)).await;
        }
        if let Some(kept) = kept(fields) {
            desk.take_stock(&pairs(fields), kept, false).await;
        }
    })
}

/// The hosts that are chosen, each with the certificate that was shown.
fn pairs(fields: &Fields) -> Vec<(String, String)> {
    let pin = |at: &str| fields.get(&format!("pin:{at}")).to_owned();
    let chosen = fields.all("host");
    chosen.map(|at| (at.to_owned(), pin(at))).collect()
}

/// Reads the hosts with the password that was typed; once it is typed it is kept for a while.
pub(crate) fn look<'a>(
    desk: &'a AtDesk,
    signed: &'a Signed,
    mut fields: Fields,
) -> BoxFuture<'a, (Fields, Vec<Wrong>)> {
    Box::pin(async move {
        let typed = fields.secret("password").to_owned();
        if !typed.is_empty() {
            match desk.lend_secret(&signed.viewer, &typed).await {
                Ok(kept) => fields.set("kept", Some(kept.0.to_string())),
                Err(words) => return (fields, vec![("password".into(), words)]),
            }
        }
        let Some(kept) = kept(&fields) else {
            let words = "Type the password that opens the hosts themselves.";
            return (fields, vec![("password".into(), words.into())]);
        };
        desk.greet(&addresses(&fields)).await;
        desk.take_stock(&pairs(&fields), kept, true).await;
        (fields, vec![])
    })
}
