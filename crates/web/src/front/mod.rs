//! The front: what listens to the outside. Start at [`serve`].
//!
//! ```text
//! browser ──► front (hyper: time limits, room, one Host, whose address) ──► pages (Rocket, on loopback, behind a word)
//! ```
//!
//! Nobody holds a connection by sending slowly, nobody takes all the room: who isn't signed in is ended first, the oldest
//! first, of the address that holds the most. Half a request costs a connection here and nothing behind.

mod address;
mod body;
mod pace;
mod relay;
mod table;

pub use pace::Pace;

use crate::frame::server::{Inner, WebSettings, build};
use hyper::{server::conn::http1, service::service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use relay::Relay;
use rocket::fairing::AdHoc;
use std::{io, net::SocketAddr, sync::Arc, time::Duration};
use table::Table;
use tokio::{
    net::{TcpListener, TcpStream},
    sync::oneshot,
    time::sleep,
};
use tokio_io_timeout::TimeoutStream;
use zastrugi_core::limits;
use zastrugi_engine::Desk;

/// Why the pages are not served.
#[derive(Debug, thiserror::Error)]
pub enum ServeError {
    #[error("the pages can't be served: {0}")]
    Pages(Box<rocket::Error>),
    #[error("the pages ended before they began")]
    Silent,
}

/// Serves the pages on `listener` until the process is told to stop.
///
/// # Errors
/// [`ServeError`] when the pages can't be started.
pub async fn serve(
    desk: Desk,
    settings: WebSettings,
    listener: TcpListener,
) -> Result<(), ServeError> {
    let word = format!("{:032x}", rand::random::<u128>());
    let (tell, told) = oneshot::channel();
    let inner = Inner { word: word.clone() };
    let pages = build(desk, settings.clone(), Some(inner));
    let pages = pages.attach(AdHoc::on_liftoff("where the pages are", move |rocket| {
        let at = SocketAddr::new(rocket.config().address, rocket.config().port);
        Box::pin(async move {
            // Nobody waits any more where the front has ended.
            let _ = tell.send(at);
        })
    }));
    let wrong = |error| ServeError::Pages(Box::new(error));
    let pages = pages.ignite().await.map_err(wrong)?;
    let front = async {
        let Ok(at) = told.await else {
            return Err(ServeError::Silent);
        };
        let relay = Arc::new(Relay::new(at, word, settings.clone()));
        accept(listener, relay, settings.pace).await
    };
    tokio::select! {
        done = pages.launch() => done.map(drop).map_err(wrong),
        ended = front => ended,
    }
}

/// Takes connections for as long as it is let.
async fn accept(listener: TcpListener, relay: Arc<Relay>, pace: Pace) -> Result<(), ServeError> {
    let table = Table::new(pace.connections, pace.kept_room, pace.per_address);
    loop {
        match listener.accept().await {
            Ok((stream, peer)) => take(stream, peer, &table, &relay, pace),
            Err(error) => {
                // Descriptors have run out, or the peer has gone already: room is made, and it goes on.
                tracing::warn!(%error, "a connection was not taken");
                table.make_room();
                sleep(Duration::from_millis(50)).await;
            }
        }
    }
}

fn take(stream: TcpStream, peer: SocketAddr, table: &Table, relay: &Arc<Relay>, pace: Pace) {
    // One address for many people: the limit for an address is not theirs.
    let shared = relay.is_proxy(peer.ip());
    let Some(ticket) = table.admit(peer.ip(), shared) else {
        return;
    };
    if let Err(error) = tune(&stream) {
        tracing::debug!(%error, "a connection went away at once");
        return;
    }
    let relay = relay.clone();
    tokio::spawn(async move {
        let ticket = Arc::new(ticket);
        let stop = ticket.stop();
        let service =
            service_fn(|request| relay.clone().answer(request, peer.ip(), ticket.clone()));
        let mut stream = TimeoutStream::new(stream);
        stream.set_write_timeout(Some(pace.write));
        let connection = http1::Builder::new()
            .timer(TokioTimer::new())
            .header_read_timeout(pace.head)
            .max_headers(limits::HEADERS.most)
            .max_buf_size(limits::HEAD.most)
            .serve_connection(TokioIo::new(Box::pin(stream)), service)
            .with_upgrades();
        tokio::select! {
            done = connection => {
                if let Err(error) = done {
                    tracing::debug!(%error, "a connection ended");
                }
            }
            () = stop.notified() => tracing::debug!("a connection made room for another"),
        }
    });
}

/// A peer that is gone without a word is found out.
fn tune(stream: &TcpStream) -> io::Result<()> {
    stream.set_nodelay(true)?;
    let keep = socket2::TcpKeepalive::new()
        .with_time(Duration::from_secs(30))
        .with_interval(Duration::from_secs(10));
    socket2::SockRef::from(stream).set_tcp_keepalive(&keep)
}
