//! Text consoles of machines and hosts: the page, the ticket, and the socket that the ticket opens once.

use super::{AtDesk, Fields, Page, Problem, Signed, sheet::render, viewer::SameOrigin};
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
use zastrugi_core::{
    event::ConsoleOf,
    ids::{HostId, MachineId},
};
use zastrugi_engine::{ConsoleError, Desk, Look, Told};

#[derive(Template)]
#[template(path = "frame/console.html")]
struct ConsolePage {
    /// Where its machine or host has its page.
    at: String,
    name: String,
    may_type: bool,
    /// In a window of its own there is no way back, and none is needed.
    alone: bool,
}

#[derive(Template)]
#[template(path = "frame/console_window.html")]
struct ConsoleWindow {
    name: String,
    csrf: String,
    theme: String,
    body: String,
}

/// The console within the frame, or in a window of its own.
fn page(signed: &Signed, desk: &AtDesk, of: ConsoleOf, window: Option<bool>) -> Page {
    let estate = desk.look().estate;
    if !of.exists(&estate) {
        return Err(Problem::not_found("What this console belongs to"));
    }
    let name = of.name(&estate);
    let (place, id) = match of {
        ConsoleOf::Machine(id) => ("machines", id.0),
        ConsoleOf::Host(id) => ("hosts", id.0),
    };
    let body = ConsolePage {
        at: format!("/{place}/{id}"),
        name: name.clone(),
        may_type: signed.may(of.act()),
        alone: window == Some(true),
    };
    if window != Some(true) {
        let title = format!("Console of {name}");
        return crate::frame::page(signed, desk, place, &title, &body);
    }
    let alone = ConsoleWindow {
        name,
        csrf: signed.csrf.clone(),
        theme: signed.theme.clone(),
        body: render(&body),
    };
    Ok(RawHtml(render(&alone)))
}

#[get("/machines/<id>/console?<window>")]
pub(crate) fn of_machine(signed: Signed, desk: &AtDesk, id: u64, window: Option<bool>) -> Page {
    page(&signed, desk, ConsoleOf::Machine(MachineId(id)), window)
}
#[get("/hosts/<id>/console?<window>")]
pub(crate) fn of_host(signed: Signed, desk: &AtDesk, id: u64, window: Option<bool>) -> Page {
    page(&signed, desk, ConsoleOf::Host(HostId(id)), window)
}

async fn issue(signed: &Signed, desk: &AtDesk, of: ConsoleOf) -> (Status, Json<Value>) {
    match desk
        .console_ticket(&signed.viewer, of, &signed.cookie)
        .await
    {
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

#[post("/machines/<id>/console/ticket", data = "<_fields>")]
pub(crate) async fn machine_ticket(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    _fields: Fields,
) -> (Status, Json<Value>) {
    issue(&signed, desk, ConsoleOf::Machine(MachineId(id))).await
}
#[post("/hosts/<id>/console/ticket", data = "<_fields>")]
pub(crate) async fn host_ticket(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    _fields: Fields,
) -> (Status, Json<Value>) {
    issue(&signed, desk, ConsoleOf::Host(HostId(id))).await
}

/// The most that one message of a browser may hold.
const LARGEST: usize = 16 << 10;

/// A socket on a console, for a page of ours with a ticket.
fn connect(
    signed: Signed,
    desk: &AtDesk,
    socket: WebSocket,
    of: ConsoleOf,
    ticket: &str,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let look = desk
        .console(&signed.viewer, of, &signed.cookie, ticket)
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

#[get("/machines/<id>/console/socket?<ticket>")]
pub(crate) fn machine_socket(
    signed: Signed,
    _origin: SameOrigin,
    desk: &AtDesk,
    socket: WebSocket,
    id: u64,
    ticket: &str,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let of = ConsoleOf::Machine(MachineId(id));
    connect(signed, desk, socket, of, ticket, end)
}
#[get("/hosts/<id>/console/socket?<ticket>")]
pub(crate) fn host_socket(
    signed: Signed,
    _origin: SameOrigin,
    desk: &AtDesk,
    socket: WebSocket,
    id: u64,
    ticket: &str,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let of = ConsoleOf::Host(HostId(id));
    connect(signed, desk, socket, of, ticket, end)
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
