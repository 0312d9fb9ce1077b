//! Weather: the panel that breaks the demo's devices, and mends them. It is there for an admin, and in the demo alone.

use crate::frame::{
    AtDesk, Fields, Page, Problem, Signed,
    climate::{Climate, Gust, Sky},
    page as whole, part,
    server::WebSettings,
    viewer::MaySettings,
};
use askama::Template;
use rocket::{Route, State, get, post, response::Redirect, routes};
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::estate::{Estate, Host};

pub(crate) fn routes() -> Vec<Route> {
    routes![show, panel_part, blow]
}

struct Device {
    kind: String,
    name: String,
    words: Vec<(String, bool)>,
    broken: bool,
}

/// Hosts that lose their power together.
struct Together {
    words: String,
    names: String,
    broken: bool,
}

#[derive(Template)]
#[template(path = "places/weather/panel.html")]
struct Panel {
    csrf: String,
    hosts: Vec<Device>,
    others: Vec<Device>,
    guests: Vec<Device>,
    /// What the devices stand in: the manager itself, its database.
    house: Vec<Device>,
    guests_ill: bool,
    together: Vec<Together>,
    broken: usize,
}

fn climate(settings: &WebSettings) -> Result<Arc<dyn Climate>, Problem> {
    let found = settings.weather.0.clone();
    found.ok_or_else(|| Problem::not_found("This page"))
}

fn silent(why: String) -> Problem {
    Problem {
        status: rocket::http::Status::BadGateway,
        text: "The devices of the demo do not answer.".into(),
        hint: why,
    }
}

fn device(sky: Sky) -> Device {
    Device {
        broken: sky.words.iter().any(|(_, broken)| *broken),
        kind: sky.kind,
        name: sky.name,
        words: sky.words,
    }
}

/// Sites, racks and feeds with more than one host.
fn together(estate: &Estate, hosts: &[Device]) -> Vec<Together> {
    let off = |name: &str| {
        hosts
            .iter()
            .any(|d| d.name == name && d.words.iter().any(|(w, b)| w == "power" && *b))
    };
    let mut groups: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for host in estate.hosts.values() {
        let site = estate.sites.get(&host.site);
        let site = site.map_or_else(String::new, |s| format!("all of {}", s.name));
        let cluster = host.cluster.and_then(|c| estate.clusters.get(&c));
        let of = cluster.map_or("", |c| c.name.as_str());
        let domains = Host::DOMAINS.iter().filter_map(|kind| {
            let label = host.labels.get(*kind)?;
            Some(format!("{kind} {label} of {of}"))
        });
        for group in domains.chain([site]) {
            groups.entry(group).or_default().push(&host.name);
        }
    }
    let several = groups.into_iter().filter(|(_, names)| names.len() > 1);
    several
        .map(|(words, names)| Together {
            words,
            broken: names.iter().all(|n| off(n)),
            names: names.join(";"),
        })
        .collect()
}

async fn panel(may: &MaySettings, desk: &AtDesk, settings: &WebSettings) -> Result<Panel, Problem> {
    let skies = climate(settings)?.skies().await.map_err(silent)?;
    let all = skies.into_iter().map(device);
    let (hosts, others): (Vec<_>, Vec<_>) = all.partition(|d| d.kind == "host");
    let (guests, others): (Vec<_>, Vec<_>) = others.into_iter().partition(|d| d.kind == "guest");
    let in_house = |d: &Device| ["manager", "database"].contains(&d.kind.as_str());
    let (house, others): (Vec<_>, Vec<_>) = others.into_iter().partition(in_house);
    let all = hosts.iter().chain(&others).chain(&guests);
    let broken = all.filter(|d| d.broken).count();
    Ok(Panel {
        csrf: may.0.csrf.clone(),
        together: together(&desk.look().estate, &hosts),
        hosts,
        others,
        house,
        guests_ill: guests.iter().any(|d| d.broken),
        guests,
        broken,
    })
}

#[get("/weather")]
async fn show(may: MaySettings, desk: &AtDesk, settings: &State<WebSettings>) -> Page {
    let panel = panel(&may, desk, settings).await?;
    whole(&may.0, desk, "weather", "Weather", &panel)
}
#[get("/weather/part")]
async fn panel_part(may: MaySettings, desk: &AtDesk, settings: &State<WebSettings>) -> Page {
    part(&panel(&may, desk, settings).await?)
}

#[post("/weather", data = "<fields>")]
async fn blow(
    may: MaySettings,
    settings: &State<WebSettings>,
    fields: Fields,
) -> Result<Redirect, Problem> {
    let climate = climate(settings)?;
    let by: &Signed = &may.0;
    for name in fields.get("names").split(';').take(MOST) {
        let gust = Gust {
            kind: fields.get("kind").to_owned(),
            name: name.to_owned(),
            word: fields.get("word").to_owned(),
            broken: fields.get("broken") == "yes",
        };
        tracing::info!(who = %by.viewer.name, ?gust, "weather");
        climate.blow(gust).await.map_err(silent)?;
    }
    Ok(Redirect::to("/weather"))
}

/// Devices that one press changes.
const MOST: usize = 64;
