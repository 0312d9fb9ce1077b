//! Text consoles of machines and hosts: the page, the ticket, and the socket that the ticket opens once.

use super::{
    AtDesk, Fields, Page, Problem, Signed,
    seats::{Seat, Seats},
    sheet::render,
    viewer::SameOrigin,
};
use askama::Template;
use futures::{SinkExt, StreamExt};
use rocket::{
    Request, Shutdown, get,
    http::Status,
    post,
    request::{FromParam, FromRequest, Outcome},
    response::content::RawHtml,
    serde::json::Json,
    tokio::{
        select,
        time::{Duration, interval},
    },
};
use rocket_ws::{
    Channel, Message, WebSocket,
    frame::{CloseCode, CloseFrame},
    stream::DuplexStream,
};
use serde_json::{Value, json};
use zastrugi_core::{estate::Machine, ids::MachineId, rooms::consoles::ConsoleOf};
use zastrugi_engine::{ConsoleError, ConsoleWay, Desk, Look, Told};

#[derive(Template)]
#[template(path = "frame/console.html")]
struct ConsolePage {
    panes: Vec<String>,
    /// Chosen, but too many for one page.
    left_out: usize,
}

/// One console on a page.
#[derive(Template)]
#[template(path = "frame/console_pane.html")]
struct Pane {
    of: String,
    back: String,
    name: String,
    may_type: bool,
    /// In a window of its own there is no way back, and none is needed.
    alone: bool,
    /// One of several.
    small: bool,
    /// The machine with a graphical screen besides.
    screen: Option<u64>,
}

#[derive(Template)]
#[template(path = "frame/console_window.html")]
struct ConsoleWindow {
    name: String,
    what: &'static str,
    csrf: String,
    theme: String,
    body: String,
}

/// What a window of its own is about.
pub(super) struct Alone {
    pub(super) name: String,
    pub(super) what: &'static str,
}

/// A page without the frame.
pub(super) fn alone(signed: &Signed, about: Alone, body: &impl Template) -> Page {
    let window = ConsoleWindow {
        name: about.name,
        what: about.what,
        csrf: signed.csrf.clone(),
        theme: signed.theme.clone(),
        body: render(body),
    };
    Ok(RawHtml(render(&window)))
}

impl<'a> FromParam<'a> for Of {
    type Error = &'a str;
    fn from_param(param: &'a str) -> Result<Self, &'a str> {
        param.parse().map(Of).map_err(|_| param)
    }
}

/// Whose console, as it stands in a path: `machine-7`, `host-1`.
pub(crate) struct Of(ConsoleOf);

/// The console within the frame, or in a window of its own.
#[get("/console/<of>?<window>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, of: Of, window: Option<bool>) -> Page {
    let Of(of) = of;
    let estate = desk.look().estate;
    if !of.exists(&estate) {
        return Err(Problem::not_found("What this console belongs to"));
    }
    let name = of.name(&estate);
    let pane = pane(&signed, of, name.clone(), window == Some(true), false);
    let body = ConsolePage {
        panes: vec![render(&pane)],
        left_out: 0,
    };
    if window == Some(true) {
        let what = "console";
        return alone(&signed, Alone { name, what }, &body);
    }
    let place = place(of).0;
    let title = format!("Console of {name}");
    crate::frame::page(&signed, desk, place, &title, &body)
}

/// Its place and number there.
fn place(of: ConsoleOf) -> (&'static str, u64) {
    match of {
        ConsoleOf::Machine(id) => ("machines", id.0),
        ConsoleOf::Host(id) => ("hosts", id.0),
    }
}

fn pane(signed: &Signed, of: ConsoleOf, name: String, alone: bool, small: bool) -> Pane {
    let (place, id) = place(of);
    Pane {
        of: of.to_string(),
        back: format!("/{place}/{id}"),
        name,
        may_type: signed.may(of.act()),
        alone,
        small,
        screen: matches!(of, ConsoleOf::Machine(_)).then_some(id),
    }
}

/// Consoles on one page at most: what a window of the usual size shows readably.
const PANES: usize = 6;

/// The consoles of several machines beside each other.
#[get("/consoles?<ids>")]
pub(crate) fn several(signed: Signed, desk: &AtDesk, ids: &str) -> Page {
    let estate = desk.look().estate;
    let numbers = ids.split(',').filter_map(|n| n.parse().ok().map(MachineId));
    let all: Vec<_> = numbers.filter_map(|id| estate.machines.get(&id)).collect();
    if all.is_empty() {
        return Err(Problem::not_found("Any of these machines"));
    }
    let of = |m: &std::sync::Arc<Machine>| ConsoleOf::Machine(m.id);
    let panes = all.iter().take(PANES);
    let body = ConsolePage {
        panes: panes
            .map(|m| render(&pane(&signed, of(m), m.name.clone(), false, all.len() > 1)))
            .collect(),
        left_out: all.len().saturating_sub(PANES),
    };
    crate::frame::page(&signed, desk, "machines", "Consoles", &body)
}

#[post("/console/<of>/ticket", data = "<fields>")]
pub(crate) async fn ticket(
    signed: Signed,
    desk: &AtDesk,
    of: Of,
    fields: Fields,
) -> (Status, Json<Value>) {
    let password = fields.secret("password");
    issue(&signed, desk, of.0, ConsoleWay::Text, password).await
}

/// What one person may look at at once.
pub(crate) struct Looks(Seats);

impl Default for Looks {
    fn default() -> Self {
        Looks(Seats::of(zastrugi_core::limits::LOOKS))
    }
}

/// Somebody with a seat at a console.
pub(crate) struct Seated {
    pub(super) signed: Signed,
    pub(super) seat: Seat,
}

