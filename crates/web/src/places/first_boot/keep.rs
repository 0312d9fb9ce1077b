//! The sheet that keeps a version of a document.

use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    endpoint::Password,
    estate::Edition,
    ids::FirstBootId,
    rooms::{
        Proposal,
        first_boot::{Ask, Keep},
    },
    text::Line,
    view::View,
};

#[derive(Template)]
#[template(path = "places/first_boot/keep.html")]
struct KeepFields {
    /// 0: a new document.
    of: u64,
    name: String,
    host_name: String,
    user: String,
    keys: String,
    /// Whether a password of this user is kept.
    kept: bool,
    no_password: bool,
    dns: String,
    search: String,
    zone: String,
    commands: String,
}

fn lines(text: &str) -> Vec<Line> {
    let all = text.lines().map(str::trim).filter(|l| !l.is_empty());
    all.map(Line::from).collect()
}

fn words(text: &str) -> Vec<Line> {
    let all = text.split(|c: char| c == ',' || c.is_whitespace());
    all.filter(|w| !w.is_empty()).map(Line::from).collect()
}

/// What stands in a form that nobody has filled in yet: a version, as text.
fn texts(edition: &Edition) -> KeepFields {
    let user = edition.user.as_ref();
    let dns: Vec<String> = edition.dns.iter().map(ToString::to_string).collect();
    KeepFields {
        of: 0,
        name: String::new(),
        host_name: edition.host_name.clone(),
        user: user.map_or_else(String::new, |u| u.name.clone()),
        keys: user.map_or_else(String::new, |u| u.keys.join("\n")),
        kept: user.is_some_and(|u| u.password.is_some()),
        no_password: false,
        dns: dns.join(", "),
        search: edition.search.join(", "),
        zone: edition.zone.clone(),
        commands: edition.commands.join("\n"),
    }
}

fn empty() -> KeepFields {
    KeepFields {
        of: 0,
        name: String::new(),
        host_name: "{name}".into(),
        user: String::new(),
        keys: String::new(),
        kept: false,
        no_password: false,
        dns: String::new(),
        search: String::new(),
        zone: String::new(),
        commands: String::new(),
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let of = fields
        .get("of")
        .parse()
        .ok()
        .filter(|n| *n > 0)
        .map(FirstBootId);
    let document = of.and_then(|id| view.estate.first_boots.get(&id));
    let before = document.and_then(|d| d.newest());
    let had = before.map_or_else(empty, texts);
    let user = fields.or("user", &had.user);
    let shown = KeepFields {
        of: of.map_or(0, |id| id.0),
        name: fields.get("name").into(),
        host_name: fields.or("host_name", &had.host_name),
        keys: fields.or("keys", &had.keys),
        kept: had.kept && user == had.user,
        no_password: fields.ticked("no_password", false),
        dns: fields.or("dns", &had.dns),
        search: fields.or("search", &had.search),
        zone: fields.or("zone", &had.zone),
        commands: fields.or("commands", &had.commands),
        user,
    };
    let ask = Keep {
        of,
        name: (&shown.name).into(),
        host_name: (&shown.host_name).into(),
        user: (&shown.user).into(),
        keys: lines(&shown.keys),
        password: match fields.secret("password") {
            "" => Password::Missing,
            _ => Password::Typed,
        },
        no_password: shown.no_password,
        dns: words(&shown.dns),
        search: words(&shown.search),
        zone: (&shown.zone).into(),
        commands: lines(&shown.commands),
    };
    let (title, back) = match document {
        Some(d) => (
            format!("Next version of {}", d.name),
            format!("/first-boot/{}", d.id.0),
        ),
        None => (
            "New first-boot document".to_owned(),
            "/first-boot".to_owned(),
        ),
    };
    Filled {
        title,
        lead: "What guests are told once, when their machine starts for the first time. A version is never changed.".into(),
        run: "Run: keep it".into(),
        danger: false,
        back,
        fields: render(&shown),
        ask: Proposal::FirstBoot(Ask::Keep(Box::new(ask))),
        wrong: vec![],
    }
}
