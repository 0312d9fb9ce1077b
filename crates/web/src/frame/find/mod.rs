//! Search and commands in one field.

mod things;
mod verbs;

use super::{AtDesk, Page, Query, Signed, part};
use askama::Template;
use rocket::get;
use things::Thing;
use zastrugi_core::permits::Act;

/// Something that is found, or can be done.
struct Hit {
    link: String,
    text: String,
    kind: String,
}

#[derive(Template)]
#[template(path = "frame/find_hits.html")]
struct Hits {
    q: String,
    hits: Vec<Hit>,
}

/// (words, link, who may)
const COMMANDS: [(&str, &str, Act); 24] = [
    ("create machines", "/sheet/new-machines", Act::Machines),
    ("find hosts", "/hosts/look", Act::Hosts),
    ("record fault domains", "/sheet/fault-domains", Act::Hosts),
    ("create a cluster", "/sheet/new-cluster", Act::Clusters),
    (
        "build a cluster from bare hosts",
        "/sheet/build",
        Act::Clusters,
    ),
    ("go to the field", "/", Act::Look),
    ("go to hosts", "/hosts", Act::Look),
    ("go to machines", "/machines", Act::Look),
    ("connect an array", "/sheet/connect-array", Act::Storage),
    ("connect a volume", "/sheet/connect-volume", Act::Storage),
    ("add an image", "/sheet/add-image", Act::Images),
    ("go to storage", "/storage", Act::Look),
    ("create a network", "/sheet/new-network", Act::Storage),
    ("connect a switch", "/sheet/connect-switch", Act::Storage),
    ("go to networks", "/networks", Act::Look),
    ("go to protect", "/protect", Act::Look),
    ("plan a recovery", "/sheet/plan", Act::Plans),
    ("go to the logbook", "/logbook", Act::Look),
    ("look at events", "/logbook/events", Act::Look),
    ("machines that are off", "/machines?state=off", Act::Look),
    (
        "machines that should be on",
        "/machines?state=fell",
        Act::Look,
    ),
    ("deleted machines", "/machines?state=deleted", Act::Look),
    ("people", "/settings/people", Act::People),
    ("settings, theme, password", "/settings", Act::Look),
];
/// Of each kind.
const MOST: usize = 8;

#[get("/find")]
pub(crate) fn find(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let typed = query.0.get("q").to_owned();
    let q = typed.to_lowercase();
    if q.is_empty() {
        let hits = vec![];
        return part(&Hits { q: typed, hits });
    }
    let view = desk.look();
    let said = verbs::said(&signed, &view.estate, &q);
    let things = things::found(&view, &q).into_iter().map(Thing::hit);
    let commands = COMMANDS
        .iter()
        .filter(|(words, _, act)| words.contains(&q) && signed.may(*act))
        .map(|(words, link, _)| Hit {
            link: (*link).to_owned(),
            text: (*words).to_owned(),
            kind: "do".into(),
        });
    let hits = said.into_iter().chain(things).chain(commands).collect();
    part(&Hits { q: typed, hits })
}
