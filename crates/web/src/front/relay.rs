//! From a request outside to the pages, and back; also for sockets.

use super::{
    address::{client, listed},
    body::{Broken, Paced},
    table::Ticket,
};
use crate::frame::server::{FRONT, KNOWN, NUMBER, WHO, WebSettings};
use bytes::Bytes;
use http_body_util::{BodyExt, Either, Full, combinators::BoxBody};
use hyper::{
    Request, Response, StatusCode, Uri,
    body::{Body, Incoming},
    header::{CONNECTION, CONTENT_LENGTH, CONTENT_TYPE, HOST, HeaderMap, HeaderName, HeaderValue},
    upgrade::OnUpgrade,
};
use hyper_util::{
    client::legacy::{Client, connect::HttpConnector},
    rt::{TokioExecutor, TokioIo},
};
use std::{
    convert::Infallible,
    net::{IpAddr, SocketAddr},
    sync::Arc,
};

/// A body this short is awaited here: half of it costs nothing behind.
const SHORT: u64 = 16 << 10;

type Sent = Either<Full<Bytes>, Paced>;
type Answer = Response<BoxBody<Bytes, hyper::Error>>;

pub(super) struct Relay {
    pages: SocketAddr,
    word: String,
    settings: WebSettings,
    client: Client<HttpConnector, Sent>,
}

/// Words for who asked in a way that nothing here understands; pages never see it.
fn plain(status: StatusCode, words: &'static str) -> Answer {
    let body = Full::new(Bytes::from_static(words.as_bytes()));
    let body = body.map_err(|never: Infallible| match never {}).boxed();
    let mut answer = Response::new(body);
    *answer.status_mut() = status;
    let headers = answer.headers_mut();
    headers.insert(
        CONTENT_TYPE,
        HeaderValue::from_static("text/plain; charset=utf-8"),
    );
    headers.insert(CONNECTION, HeaderValue::from_static("close"));
    answer
}

impl Relay {
    pub(super) fn new(pages: SocketAddr, word: String, settings: WebSettings) -> Self {
        let mut connector = HttpConnector::new();
        connector.set_nodelay(true);
        let client = Client::builder(TokioExecutor::new())
            .pool_max_idle_per_host(64)
            .build(connector);
        Relay {
            pages,
            word,
            settings,
            client,
        }
    }

    pub(super) fn is_proxy(&self, peer: IpAddr) -> bool {
        self.settings.behind_proxy && listed(peer, &self.settings.proxies)
    }

    pub(super) async fn answer(
        self: Arc<Self>,
        request: Request<Incoming>,
        peer: IpAddr,
        ticket: Arc<Ticket>,
    ) -> Result<Answer, Infallible> {
        Ok(self
            .relayed(request, peer, ticket)
            .await
            .unwrap_or_else(|refused| *refused))
    }

    async fn relayed(
        &self,
        mut request: Request<Incoming>,
        peer: IpAddr,
        ticket: Arc<Ticket>,
    ) -> Result<Answer, Box<Answer>> {
        let refuse = |status, words| Box::new(plain(status, words));
        if request.headers().get_all(HOST).iter().count() != 1 {
            return Err(refuse(
                StatusCode::BAD_REQUEST,
                "A request names one host.\n",
            ));
        }
        let upgrade = hyper::upgrade::on(&mut request);
        let (mut head, body) = request.into_parts();
        let who = self.who(peer, &head.headers);
        let number = format!("{:016x}", rand::random::<u64>());
        self.mark(&mut head.headers, who, &number);
        head.uri = self
            .inside(&head.uri)
            .ok_or_else(|| refuse(StatusCode::BAD_REQUEST, "This address can't be read.\n"))?;
        let body = self
            .arrived(&head.headers, body)
            .await
            .map_err(|broken| match broken {
                Broken::Slow => refuse(
                    StatusCode::REQUEST_TIMEOUT,
                    "What was sent came too slowly.\n",
                ),
                Broken::Off(_) => refuse(StatusCode::BAD_REQUEST, "What was sent broke off.\n"),
            })?;
        let answered = self.client.request(Request::from_parts(head, body)).await;
        let mut answer = answered.map_err(|error| {
            tracing::debug!(%error, number, "the pages did not answer");
            if slow(&error) {
                return refuse(
                    StatusCode::REQUEST_TIMEOUT,
                    "What was sent came too slowly.\n",
                );
            }
            refuse(
                StatusCode::SERVICE_UNAVAILABLE,
                "Zastrugi is busy; try again in a moment.\n",
            )
        })?;
        if let Ok(number) = HeaderValue::from_str(&number) {
            answer.headers_mut().insert(NUMBER, number);
        }
        if answer.headers_mut().remove(KNOWN).is_some() {
            ticket.know();
        }
        if answer.status() == StatusCode::SWITCHING_PROTOCOLS {
            let inside = hyper::upgrade::on(&mut answer);
            tokio::spawn(join(upgrade, inside, ticket));
        }
        Ok(answer.map(BodyExt::boxed))
    }

    fn who(&self, peer: IpAddr, headers: &HeaderMap) -> IpAddr {
        if !self.settings.behind_proxy {
            return peer.to_canonical();
        }
        let said = headers.get_all("x-forwarded-for").iter();
        client(
            peer,
            &self.settings.proxies,
            said.filter_map(|v| v.to_str().ok()),
        )
    }

    /// What only the front may say is said by the front alone.
    fn mark(&self, headers: &mut HeaderMap, who: IpAddr, number: &str) {
        let marks = [
            (WHO, who.to_string()),
            (FRONT, self.word.clone()),
            (NUMBER, number.to_owned()),
        ];
        for (name, value) in marks {
            if let Ok(value) = HeaderValue::from_str(&value) {
                headers.insert(HeaderName::from_static(name), value);
            }
        }
    }

    fn inside(&self, uri: &Uri) -> Option<Uri> {
        let path = uri.path_and_query()?.as_str();
        format!("http://{}{path}", self.pages).parse().ok()
    }

    /// The body, whole if it is short.
    async fn arrived(&self, headers: &HeaderMap, body: Incoming) -> Result<Sent, Broken> {
        let body = Paced::new(body, self.settings.pace);
        let length = headers.get(CONTENT_LENGTH).and_then(|l| l.to_str().ok());
        let length: Option<u64> = length.and_then(|l| l.parse().ok());
        if body.is_end_stream() || length.is_some_and(|l| l <= SHORT) {
            return Ok(Either::Left(Full::new(body.collect().await?.to_bytes())));
        }
        Ok(Either::Right(body))
    }
}

/// Whether a body that was passed on as it came is what failed, by its slowness.
fn slow(error: &(dyn std::error::Error + 'static)) -> bool {
    let mut at = Some(error);
    while let Some(cause) = at {
        if matches!(cause.downcast_ref(), Some(Broken::Slow)) {
            return true;
        }
        at = cause.source();
    }
    false
}

/// Bytes both ways until one side ends; the place of the connection is held so long.
async fn join(outside: OnUpgrade, inside: OnUpgrade, ticket: Arc<Ticket>) {
    let (Ok(outside), Ok(inside)) = (outside.await, inside.await) else {
        return;
    };
    let (mut outside, mut inside) = (TokioIo::new(outside), TokioIo::new(inside));
    let stop = ticket.stop();
    tokio::select! {
        done = tokio::io::copy_bidirectional(&mut outside, &mut inside) => {
            if let Err(error) = done {
                tracing::debug!(%error, "a socket ended");
            }
        }
        () = stop.notified() => {}
    }
}
