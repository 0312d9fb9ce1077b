//! Events: filtered, in pages, and as CSV.

use crate::frame::{AtDesk, Page, Problem, Query, Signed, page as whole, time as shown};
use askama::Template;
use rocket::{
    get,
    http::{ContentType, Header},
};
use zastrugi_core::{moment::Moment, road::KINDS};
use zastrugi_engine::{EventFilter, EventRow};

struct EventView {
    at: String,
    who: String,
    kind: String,
    text: String,
    run: Option<u64>,
    picture: Option<String>,
}

#[derive(Template)]
#[template(path = "places/logbook/events.html")]
struct Events {
    rows: Vec<EventView>,
    q: String,
    kind: String,
    who: String,
    about: String,
    kinds: [&'static str; 13],
    from: String,
    until: String,
    csv: String,
    next: Option<String>,
}

const WINDOW: i64 = 100;
/// The most lines of one export.
const EXPORT: i64 = 10_000;

fn filter(query: &Query) -> EventFilter {
    let at = query.0.get("before").split_once('.');
    EventFilter {
        text: query.0.get("q").into(),
        kind: query.0.get("kind").into(),
        who: query.0.get("who").into(),
        about: query.0.get("about").into(),
        from: day(query, "from", 0),
        until: day(query, "until", 1),
        before: at.and_then(|(r, n)| Some((r.parse().ok()?, n.parse().ok()?))),
    }
}

/// The beginning of a day that was typed, or of one some days later, where the person is: `zone` minutes behind UTC.
fn day(query: &Query, field: &str, later: i64) -> Option<Moment> {
    let format = time::macros::format_description!("[year]-[month]-[day]");
    let date = time::Date::parse(query.0.get(field), format).ok()?;
    let zone: i64 = query
        .0
        .get("zone")
        .parse()
        .ok()
        .filter(|z: &i64| z.abs() <= 24 * 60)
        .unwrap_or(0);
    let midnight = date.midnight().assume_utc().unix_timestamp() + zone * 60 + later * 86_400;
    Some(Moment(midnight * 1000))
}

/// The kept picture that an event is about.
pub(super) fn picture(about: &[String]) -> Option<String> {
    let id = about.iter().find_map(|a| a.strip_prefix("picture-"))?;
    Some(id.to_owned())
}

fn view(e: EventRow) -> EventView {
    EventView {
        picture: picture(&e.about),
        at: shown(e.at),
        who: e.who,
        kind: e.kind,
        text: e.text,
        run: e.run.map(|r| r.0),
    }
}

#[get("/logbook/events")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let rows = desk.events(&filter(&query), WINDOW).await?;
    let full = i64::try_from(rows.len()).unwrap_or(0) == WINDOW;
    let next = rows
        .last()
        .filter(|_| full)
        .map(|e| query.0.with("before", &format!("{}.{}", e.revision, e.n)));
    let events = Events {
        rows: rows.into_iter().map(view).collect(),
        q: query.0.get("q").into(),
        kind: query.0.get("kind").into(),
        who: query.0.get("who").into(),
        about: query.0.get("about").into(),
        kinds: KINDS,
        from: query.0.get("from").into(),
        until: query.0.get("until").into(),
        csv: query.0.with("before", ""),
        next,
    };
    whole(&signed, desk, "logbook", "Events", &events)
}

/// A file to save, of a kind.
#[derive(rocket::Responder)]
pub(crate) struct Saved {
    body: String,
    kind: ContentType,
    name: Header<'static>,
}

#[get("/logbook/events.csv")]
pub(crate) async fn csv(_signed: Signed, desk: &AtDesk, query: Query) -> Result<Saved, Problem> {
    let rows = desk.events(&filter(&query), EXPORT).await?;
    let lines = rows.into_iter().map(|e| {
        let run = e.run.map_or_else(String::new, |r| r.to_string());
        [
            zastrugi_formats::csv::utc(e.at.0),
            e.who,
            e.kind,
            e.text,
            run,
            e.revision.to_string(),
        ]
    });
    let body = zastrugi_formats::csv::write(
        ["time (UTC)", "who", "kind", "what", "run", "revision"],
        lines,
    );
    Ok(Saved {
        body,
        kind: ContentType::CSV,
        name: Header::new(
            "Content-Disposition",
            "attachment; filename=\"zastrugi-events.csv\"",
        ),
    })
}
