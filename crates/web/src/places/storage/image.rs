//! One image: what it is, who uses it, and its bytes while they arrive.

use crate::{
    frame::{
        AtDesk, Page, Problem, Signed, Word, machine_state, page as whole, part,
        viewer::{MayImages, from_here},
    },
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::{
    Request,
    data::{Data, FromData, Outcome, ToByteUnit},
    get,
    http::Status,
    put,
    request::{self, FromRequest},
    serde::json::Json,
};
use serde_json::{Value, json};
use std::{sync::Arc, time::Duration};
use zastrugi_core::{
    estate::{Holds, Image},
    ids::ImageId,
    limits,
    permits::Act,
    runs::{Object, Phase, Run},
    view::View,
};
use zastrugi_engine::FeedError;

struct User {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
}

/// Why what arrived was not taken, in the run's words, and what to do.
struct Refused {
    said: String,
    remedy: String,
}

#[derive(Template)]
#[template(path = "places/storage/image.html", blocks = ["body"])]
struct ImagePage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    facts: Vec<(&'static str, String)>,
    mono: Vec<(&'static str, String)>,
    volume: Option<(u64, String)>,
    users: Vec<User>,
    events: Vec<Line>,
    /// Its open run: nothing else is done to it meanwhile.
    run: Option<u64>,
    /// It can be fetched by whoever looks.
    fetch: bool,
    /// Machines boot from it, or are made of it.
    boots: bool,
    makes: bool,
    /// A run awaits its bytes.
    arriving: bool,
    refused: Option<Refused>,
    bytes: u64,
    mark: String,
    may: bool,
    may_send: bool,
}

/// An image's glyph and word.
pub(super) fn state(view: &View, image: &Image) -> (&'static str, String) {
    if image.ready {
        return ("steady", "whole".into());
    }
    if refused(view, image).is_some() {
        return ("down", "refused".into());
    }
    match (arriving(view, image.id), open_run(view, image)) {
        (Some(""), _) => ("busy", "awaited".into()),
        (Some(said), _) => ("busy", format!("arriving, {said}")),
        (None, Some(_)) if image.is_packed_here() => ("busy", "being packed".into()),
        (None, Some(_)) => ("busy", "checksum and label are being read".into()),
        (None, None) => ("down", "incomplete".into()),
    }
}

/// The run that makes it whole, or takes it away before it is.
fn open_run<'a>(view: &'a View, image: &Image) -> Option<&'a Arc<Run>> {
    let runs = view.runs.about(Object::Image(image.id)).into_iter();
    let mut open = runs.filter_map(|id| view.runs.get(id));
    open.next().filter(|_| !image.ready)
}

fn refused(view: &View, image: &Image) -> Option<Refused> {
    let run = open_run(view, image)?;
    let fault = run
        .in_phase(Phase::Failed)
        .find_map(|(_, s)| s.fault.as_ref())?;
    Some(Refused {
        said: fault.said.clone(),
        remedy: fault.remedy.clone(),
    })
}

