//! The server: routes, guards, headers.

use super::{assets, console, find, headers::Headers, live, problem, screen, sheet};
use crate::places;
use rocket::http::Status;
use rocket::{Build, Config, Rocket, Route, catchers, config::Shutdown, get, routes};
use serde_json::{Value, json};
use std::net::IpAddr;
use zastrugi_engine::Desk;

use super::{AtDesk, Page, Signed, part, shell::Work};

/// How the pages are served.
#[derive(Debug, Clone)]
pub struct WebSettings {
    pub address: IpAddr,
    pub port: u16,
    /// A proxy in front does TLS: cookies are Secure.
    pub behind_proxy: bool,
}

impl WebSettings {
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
        "revision": health.revision.0,
        "leads": health.leads,
        "engine": if health.broken { "a part of it ended" } else { "works" },
        "held": health.held,
    }));
    (status, body)
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
        work,
        find::find,
        live::live,
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

/// The whole web server, not yet listening.
pub fn build(desk: Desk, settings: WebSettings) -> Rocket<Build> {
    let config = Config {
        address: settings.address,
        port: settings.port,
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
        .attach(Headers)
        .register(
            "/",
            catchers![
                problem::unauthorized,
                problem::forbidden,
                problem::not_found,
                problem::other
            ],
        )
        .mount("/", all_routes())
}