#[rocket::async_trait]
impl<'r> FromRequest<'r> for Seated {
    type Error = &'static str;

    async fn from_request(request: &'r Request<'_>) -> Outcome<Self, Self::Error> {
        let signed = match Signed::from_request(request).await {
            Outcome::Success(signed) => signed,
            Outcome::Error(error) => return Outcome::Error(error),
            Outcome::Forward(status) => return Outcome::Forward(status),
        };
        let looks = request.rocket().state::<Looks>();
        match looks.and_then(|l| l.0.take(signed.viewer.id)) {
            Some(seat) => Outcome::Success(Seated { signed, seat }),
            None => Outcome::Error((Status::TooManyRequests, "too many consoles")),
        }
    }
}

/// A ticket, or why there is none.
pub(super) async fn issue(
    signed: &Signed,
    desk: &Desk,
    of: ConsoleOf,
    way: ConsoleWay,
    password: &str,
) -> (Status, Json<Value>) {
    let asked = desk.console_ticket(&signed.viewer, of, way, &signed.cookie, password);
    match asked.await {
        Ok(ticket) => (Status::Ok, Json(json!({"ticket": ticket}))),
        Err(why) => refused(&why),
    }
}

pub(super) fn refused(why: &ConsoleError) -> (Status, Json<Value>) {
    let status = match why {
        ConsoleError::NotAllowed
        | ConsoleError::Ticket
        | ConsoleError::Locked
        | ConsoleError::Wrong
        | ConsoleError::Waits => Status::Forbidden,
        ConsoleError::Gone => Status::NotFound,
        _ => Status::ServiceUnavailable,
    };
    let locked = matches!(why, ConsoleError::Locked | ConsoleError::Wrong);
    (
        status,
        Json(json!({"words": why.to_string(), "locked": locked})),
    )
}

/// The most that one message of a browser may hold.
pub(super) const LARGEST: usize = zastrugi_core::limits::FRAME.most;

/// Nothing longer is taken from a browser.
pub(super) fn limits(largest: usize) -> rocket_ws::Config {
    rocket_ws::Config {
        max_message_size: Some(largest),
        max_frame_size: Some(largest),
        ..rocket_ws::Config::default()
    }
}

pub(super) const SIGNED_OUT: &str = "you are no longer signed in";

/// A database that does not answer signs nobody out.
pub(super) async fn signed_out(desk: &Desk, cookie: &str) -> bool {
    matches!(desk.session(cookie, false).await, Ok(None))
}

/// A socket on a console, for a page of ours with a ticket.
#[get("/console/<of>/socket?<ticket>")]
pub(crate) fn open(
    seated: Seated,
    _origin: SameOrigin,
    desk: &AtDesk,
    socket: WebSocket,
    of: Of,
    ticket: &str,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let Seated { signed, seat } = seated;
    let look = desk
        .console(&signed.viewer, of.0, &signed.cookie, ticket)
        .map_err(|_| Status::Forbidden)?;
    let desk = desk.inner().clone();
    let channel = socket.config(limits(LARGEST)).channel(move |stream| {
        Box::pin(async move {
            let _seat = seat;
            let closing = serve(stream, look, &desk, &signed.cookie, end).await;
            tracing::debug!(?closing, "a console was closed");
            Ok(())
        })
    });
    Ok(channel)
}

fn message(told: Told, look: &Look) -> Message {
    match told {
        Told::Printed(bytes) => Message::Binary(bytes),
        Told::State(words) => Message::Text(json!({"state": words}).to_string()),
        Told::Undelivered => Message::Text(json!({"undelivered": true}).to_string()),
        Told::People { writer, viewers } => Message::Text(
            json!({"writer": writer, "viewers": viewers, "you": look.is_writer()}).to_string(),
        ),
    }
}

/// Until the browser, the session, the server or the ticket's machine ends it.
async fn serve(
    mut stream: DuplexStream,
    mut look: Look,
    desk: &Desk,
    cookie: &str,
    mut end: Shutdown,
) -> Option<()> {
    let mut session = interval(Duration::from_secs(15));
    session.tick().await;
    loop {
        select! {
            told = look.next() => match told {
                Some(told) => stream.send(message(told, &look)).await.ok()?,
                None => return close(stream, CloseCode::Again, "too slow; open it again").await,
            },
            typed = stream.next() => match typed?.ok()? {
                Message::Text(text) => typed_in(&look, &text).await,
                Message::Close(_) => return None,
                _ => {}
            },
            _ = session.tick() => {
                if signed_out(desk, cookie).await {
                    return close(stream, CloseCode::Policy, SIGNED_OUT).await;
                }
            }
            () = &mut end => return close(stream, CloseCode::Restart, "Zastrugi restarts").await,
        }
    }
}

async fn typed_in(look: &Look, text: &str) {
    let said: Value = serde_json::from_str(text).unwrap_or_default();
    if let Some(text) = said["type"].as_str() {
        look.type_text(text).await;
    }
    if said["take"] == true {
        look.take_over();
    }
    if let (Some(columns), Some(rows)) = (side(&said["columns"]), side(&said["rows"])) {
        look.resize(columns, rows).await;
    }
}

/// A side of a terminal, in characters.
fn side(said: &Value) -> Option<u16> {
    let side = said.as_u64()?;
    u16::try_from(side).ok().filter(|s| (1..=500).contains(s))
}

pub(super) async fn close(
    mut stream: DuplexStream,
    code: CloseCode,
    why: &'static str,
) -> Option<()> {
    let frame = CloseFrame {
        code,
        reason: why.into(),
    };
    stream.close(Some(frame)).await.ok()
}
