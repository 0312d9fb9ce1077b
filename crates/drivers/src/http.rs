//! HTTPS to devices: one client for each pin, short limits, answers of at most 4 MiB.

use crate::{
    fault::{garbled, refused, unanswered},
    said, tls,
};
use futures::{Stream, StreamExt};
use reqwest::{Client, Method, Response, StatusCode, Upgraded};
use serde::de::DeserializeOwned;
use serde_json::Value;
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::time::timeout;
use zastrugi_core::{
    limits,
    runs::{Fault, FaultKind},
};

const CONNECT: Duration = Duration::from_secs(2);
/// A whole call, well within the lease of its order.
const WHOLE: Duration = Duration::from_secs(5);
/// A piece of a file: eight MiB at the least rate that is borne with.
const PIECE: Duration = Duration::from_secs(30);
const LARGEST: usize = limits::DEVICE_ANSWER.most;

#[derive(Clone, Default)]
pub(crate) struct Http {
    clients: Arc<Mutex<HashMap<String, Client>>>,
}

/// One call.
pub(crate) struct Call<'a> {
    /// What people call the device, for words about it.
    pub(crate) who: String,
    pub(crate) address: &'a str,
    pub(crate) pin: &'a str,
    pub(crate) method: Method,
    pub(crate) path: String,
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) body: Option<Value>,
    /// Bytes instead of a value.
    pub(crate) bytes: Option<bytes::Bytes>,
}

/// An answer, yes or no.
pub(crate) struct Reply {
    pub(crate) status: u16,
    /// Of a session that was opened.
    pub(crate) token: Option<String>,
    /// Which state of a resource it is.
    pub(crate) etag: Option<String>,
    /// Seconds.
    pub(crate) retry_after: Option<u64>,
    pub(crate) body: Vec<u8>,
}

impl Http {
    /// A client that takes any certificate, for trying somebody's own agent by hand.
    pub(crate) fn for_check() -> Result<Client, Fault> {
        build(None).map(|(client, _)| client)
    }

    fn client(&self, pin: &str) -> Result<Client, Fault> {
        let mut clients = self.clients.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some(client) = clients.get(pin) {
            return Ok(client.clone());
        }
        let (client, _) = build(Some(pin))?;
        clients.insert(pin.to_owned(), client.clone());
        Ok(client)
    }

    async fn send(&self, call: &Call<'_>, limit: Option<Duration>) -> Result<Response, Fault> {
        let url = format!("https://{}{}", call.address, call.path);
        let mut request = self.client(call.pin)?.request(call.method.clone(), url);
        for (name, value) in &call.headers {
            request = request.header(*name, value);
        }
        if let Some(body) = &call.body {
            request = request.json(body);
        }
        if let Some(bytes) = &call.bytes {
            request = request
                .header("content-type", "application/octet-stream")
                .body(bytes.clone());
        }
        if let Some(limit) = limit {
            request = request.timeout(limit);
        }
        request.send().await.map_err(|e| unanswered(&call.who, &e))
    }

    /// Sends it and reads the answer as `T`.
    pub(crate) async fn call<T: DeserializeOwned>(&self, call: Call<'_>) -> Result<T, Fault> {
        let body = self.fetch(&call).await?;
        parsed(&call, body)
    }

    /// Sends it and reads the answer as `T`; none where the device has no such thing.
    pub(crate) async fn call_if_found<T: DeserializeOwned>(
        &self,
        call: Call<'_>,
    ) -> Result<Option<T>, Fault> {
        let response = self.send(&call, Some(WHOLE)).await?;
        if response.status() == StatusCode::NOT_FOUND {
            return Ok(None);
        }
        let body = body(&call, response).await?;
        parsed(&call, body).map(Some)
    }

    /// Sends it and reads the answer as bytes.
    pub(crate) async fn fetch(&self, call: &Call<'_>) -> Result<Vec<u8>, Fault> {
        let limit = if call.bytes.is_some() { PIECE } else { WHOLE };
        let response = self.send(call, Some(limit)).await?;
        body(call, response).await
    }

    /// The same for as many bytes as one answer may have.
    pub(crate) async fn fetch_long(&self, call: &Call<'_>) -> Result<Vec<u8>, Fault> {
        let response = self.send(call, Some(PIECE)).await?;
        body(call, response).await
    }

    /// Which certificate is shown at an address, whatever is answered there.
    pub(crate) async fn shown(&self, address: &str) -> Result<String, Fault> {
        let (client, shown) = build(None)?;
        let asked = client.get(format!("https://{address}/"));
        let response = asked.timeout(Duration::from_secs(3)).send().await;
        response.map_err(|e| unanswered(address, &e))?;
        let pin = shown.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Ok(pin.unwrap_or_default())
    }

    /// Sends it and answers whatever came, with what its head says of signing in and patience.
    pub(crate) async fn exchange(&self, call: &Call<'_>) -> Result<Reply, Fault> {
        let response = self.send(call, Some(WHOLE)).await?;
        let head = |name: &str| {
            let value = response.headers().get(name)?.to_str().ok()?;
            Some(value.chars().take(1024).collect::<String>())
        };
        let (status, token) = (response.status().as_u16(), head("x-auth-token"));
        let retry_after = head("retry-after").and_then(|v| v.parse().ok());
        let etag = head("etag");
        let body = read(&call.who, response).await?;
        Ok(Reply {
            status,
            token,
            etag,
            retry_after,
            body,
        })
    }

    /// Follows an endless answer of one JSON value a line.
    pub(crate) async fn follow(&self, call: Call<'_>) -> Result<Watch, Fault> {
        let response = timeout(WHOLE, self.send(&call, None)).await;
        let response = response.map_err(|_| silent(&call.who))??;
        let status = response.status();
        if !status.is_success() {
            let body = read(&call.who, response).await?;
            return Err(refused(status.as_u16(), &body));
        }
        Ok(Watch {
            bytes: Box::pin(response.bytes_stream()),
            rest: Vec::new(),
            who: call.who.clone(),
        })
    }

