//! Search and commands in one field.

use super::{AtDesk, Page, Query, Signed, part};
use askama::Template;
use rocket::get;
use zastrugi_core::{estate::Estate, permits::Act};

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
const COMMANDS: [(&str, &str, Act); 19] = [
    ("create machines", "/sheet/new-machines", Act::Machines),
    ("find hosts", "/hosts/look", Act::Hosts),
    ("create a cluster", "/sheet/new-cluster", Act::Clusters),
    ("go to the field", "/", Act::Look),
    ("go to hosts", "/hosts", Act::Look),
    ("go to machines", "/machines", Act::Look),
    ("connect an array", "/sheet/connect-array", Act::Storage),
    ("connect a volume", "/sheet/connect-volume", Act::Storage),
    ("add an image", "/sheet/add-image", Act::Storage),
    ("go to storage", "/storage", Act::Look),
    ("create a network", "/sheet/new-network", Act::Storage),
    ("connect a switch", "/sheet/connect-switch", Act::Storage),
    ("go to networks", "/networks", Act::Look),
    ("go to the logbook", "/logbook", Act::Look),
    ("look at events", "/logbook/events", Act::Look),
    ("machines that are off", "/machines?state=off", Act::Look),
    ("deleted machines", "/machines?state=deleted", Act::Look),
    ("people", "/settings/people", Act::People),
    ("settings, theme, password", "/settings", Act::Look),
];
/// (words, the link before the machines' numbers, who may)
type Verb = (&'static str, &'static str, Act);
/// What can be said to machines.
const VERBS: [Verb; 7] = [
    ("console", "/consoles?ids=", Act::Look),
    ("screen", "/screen/", Act::Look),
    ("move", "/sheet/move?ids=", Act::Machines),
    ("power on", "/sheet/power?act=on&ids=", Act::Machines),
    ("power off", "/sheet/power?act=off&ids=", Act::Machines),
    ("restart", "/sheet/power?act=restart&ids=", Act::Machines),
    ("stop", "/sheet/power?act=stop&ids=", Act::Machines),
];
const MOST: usize = 8;
/// Machines that a spoken word may be about at once.
const ALL: usize = 200;

/// `move db` and the like: each machine of that name with what shall be done to it.
fn spoken(signed: &Signed, estate: &Estate, q: &str) -> Vec<Hit> {
    let said = VERBS.iter().filter(|v| signed.may(v.2)).find_map(|verb| {
        let rest = q.strip_prefix(verb.0)?.strip_prefix(' ')?.trim();
        (!rest.is_empty()).then_some((verb, rest))
    });
    let Some(((words, link, _), name)) = said else {
        return vec![];
    };
    let named = || estate.machines_by_name().filter(|m| m.name.contains(name));
    let hit = |link: String, what: &str| Hit {
        link,
        text: format!("{words} {what}"),
        kind: "do".into(),
    };
    // All that are called so at once, where the place takes several.
    let ids: Vec<String> = named().take(ALL + 1).map(|m| m.id.0.to_string()).collect();
    let together = (2..=ALL).contains(&ids.len()) && link.ends_with('=');
    let all = together.then(|| {
        let what = format!("all {} called “{name}”", ids.len());
        hit(format!("{link}{}", ids.join(",")), &what)
    });
    let each = named().take(MOST);
    let each = each.map(|m| hit(format!("{link}{}", m.id.0), &m.name));
    each.chain(all).collect()
}

#[get("/find")]
pub(crate) fn find(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let q = query.0.get("q").to_lowercase();
    if q.is_empty() {
        return part(&Hits { q, hits: vec![] });
    }
    let view = desk.look();
    let estate = &view.estate;
    let hit = |link: String, text: &str, kind: &str| Hit {
        link,
        text: text.to_owned(),
        kind: kind.to_owned(),
    };
    let commands = COMMANDS
        .iter()
        .filter(|(words, _, act)| words.contains(&q) && signed.may(*act))
        .map(|(words, link, _)| hit((*link).to_owned(), words, "do"));
    let clusters = estate
        .clusters
        .values()
        .filter(|c| c.name.to_lowercase().contains(&q))
        .map(|c| hit(format!("/clusters/{}", c.id.0), &c.name, "cluster"));
    let hosts = estate
        .hosts
        .values()
        .filter(|h| h.name.contains(&q) || h.access.address.contains(&q))
        .take(MOST)
        .map(|h| hit(format!("/hosts/{}", h.id.0), &h.name, "host"));
    let volumes = estate
        .volumes
        .values()
        .filter(|v| v.name.contains(&q))
        .take(MOST)
        .map(|v| hit(format!("/storage/volumes/{}", v.id.0), &v.name, "volume"));
    let images = estate
        .images
        .values()
        .filter(|i| i.name.to_lowercase().contains(&q) || i.label.to_lowercase().contains(&q))
        .take(MOST)
        .map(|i| hit(format!("/storage/images/{}", i.id.0), &i.name, "image"));
    let networks = estate
        .networks
        .values()
        .filter(|n| n.name.contains(&q))
        .take(MOST)
        .map(|n| hit(format!("/networks/{}", n.id.0), &n.name, "network"));
    let arrays = estate
        .arrays
        .values()
        .filter(|a| a.name.to_lowercase().contains(&q))
        .map(|a| hit(format!("/storage/arrays/{}", a.id.0), &a.name, "array"));
    let machines = estate
        .machines_by_name()
        .filter(|m| m.name.contains(&q) || m.nics.iter().any(|n| n.mac == q))
        .take(MOST)
        .map(|m| hit(format!("/machines/{}", m.id.0), &m.name, "machine"));
    let hits = spoken(&signed, estate, &q)
        .into_iter()
        .chain(clusters)
        .chain(hosts)
        .chain(machines)
        .chain(volumes)
        .chain(images)
        .chain(networks)
        .chain(arrays)
        .chain(commands)
        .collect();
    part(&Hits { q, hits })
}
