//! Who speaks to whom, for whoever makes the firewalls: a page, CSV and plain text.

use crate::frame::{AtDesk, Page, Query, Signed, page as whole, part};
use askama::Template;
use rocket::{get, http::ContentType};
use zastrugi_core::{
    estate::NetRole,
    flows::{Flow, Own, Side, flows},
};

struct Row {
    from: String,
    from_count: String,
    to: String,
    to_count: String,
    port: String,
    why: &'static str,
}

struct Role {
    word: &'static str,
    rows: Vec<Row>,
}

#[derive(Template)]
#[template(path = "places/networks/flows.html")]
struct Flows {
    query: String,
    q: String,
    roles: Vec<Role>,
    count: usize,
}

/// All of them, or those in which somebody is called so.
fn wanted(desk: &AtDesk, q: &str) -> Vec<Flow> {
    let own = Own {
        media: desk.media_port(),
    };
    let mut all = flows(&desk.look().estate, own);
    let q = q.to_lowercase();
    let named = |side: &Side| {
        side.who.to_lowercase().contains(&q) || side.addresses.iter().any(|a| a.contains(&q))
    };
    all.retain(|f| q.is_empty() || named(&f.from) || named(&f.to));
    all
}

/// `10.1.1.5`, or how many.
fn count(side: &Side) -> String {
    match side.addresses.as_slice() {
        [] => String::new(),
        [one] => one.clone(),
        many => format!("{} addresses", many.len()),
    }
}

fn row(flow: &Flow) -> Row {
    Row {
        from: flow.from.who.clone(),
        from_count: count(&flow.from),
        to: flow.to.who.clone(),
        to_count: count(&flow.to),
        port: format!("{} {}", flow.protocol.word(), flow.port.words()),
        why: flow.why,
    }
}

fn build(desk: &AtDesk, query: &Query) -> Flows {
    let q = query.0.get("q").to_owned();
    let all = wanted(desk, &q);
    let of = |role: NetRole| Role {
        word: role.word(),
        rows: all.iter().filter(|f| f.role == role).map(row).collect(),
    };
    let roles = NetRole::ALL.into_iter().map(of);
    Flows {
        query: query.0.with("", ""),
        count: all.len(),
        roles: roles.filter(|r| !r.rows.is_empty()).collect(),
        q,
    }
}

#[get("/networks/flows")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let body = build(desk, &query);
    whole(&signed, desk, "networks", "Who speaks to whom", &body)
}
#[get("/networks/flows/part")]
pub(crate) fn flows_part(_signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(desk, &query))
}

#[get("/networks/flows.csv")]
pub(crate) fn csv(_signed: Signed, desk: &AtDesk, query: Query) -> (ContentType, String) {
    let all = wanted(desk, query.0.get("q"));
    let rows = all.iter().map(|f| {
        [
            f.role.word().to_owned(),
            f.from.who.clone(),
            f.from.addresses.join(" "),
            f.to.who.clone(),
            f.to.addresses.join(" "),
            f.protocol.word().to_owned(),
            f.port.words(),
            f.why.to_owned(),
        ]
    });
    let head = [
        "network",
        "from",
        "from addresses",
        "to",
        "to addresses",
        "protocol",
        "port",
        "what for",
    ];
    (ContentType::CSV, zastrugi_formats::csv::write(head, rows))
}

/// A line for each, to be read or worked on by other programs.
#[get("/networks/flows.txt")]
pub(crate) fn text(_signed: Signed, desk: &AtDesk, query: Query) -> (ContentType, String) {
    let all = wanted(desk, query.0.get("q"));
    let mut out = String::new();
    for flow in &all {
        let end = |side: &Side| match side.addresses.as_slice() {
            [] => "this-manager".to_owned(),
            many => many.join(","),
        };
        out.push_str(&format!(
            "# {} to {}: {} ({})\n{} {} -> {} port {}\n",
            flow.from.who,
            flow.to.who,
            flow.why,
            flow.role.word(),
            flow.protocol.word(),
            end(&flow.from),
            end(&flow.to),
            flow.port.words()
        ));
    }
    (ContentType::Plain, out)
}
