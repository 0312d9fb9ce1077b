//! What a person asks for before anything is built: which controllers there are, and what is beneath them. The certificate of each
//! is shown before a password is sent to it.

use super::{expand, file, networks, rows};
use crate::frame::{AtDesk, Fields, Signed, consequences::Wrong};
use futures::future::BoxFuture;
use uuid::Uuid;
use zastrugi_core::{ids::SecretRef, view::View};

pub(crate) fn look<'a>(
    desk: &'a AtDesk,
    signed: &'a Signed,
    fields: Fields,
) -> BoxFuture<'a, (Fields, Vec<Wrong>)> {
    Box::pin(async move {
        match fields.get("look") {
            "find" => find(desk, fields).await,
            "beneath" => beneath(desk, signed, fields).await,
            "load" => file::load(&desk.look(), fields),
            "lines" => file::paste(fields),
            "like" => (like(&desk.look(), fields), vec![]),
            _ => (fields, vec![]),
        }
    })
}

/// What another cluster promises and asks; its networks are read where the fields are filled.
fn like(view: &View, mut fields: Fields) -> Fields {
    let Some(cluster) = networks::like(view, &fields) else {
        return fields;
    };
    let tick = |on: bool| on.then(|| "on".to_owned());
    fields.set("level", Some(cluster.cpu_level.word().to_owned()));
    fields.set("survive", tick(cluster.demand.failures > 0));
    fields.set("enforced", tick(cluster.demand.enforced));
    fields.set("keepers", tick(cluster.keeping.is_some()));
    if !cluster.time.is_empty() {
        fields.set("time", Some(cluster.time.join(", ")));
    }
    if let Some(site) = view.estate.sites.get(&cluster.site) {
        fields.set("site", Some(site.name.clone()));
    }
    fields
}

async fn find(desk: &AtDesk, mut fields: Fields) -> (Fields, Vec<Wrong>) {
    let range = fields.get("range").to_owned();
    let found = match desk.controllers(&range).await {
        Ok(found) => found,
        Err(error) => return (fields, vec![("range".into(), error.to_string())]),
    };
    let view = desk.look();
    let ours = |at: &str| {
        view.estate
            .hosts
            .values()
            .any(|h| h.bmc.as_ref().is_some_and(|b| b.address == at))
    };
    let mut new = 0;
    let known: Vec<String> = fields.all("at").map(str::to_owned).collect();
    for (at, _, pin) in found.into_iter().filter(|(at, ..)| !ours(at)) {
        new += 1;
        if !known.contains(&at) {
            fields.set(&format!("pin:{at}"), Some(pin));
            fields.add("at", &at);
            fields.add("take", &at);
        }
    }
    let wrong = match new {
        0 => vec![(
            "range".into(),
            format!(
                "No controller that is not claimed answers in {}.",
                range.trim()
            ),
        )],
        _ => vec![],
    };
    (fields, wrong)
}

async fn beneath(desk: &AtDesk, signed: &Signed, mut fields: Fields) -> (Fields, Vec<Wrong>) {
    let typed = fields.secret("password").to_owned();
    if !typed.is_empty() {
        match desk.lend_secret(&signed.viewer, &typed).await {
            Ok(kept) => fields.set("kept", Some(kept.0.to_string())),
            Err(words) => return (fields, vec![("password".into(), words)]),
        }
    }
    let Some(kept) = fields.get("kept").parse::<Uuid>().ok().map(SecretRef) else {
        return (
            fields,
            vec![(
                "password".into(),
                "Type the password of the controllers.".into(),
            )],
        );
    };
    let user = fields.or("user", "operator");
    let pairs: Vec<(String, String)> = fields
        .all("take")
        .map(|at| (at.to_owned(), fields.get(&format!("pin:{at}")).to_owned()))
        .collect();
    desk.look_beneath(&pairs, &user, kept).await;
    let view = desk.look();
    let usual = rows::Usual::of(&fields, expand::into(&view, &fields).as_ref());
    let looked = rows::Looked {
        user: &user,
        kept: Some(kept),
        usual: &usual,
    };
    let rows = rows::rows(&view, &fields, &looked, &mut vec![]);
    let addresses: Vec<String> = rows
        .iter()
        .filter(|r| r.take)
        .filter_map(rows::HostRow::agent)
        .collect();
    desk.before_installing(&addresses).await;
    (fields, vec![])
}
