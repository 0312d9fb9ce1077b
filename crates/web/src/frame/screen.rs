//! Graphical screens of machines: the page, the ticket, the socket that carries the remote framebuffer protocol, and
//! pictures of screens, of now and kept ones.

use super::{
    AtDesk, Fields, Page, Problem, Signed,
    console::{
        Alone, LARGEST, SIGNED_OUT, Seated, alone, close, issue, limits, refused, signed_out,
    },
    viewer::SameOrigin,
};
use askama::Template;
use futures::{SinkExt, StreamExt};
use rocket::{
    Shutdown, get,
    http::{ContentType, Header, Status},
    post,
    serde::json::Json,
    tokio::{
        select,
        time::{Duration, interval},
    },
};
use rocket_ws::{Channel, Message, WebSocket, frame::CloseCode, stream::DuplexStream};
use serde_json::Value;
use uuid::Uuid;
use zastrugi_core::{ids::MachineId, rooms::consoles::ConsoleOf};
use zastrugi_engine::{ConsoleWay, Desk, KEYBOARDS, Screen};

#[derive(Template)]
#[template(path = "frame/screen.html")]
struct ScreenPage {
    id: u64,
    name: String,
    may_type: bool,
    alone: bool,
    keyboards: [(&'static str, &'static str); 4],
}

/// The screen within the frame, or in a window of its own.
#[get("/screen/<id>?<window>")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, id: u64, window: Option<bool>) -> Page {
    let view = desk.look();
    let machine = view.estate.machines.get(&MachineId(id));
    let machine = machine.ok_or_else(|| Problem::not_found("This machine"))?;
    let name = machine.name.clone();
    let body = ScreenPage {
        id,
        name: name.clone(),
        may_type: signed.may(ConsoleOf::Machine(MachineId(id)).act()),
        alone: window == Some(true),
        keyboards: KEYBOARDS,
    };
    if window != Some(true) {
        let title = format!("Screen of {name}");
        return crate::frame::page(&signed, desk, "machines", &title, &body);
    }
    alone(
        &signed,
        Alone {
            name,
            what: "screen",
        },
        &body,
    )
}

#[post("/screen/<id>/ticket", data = "<fields>")]
pub(crate) async fn ticket(
    signed: Signed,
    desk: &AtDesk,
    id: u64,
    fields: Fields,
) -> (Status, Json<Value>) {
    let of = ConsoleOf::Machine(MachineId(id));
    let password = fields.secret("password");
    issue(&signed, desk, of, ConsoleWay::Screen, password).await
}

/// A socket on a screen, for a page of ours with a ticket.
#[get("/screen/<id>/socket?<ticket>&<keyboard>")]
#[expect(clippy::too_many_arguments, reason = "guards are arguments")]
pub(crate) async fn open(
    seated: Seated,
    _origin: SameOrigin,
    desk: &AtDesk,
    socket: WebSocket,
    id: u64,
    ticket: &str,
    keyboard: Option<&str>,
    end: Shutdown,
) -> Result<Channel<'static>, Status> {
    let Seated { signed, seat } = seated;
    let keyboard = keyboard.unwrap_or_default();
    let screen = desk.screen(
        &signed.viewer,
        MachineId(id),
        &signed.cookie,
        ticket,
        keyboard,
    );
    let screen = screen.await.map_err(|why| refused(&why).0)?;
    let desk = desk.inner().clone();
    let channel = socket.config(limits(2 * LARGEST)).channel(move |stream| {
        Box::pin(async move {
            let _seat = seat;
            let closing = serve(stream, screen, &desk, &signed.cookie, end).await;
            tracing::debug!(?closing, "a screen was closed");
            Ok(())
        })
    });
    Ok(channel)
}

/// Until the browser, the session, the server or the machine's leaving its host ends it.
async fn serve(
    mut stream: DuplexStream,
    mut screen: Screen,
    desk: &Desk,
    cookie: &str,
    mut end: Shutdown,
) -> Option<()> {
    let mut session = interval(Duration::from_secs(15));
    session.tick().await;
    loop {
        select! {
            shown = screen.next() => match shown {
                Some(bytes) => stream.send(Message::Binary(bytes)).await.ok()?,
                None => return close(stream, CloseCode::Again, "it is not on this host any more").await,
            },
            said = stream.next() => match said?.ok()? {
                Message::Binary(bytes) => if let Err(why) = screen.send(&bytes).await {
                    tracing::debug!(%why, "a screen's viewer was left");
                    return close(stream, CloseCode::Protocol, "that is not understood").await;
                },
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

/// A PNG file.
#[derive(rocket::Responder)]
pub(crate) struct Picture {
    bytes: Vec<u8>,
    kind: ContentType,
    name: Header<'static>,
}

fn png(bytes: Vec<u8>, name: &str) -> Picture {
    let how = format!("inline; filename=\"{name}.png\"");
    Picture {
        bytes,
        kind: ContentType::PNG,
        name: Header::new("Content-Disposition", how),
    }
}

/// What a machine's screen shows now.
#[get("/screen/<id>/picture")]
pub(crate) async fn picture(_signed: Signed, desk: &AtDesk, id: u64) -> Result<Picture, Problem> {
    let name = desk
        .look()
        .estate
        .machines
        .get(&MachineId(id))
        .map(|m| m.name.clone());
    let name = name.ok_or_else(|| Problem::not_found("This machine"))?;
    let bytes = desk.picture_now(MachineId(id)).await;
    Ok(png(
        bytes.map_err(|_| Problem::not_found("A picture: it is off, or its host is silent; it"))?,
        &name,
    ))
}

/// A kept picture.
#[get("/pictures/<id>")]
pub(crate) async fn kept(_signed: Signed, desk: &AtDesk, id: &str) -> Result<Picture, Problem> {
    let gone = || Problem::not_found("This picture");
    let id: Uuid = id.parse().map_err(|_| gone())?;
    let bytes = desk.kept_bytes(id).await?;
    Ok(png(bytes.ok_or_else(gone)?, &id.to_string()))
}
