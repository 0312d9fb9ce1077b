//! The server: routes, guards, headers.

use super::{assets, console, find, headers::Headers, live, media, problem, screen, sheet};
use crate::places;
use ipnet::IpNet;
use rocket::http::Status;
use rocket::{Build, Config, Rocket, Route, catchers, config::Shutdown, get, routes};
use serde_json::{Value, json};
use std::net::Ipv4Addr;
use zastrugi_engine::Desk;

use super::{AtDesk, Page, Signed, climate::Weather, headers::OnlyFront, part, shell::Work};
use crate::front::Pace;

/// How the pages are served.
#[derive(Debug, Clone, Default)]
pub struct WebSettings {
    /// A proxy in front does TLS: cookies are Secure.
    pub behind_proxy: bool,
    /// Proxies that are believed about whom they met.
    pub proxies: Vec<IpNet>,
    pub pace: Pace,
    pub weather: Weather,
}

/// What the front says to the pages, and who else says it is not heard.
pub(crate) const FRONT: &str = "x-zastrugi-front";
/// The client's address.
pub(crate) const WHO: &str = "x-zastrugi-client";
/// The number of a request, for the log and for whoever asks about it.
pub(crate) const NUMBER: &str = "x-request-id";
/// What the pages say to the front: whoever asked is signed in.
pub(crate) const KNOWN: &str = "x-zastrugi-known";

/// The pages behind a front in the same process: on loopback, for whoever knows the word.
pub(crate) struct Inner {
    pub(crate) word: String,
}

impl WebSettings {
    /// The cookie by which a browser is known that signed in before.
    pub(crate) fn browser_name(&self) -> &'static str {
        if self.behind_proxy {
            "__Host-zastrugi-browser"
        } else {
            "zastrugi-browser"
        }
    }
    pub(crate) fn cookie_name(&self) -> &'static str {
        if self.behind_proxy {
            "__Host-zastrugi"
        } else {
            "zastrugi"
        }
    }
}

#[get("/healthz")]
fn healthz(desk: &AtDesk) -> (Status, rocket::serde::json::Json<Value>) {
    let health = desk.health();
    let status = if health.broken {
        Status::ServiceUnavailable
    } else {
        Status::Ok
    };
    let body = rocket::serde::json::Json(json!({
        "version": env!("CARGO_PKG_VERSION"),
        "database": if health.database { "answers" } else { "does not answer" },
        "writes": if health.writes { "are taken" } else { "are not taken" },
        "revision": health.revision.0,
        "leads": health.leads,
        "engine": if health.broken { "a part of it ended" } else { "works" },
        "held": health.held,
        "stands_by": desk.stands_by(),
    }));
    (status, body)
}

/// Whether this process can do its work now: whoever spreads requests asks here.
#[get("/readyz")]
fn readyz(desk: &AtDesk) -> (Status, &'static str) {
    let health = desk.health();
    if health.broken {
        return (Status::ServiceUnavailable, "a part of it ended\n");
    }
    if desk.stands_by() {
        return (Status::ServiceUnavailable, "stands by\n");
    }
    match (health.database, health.writes) {
        (true, true) => (Status::Ok, "ready\n"),
        (true, false) => (Status::ServiceUnavailable, "the database takes no writes\n"),
        (false, _) => (Status::ServiceUnavailable, "the database does not answer\n"),
    }
}

#[get("/work")]
fn work(signed: Signed, desk: &AtDesk) -> Page {
    part(&Work::new(&signed, desk))
}

fn all_routes() -> Vec<Route> {
    let mut all = routes![
        assets::file,
        assets::favicon,
        healthz,
        readyz,
        media::read,
        work,
        find::find,
        live::live,
        live::now,
        console::show,
        console::ticket,
        console::open,
        console::several,
        screen::show,
        screen::ticket,
        screen::open,
        screen::picture,
        screen::kept,
        sheet::open,
        sheet::send
    ];
    all.extend(places::routes());
    all
}

/// All pages, not yet listening. Behind a front they listen on loopback, wherever there is room.
pub fn pages(desk: Desk, settings: WebSettings) -> Rocket<Build> {
    build(desk, settings, None)
}

pub(crate) fn build(desk: Desk, settings: WebSettings, inner: Option<Inner>) -> Rocket<Build> {
    let config = Config {
        address: Ipv4Addr::LOCALHOST.into(),
        port: 0,
        ip_header: inner.is_some().then_some(WHO.into()),
        log_level: rocket::config::LogLevel::Critical,
        cli_colors: false,
        ident: rocket::config::Ident::none(),
        shutdown: Shutdown {
            grace: 1,
            mercy: 1,
            ..Shutdown::default()
        },
        ..Config::default()
    };
    rocket::custom(config)
        .manage(desk)
        .manage(settings)
        .manage(live::Streams::default())
        .manage(console::Looks::default())
        .attach(Headers)
        .attach(OnlyFront(inner.map(|i| i.word)))
        .register(
            "/",
            catchers![
                problem::unauthorized,
                problem::forbidden,
                problem::not_found,
                problem::away,
                problem::other
            ],
        )
        .mount("/", all_routes())
}