/// What the run that awaits its bytes last saw of them.
fn arriving(view: &View, image: ImageId) -> Option<&str> {
    let (id, n) = view.runs.looking_at(Object::Image(image)).next()?;
    let run = view.runs.get(id)?;
    let running = run.phase(n) == Some(Phase::Running);
    Some(if running { view.said(run, n) } else { "" })
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<ImagePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let image = estate
        .images
        .get(&ImageId(id))
        .ok_or_else(|| Problem::not_found("This image"))?;
    let (glyph, word) = state(&view, image);
    let users: Vec<_> = estate
        .machines_with(image.id)
        .into_iter()
        .take(200)
        .map(|m| {
            let host = m.host.and_then(|h| estate.hosts.get(&h));
            let (glyph, word) = machine_state(m, host.map(|h| &**h));
            User {
                id: m.id.0,
                name: m.name.clone(),
                glyph,
                word,
            }
        })
        .collect();
    let lead = match users.len() {
        _ if !image.ready && open_run(&view, image).is_none() => {
            "It can't be finished any more: remove it, and add the right file.".to_owned()
        }
        _ if !image.ready => "Nothing can be done with it before it is whole.".to_owned(),
        _ if !image.holds.is_installer() => match image.holds {
            Holds::Package => "Machines are made of it as of a template.".to_owned(),
            _ => "A disk can be written from it.".to_owned(),
        },
        0 => "No machine has it in its drive.".to_owned(),
        1 => "1 machine has it in its drive.".to_owned(),
        n => format!("{n} machines have it in their drives."),
    };
    let label = match image.label.as_str() {
        "" => "not read".to_owned(),
        label => label.to_owned(),
    };
    let checked = match (&image.sha256, &image.expected) {
        (None, _) => "when it is whole",
        (Some(_), None) if image.is_packed_here() => "as it was packed",
        (Some(_), None) => "compared with nothing: none was given",
        (Some(_), Some(_)) => "the same as its publisher's",
    };
    let sum = image.sha256.clone().unwrap_or_else(|| "not yet".into());
    Ok(ImagePage {
        id,
        name: image.name.clone(),
        glyph,
        word,
        lead,
        facts: vec![
            ("What it is", image.holds.word().into()),
            ("Size", image.size.to_string()),
            ("Checksum", checked.into()),
        ],
        mono: match image.holds.is_installer() {
            true => vec![("Label", label), ("SHA-256", sum)],
            false => vec![("SHA-256", sum)],
        },
        fetch: image.ready && signed.may(Act::Machines),
        boots: image.holds.is_installer(),
        makes: image.ready && image.holds == Holds::Package && signed.may(Act::Machines),
        volume: estate
            .volumes
            .get(&image.volume)
            .map(|v| (v.id.0, v.name.clone())),
        users,
        events: lately(desk, &image.id.to_string()).await?,
        arriving: !image.ready && arriving(&view, image.id).is_some(),
        run: open_run(&view, image).map(|r| r.id.0),
        refused: refused(&view, image),
        bytes: image.size.0,
        mark: image.mark.clone(),
        may: signed.may(Act::Storage),
        may_send: signed.may(Act::Images),
    })
}

#[get("/storage/images/<id>")]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "storage", &title, &body)
}
#[get("/storage/images/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?.as_body())
}

type Told = (Status, Json<Value>);

fn told(result: Result<u64, FeedError>) -> Told {
    let status = match &result {
        Ok(received) => return (Status::Ok, Json(json!({"received": received}))),
        Err(FeedError::Elsewhere(received)) => {
            return (Status::Conflict, Json(json!({"received": received})));
        }
        Err(FeedError::NotAllowed) => Status::Forbidden,
        Err(FeedError::Over) => Status::Gone,
        Err(FeedError::Busy) => Status::TooManyRequests,
        Err(FeedError::Device(fault)) if fault.passing() => Status::ServiceUnavailable,
        Err(FeedError::Device(_)) => Status::BadGateway,
    };
    let words = result.err().map(|e| e.to_string()).unwrap_or_default();
    (status, Json(json!({"words": words})))
}

/// How many bytes are there.
#[get("/storage/images/<id>/received")]
pub(crate) async fn received(may: MayImages, desk: &AtDesk, id: u64) -> Told {
    told(desk.received(&may.0.viewer, ImageId(id)).await)
}

/// A piece of a file, from a page of ours, with the session's token.
pub(crate) struct Piece(bytes::Bytes);

/// The time that a piece may take: the least rate that is borne with is 140 KiB/s.
const SLOWEST: Duration = Duration::from_secs(60);

#[rocket::async_trait]
impl<'r> FromData<'r> for Piece {
    type Error = &'static str;

    async fn from_data(request: &'r Request<'_>, data: Data<'r>) -> Outcome<'r, Self> {
        let request::Outcome::Success(may) = MayImages::from_request(request).await else {
            return Outcome::Error((Status::Forbidden, "role"));
        };
        let token = request.headers().get_one("X-CSRF-Token");
        if !from_here(request) || token != Some(may.0.csrf.as_str()) {
            return Outcome::Error((Status::Forbidden, "token"));
        }
        let open = data.open(limits::PIECE.most.bytes());
        match tokio::time::timeout(SLOWEST, open.into_bytes()).await {
            Ok(Ok(bytes)) if bytes.is_complete() => {
                Outcome::Success(Piece(bytes.into_inner().into()))
            }
            Ok(Ok(_)) => Outcome::Error((Status::PayloadTooLarge, "too large")),
            Ok(Err(_)) => Outcome::Error((Status::BadRequest, "broken off")),
            Err(_) => Outcome::Error((Status::RequestTimeout, "too slow")),
        }
    }
}

/// Takes the bytes that stand at `from` in the file; says where to go on.
#[put("/storage/images/<id>/bytes?<from>", data = "<piece>")]
pub(crate) async fn take(may: MayImages, desk: &AtDesk, id: u64, from: u64, piece: Piece) -> Told {
    told(desk.feed(&may.0.viewer, ImageId(id), from, piece.0).await)
}
