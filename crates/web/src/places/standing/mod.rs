//! Managers at other sites: who stands by, what one that stands by has received, taking over, and letting go afterwards what is
//! begun by itself.

mod strip;

pub(crate) use strip::Strip;

use crate::frame::{
    AtDesk, Fields, Page, Problem, Query, Signed, ago, page, time, viewer::MaySettings,
};
use askama::Template;
use rocket::{Route, get, http::Status, post, response::Redirect, routes};
use zastrugi_core::{estate::Condition, moment::Moment, rooms::hosts::NOT_KNOWN, units::Bytes};
use zastrugi_engine::{EventFilter, Link, Reception, StandBy, TakeOverError};

pub(crate) fn routes() -> Vec<Route> {
    routes![show, strip::strip, take_over, let_go]
}

/// Who stands by, for the page.
struct Other {
    glyph: &'static str,
    name: String,
    state: String,
}

impl Other {
    fn of(stand_by: &StandBy) -> Other {
        let behind = Bytes(stand_by.behind);
        let (glyph, state) = match stand_by.link {
            Link::Follows if stand_by.behind < 1 << 20 => ("steady", "follows".to_owned()),
            Link::Follows => ("steady", format!("follows, {behind} behind")),
            Link::Away => ("mind", format!("away; {behind} are kept for it")),
            Link::Lost => (
                "down",
                "was away for longer than is kept for it: invite it again".to_owned(),
            ),
            Link::Expected => ("unknown", "is invited, and has not come yet".to_owned()),
        };
        Other {
            glyph,
            name: stand_by.name.clone(),
            state,
        }
    }
}

/// What a stand-by has received, and what taking over would mean.
struct Here {
    revision: u64,
    receives: Option<bool>,
    beat: String,
    /// The manager was heard lately: it may work.
    lives: bool,
    hosts: usize,
    under_way: usize,
    may: bool,
    installation: String,
    typed: String,
    wrong: String,
}

/// A manager that took over, until somebody let go what is begun by itself.
struct After {
    history: String,
    at: u64,
    held: bool,
    silent: Vec<(u64, String)>,
    /// So many more are silent than are named.
    unnamed: usize,
    hosts: usize,
    /// Hosts that were told more than is known here, with when that was found.
    more: Vec<(String, String)>,
}

#[derive(Template)]
#[template(path = "places/standing/standing.html")]
struct Standing {
    csrf: String,
    said: &'static str,
    others: Vec<Other>,
    here: Option<Here>,
    after: Option<After>,
    /// Why this manager gives no orders; empty: it does.
    held: String,
    may_settings: bool,
}

/// Lines of the Logbook that the page shows itself.
const LINES: i64 = 40;
/// Hosts that were not heard are named up to here.
const NAMED: usize = 40;
/// A manager writes every 5 s that it is there.
const LATELY: i64 = 20_000;

fn lives(now: Moment, received: Reception) -> bool {
    received.beat.is_some_and(|at| now.0 - at.0 < LATELY)
}

async fn here(
    signed: &Signed,
    desk: &AtDesk,
    fields: &Fields,
    wrong: &str,
) -> Result<Option<Here>, Problem> {
    let Some(received) = desk
        .standing()
        .received
        .or(desk.stands_by().then(Reception::default))
    else {
        return Ok(None);
    };
    let (view, now) = (desk.look(), desk.now());
    Ok(Some(Here {
        revision: view.estate.revision.0,
        receives: received.receives,
        beat: received.beat.map_or_else(
            || "never".to_owned(),
            |at| format!("{} ({})", ago(now, at), time(at)),
        ),
        lives: lives(now, received),
        hosts: view.estate.hosts.len(),
        under_way: view.runs.len(),
        may: desk.may_take_over(&signed.viewer).await?,
        installation: desk.installation(),
        typed: fields.get("typed").to_owned(),
        wrong: wrong.to_owned(),
    }))
}