    /// Asks for another protocol on the same connection.
    pub(crate) async fn upgrade(&self, call: &Call<'_>) -> Result<Upgraded, Fault> {
        let response = timeout(WHOLE, self.send(call, None)).await;
        let response = response.map_err(|_| silent(&call.who))??;
        let status = response.status();
        if status != StatusCode::SWITCHING_PROTOCOLS {
            let body = read(&call.who, response).await?;
            return Err(refused(status.as_u16(), &body));
        }
        let upgraded = response.upgrade().await;
        upgraded.map_err(|e| unanswered(&call.who, &e))
    }

    /// Asks somebody unknown: answers what they said and the fingerprint that they showed.
    pub(crate) async fn greet<T: DeserializeOwned>(
        &self,
        address: &str,
        path: &str,
    ) -> Result<(T, String), Fault> {
        let (client, shown) = build(None)?;
        let url = format!("https://{address}{path}");
        let response = client
            .get(url)
            .timeout(Duration::from_secs(3))
            .send()
            .await
            .map_err(|e| unanswered(address, &e))?;
        let body = read(address, response).await?;
        let answer = said::read(&body).map_err(|e| garbled(address, &e.to_string()))?;
        let pin = shown.lock().unwrap_or_else(PoisonError::into_inner).clone();
        Ok((answer, pin.unwrap_or_default()))
    }
}

/// The whole answer, or the device's no.
async fn body(call: &Call<'_>, response: Response) -> Result<Vec<u8>, Fault> {
    let status = response.status();
    let body = read(&call.who, response).await?;
    if !status.is_success() {
        return Err(refused(status.as_u16(), &body));
    }
    Ok(body)
}

fn parsed<T: DeserializeOwned>(call: &Call<'_>, body: Vec<u8>) -> Result<T, Fault> {
    let body = if body.is_empty() {
        b"null".to_vec()
    } else {
        body
    };
    said::read(&body).map_err(|e| garbled(&call.who, &e.to_string()))
}

fn silent(who: &str) -> Fault {
    let said = format!("{who} did not answer in time.");
    Fault::new(FaultKind::TimedOut, said, "It is asked again.")
}

fn build(pin: Option<&str>) -> Result<(Client, tls::Shown), Fault> {
    let ours = |e: String| {
        Fault::new(
            FaultKind::Refused,
            format!("No secure connection can be made: {e}"),
            "Report this.",
        )
    };
    let (config, shown) = tls::config(pin).map_err(|e| ours(e.to_string()))?;
    let client = Client::builder()
        .tls_backend_preconfigured(config)
        .https_only(true)
        .no_proxy()
        .redirect(reqwest::redirect::Policy::none())
        .connect_timeout(CONNECT)
        .build()
        .map_err(|e| ours(e.to_string()))?;
    Ok((client, shown))
}

async fn read(address: &str, mut response: Response) -> Result<Vec<u8>, Fault> {
    // Large ones are not copied again and again while they grow.
    let said = response
        .content_length()
        .and_then(|n| usize::try_from(n).ok());
    let mut body = Vec::with_capacity(said.unwrap_or(0).min(LARGEST));
    while let Some(chunk) = response
        .chunk()
        .await
        .map_err(|e| unanswered(address, &e))?
    {
        if body.len() + chunk.len() > LARGEST {
            return Err(garbled(address, "more than 4 MiB"));
        }
        body.extend_from_slice(&chunk);
    }
    Ok(body)
}

type Chunks = std::pin::Pin<Box<dyn Stream<Item = reqwest::Result<bytes::Bytes>> + Send>>;

/// A stream of values from a device.
pub struct Watch {
    bytes: Chunks,
    rest: Vec<u8>,
    who: String,
}

impl Watch {
    /// The next value; a silence of more than `limit` is a fault.
    pub(crate) async fn next<T: DeserializeOwned>(&mut self, limit: Duration) -> Result<T, Fault> {
        let line = self.line(limit).await?;
        said::read(&line).map_err(|e| garbled(&self.who, &e.to_string()))
    }

    /// The same where its texts are bytes for a terminal, which takes whatever they are.
    pub(crate) async fn next_bytes<T: DeserializeOwned>(
        &mut self,
        limit: Duration,
    ) -> Result<T, Fault> {
        let line = self.line(limit).await?;
        serde_json::from_slice(&line).map_err(|e| garbled(&self.who, &e.to_string()))
    }

    async fn line(&mut self, limit: Duration) -> Result<Vec<u8>, Fault> {
        loop {
            if let Some(end) = self.rest.iter().position(|b| *b == b'\n') {
                return Ok(self.rest.drain(..=end).collect());
            }
            if self.rest.len() > LARGEST {
                return Err(garbled(&self.who, "more than 4 MiB in a line"));
            }
            let silent = || {
                let said = format!("{} has been silent for {} s.", self.who, limit.as_secs());
                Fault::new(FaultKind::TimedOut, said, "It is asked again.")
            };
            match tokio::time::timeout(limit, self.bytes.next()).await {
                Err(_) => return Err(silent()),
                Ok(None) => {
                    let said = format!("{} ended the connection.", self.who);
                    return Err(Fault::new(
                        FaultKind::Unreachable,
                        said,
                        "It is asked again.",
                    ));
                }
                Ok(Some(Err(error))) => return Err(unanswered(&self.who, &error)),
                Ok(Some(Ok(chunk))) => self.rest.extend_from_slice(&chunk),
            }
        }
    }
}
