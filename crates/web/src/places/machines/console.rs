//! A machine's text console: the page, the ticket, and the socket that the ticket opens once.

use crate::frame::{AtDesk, Fields, Page, Problem, Signed, viewer::SameOrigin};
use askama::Template;
use futures::{SinkExt, StreamExt};
use rocket::{
    Shutdown, get,
    http::Status,
    post,
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
use zastrugi_core::{ids::MachineId, permits::Act};
use zastrugi_engine::{ConsoleError, Desk, Look, Told};

#[derive(Template)]
#[template(path = "places/machines/console.html")]
struct ConsolePage {
    id: u64,
    name: String,
    may_type: bool,
    /// In a window of its own there is no way back, and none is needed.
    alone: bool,
}

#[derive(Template)]
#[template(path = "places/machines/console_window.html")]
struct ConsoleWindow {
    name: String,
    csrf: String,
    theme: String,
    body: String,
}

/// The console within the frame, or in a window of its own.
#[get("/machines/<id>/console?<window>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, window: Option<bool>) -> Page {
    let view = desk.look();
    let machine = view.estate.machines.get(&MachineId(id));
    let machine = machine.ok_or_else(|| Problem::not_found("This machine"))?;
    let body = ConsolePage {
        id,
        name: machine.name.clone(),
        may_type: signed.may(Act::Machines),
        alone: window == Some(true),
    };
    let title = format!("Console of {}", machine.name);
    if window != Some(true) {
        return crate::frame::page(&signed, desk, "machines", &title, &body);
    }
    let alone = ConsoleWindow {
        name: machine.name.clone(),
        csrf: signed.csrf.clone(),
        theme: signed.theme.clone(),
        body: crate::frame::sheet::render(&body),
    };
    Ok(RawHtml(crate::frame::sheet::render(&alone)))
}

#[post("/machines/<id>/console/ticket", data = "<_fields>")]
pub(crate) async fn ticket(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    _fields: Fields,
) -> (Status, Json<Value>) {
    let issued = desk
        .console_ticket(&signed.viewer, MachineId(id), &signed.cookie)
        .await;
    match issued {
        Ok(ticket) => (Status::Ok, Json(json!({"ticket": ticket}))),
        Err(why) => {
            let status = match why {
                ConsoleError::NotAllowed => Status::Forbidden,
                ConsoleError::Gone => Status::NotFound,
                _ => Status::ServiceUnavailable,
            };
            (status, Json(json!({"words": why.to_string()})))
        }
    }
}

/// The most that one message of a browser may hold.
const LARGEST: usize = 16 << 10;

#[get("/machines/<id>/console/socket?<ticket>")]
pub(crate) fn open(
    _origin: SameOrigin,
    signed: Signed,
    desk: &AtDesk,
    socket: WebSocket,
    id: u64,
    ticket: &str,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let machine = MachineId(id);
    let look = desk
        .console(&signed.viewer, machine, &signed.cookie, ticket)
        .map_err(|_| Status::Forbidden)?;
    let desk = desk.inner().clone();
    let limits = rocket_ws::Config {
        max_message_size: Some(LARGEST),
        max_frame_size: Some(LARGEST),
        ..rocket_ws::Config::default()
    };
    let channel = socket.config(limits).channel(move |stream| {
        Box::pin(async move {
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
                if !matches!(desk.session(cookie, false).await, Ok(Some(_)) | Err(_)) {
                    return close(stream, CloseCode::Policy, "you are no longer signed in").await;
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
}

async fn close(mut stream: DuplexStream, code: CloseCode, why: &'static str) -> Option<()> {
    let frame = CloseFrame {
        code,
        reason: why.into(),
    };
    stream.close(Some(frame)).await.ok()
}