async fn after(desk: &AtDesk) -> Result<Option<After>, Problem> {
    let begun = desk.begun();
    let held = desk.automation_held().is_some();
    if begun.at.0 == 0 || desk.stands_by() {
        return Ok(None);
    }
    let estate = desk.look().estate;
    let silent = estate
        .hosts
        .values()
        .filter(|h| !matches!(h.condition, Condition::Steady))
        .map(|h| (h.id.0, h.name.clone()));
    let mut silent: Vec<(u64, String)> = silent.collect();
    let unnamed = silent.len().saturating_sub(NAMED);
    silent.truncate(NAMED);
    let filter = EventFilter {
        kind: "history".into(),
        text: NOT_KNOWN.into(),
        ..EventFilter::default()
    };
    let lines = desk.events(&filter, LINES).await?;
    let ours = lines.into_iter().filter(|l| l.revision > begun.at.0);
    let now = desk.now();
    Ok(Some(After {
        history: begun.epoch.to_string(),
        at: begun.at.0,
        held,
        silent,
        unnamed,
        hosts: estate.hosts.len(),
        more: ours.map(|l| (ago(now, l.at), l.text)).collect(),
    }))
}

async fn standing(
    signed: &Signed,
    desk: &AtDesk,
    said: &'static str,
    fields: &Fields,
    wrong: &str,
) -> Page {
    let body = Standing {
        csrf: signed.csrf.clone(),
        said,
        others: desk.standing().stand_bys.iter().map(Other::of).collect(),
        here: here(signed, desk, fields, wrong).await?,
        after: after(desk).await?,
        held: desk.health().held.unwrap_or_default(),
        may_settings: signed.may(zastrugi_core::permits::Act::Settings),
    };
    page(signed, desk, "settings", "Stand-by", &body)
}

#[get("/settings/stand-by")]
async fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let said = match query.0.get("done") {
        "let-go" => "What is begun by itself is begun again.",
        _ => "",
    };
    standing(&signed, desk, said, &Fields::default(), "").await
}

/// Shown while the process begins anew.
#[derive(Template)]
#[template(path = "places/standing/taking.html")]
struct Taking;

#[post("/settings/take-over", data = "<fields>")]
async fn take_over(signed: Signed, desk: &AtDesk, fields: Fields) -> Result<Page, (Status, Page)> {
    let wrong = match desk.take_over(&signed.viewer, fields.get("typed")).await {
        Ok(()) => return Ok(page(&signed, desk, "settings", "Taking over", &Taking)),
        Err(TakeOverError::NotAllowed) => {
            return Err((Status::Forbidden, Err(Problem::not_allowed())));
        }
        Err(TakeOverError::Leads) => {
            let problem = Problem {
                status: Status::Conflict,
                text: "This manager does not stand by.".into(),
                hint: "It gives orders already.".into(),
            };
            return Err((Status::Conflict, Err(problem)));
        }
        Err(TakeOverError::Typed(name)) => format!("Type {name}, as it stands above."),
        Err(TakeOverError::Store(error)) => {
            tracing::error!(error = %error.detail(), "this manager did not take over");
            format!("It did not take over: {error}. Look at the log, and try again.")
        }
    };
    let again = standing(&signed, desk, "", &fields, &wrong).await;
    Err((Status::UnprocessableEntity, again))
}

#[post("/settings/let-go", data = "<_fields>")]
async fn let_go(
    may: MaySettings,
    desk: &AtDesk,
    _fields: Fields,
) -> Result<Redirect, (Status, Page)> {
    match desk.let_go(&may.0.viewer).await {
        Ok(()) => Ok(Redirect::to("/settings/stand-by?done=let-go")),
        Err(error) => {
            tracing::warn!(%error, "what is begun by itself was not let go");
            let problem = Problem {
                status: Status::ServiceUnavailable,
                text: format!("Nothing was changed: {error}."),
                hint: "Try again.".into(),
            };
            Err((Status::ServiceUnavailable, Err(problem)))
        }
    }
}
