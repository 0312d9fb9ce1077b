//! A medium over HTTP, and what is on it.

use super::bare::{Image, Seed};
use crate::rooms::machines::seed::files;
use futures::StreamExt;
use hyper::{StatusCode, body::Incoming};
use hyper_util::{client::legacy::Client, rt::TokioExecutor};
use serde::de::DeserializeOwned;
use std::time::Duration;

const MOST: usize = 64 << 20;
const PATIENCE: Duration = Duration::from_secs(30);

/// A controller reads so many bytes at a time.
const PIECE: usize = 256 << 10;

/// The bytes at an address, piece by piece (RFC 9110, section 14); all at once from a server that knows no ranges.
async fn get(url: &str) -> Result<Vec<u8>, String> {
    let mut all = Vec::new();
    loop {
        let (status, total, piece) = piece(url, all.len()).await?;
        let whole = status == StatusCode::OK;
        if whole {
            all.clear();
        }
        all.extend(piece);
        if all.len() > MOST {
            return Err("it is too large".into());
        }
        if whole || total.is_none_or(|t| all.len() >= t) {
            return Ok(all);
        }
    }
}

/// What the server says to one range, how long the whole is, and the bytes.
async fn piece(url: &str, from: usize) -> Result<(StatusCode, Option<usize>, Vec<u8>), String> {
    let client: Client<_, axum::body::Body> = Client::builder(TokioExecutor::new()).build_http();
    let range = format!("bytes={from}-{}", from + PIECE - 1);
    let request = hyper::Request::get(url).header("Range", range);
    let request = request.body(axum::body::Body::empty());
    let request = request.map_err(|_| format!("{url} is no address"))?;
    let got = tokio::time::timeout(PATIENCE, client.request(request)).await;
    let answer = got.map_err(|_| "no answer".to_owned())?;
    let answer: hyper::Response<Incoming> = answer.map_err(|e| format!("no answer: {e}"))?;
    let status = answer.status();
    if !status.is_success() {
        return Err(format!("the server says {status}"));
    }
    let said = answer.headers().get("Content-Range");
    let total = said.and_then(|h| h.to_str().ok()?.rsplit_once('/')?.1.parse().ok());
    let mut body = axum::body::Body::new(answer.into_body()).into_data_stream();
    let mut bytes = Vec::new();
    while let Some(chunk) = body.next().await {
        bytes.extend(chunk.map_err(|e| format!("it broke off: {e}"))?);
        if bytes.len() > MOST {
            return Err("it is too large".into());
        }
    }
    if bytes.is_empty() && total.is_some() {
        return Err("the server sends nothing".into());
    }
    Ok((status, total, bytes))
}

/// A JSON file on a medium with this label.
async fn read<T: DeserializeOwned>(url: &str, wanted: &str, file: &str) -> Result<T, String> {
    let image = get(url).await?;
    let (label, files) = files(&image).ok_or("it is no medium")?;
    if label != wanted {
        return Err(format!("it is labelled {label}, not {wanted}"));
    }
    let named = |name: &str| name.split(';').next() == Some(file);
    let found = files.into_iter().find(|(name, _)| named(name));
    let (_, bytes) = found.ok_or_else(|| format!("it has no {file}"))?;
    serde_json::from_slice(&bytes).map_err(|e| format!("{file} can't be read: {e}"))
}

/// The installation, and what it shall make of the host.
pub(crate) async fn both(image: &str, seed: &str) -> Result<(Image, Seed), String> {
    let of = |slot: u8, why: String| format!("Virtual medium {slot} can't be read: {why}.");
    let read_image = read(image, "INSTALL", "IMAGE.JSN").await;
    let image = read_image.map_err(|why| of(1, why))?;
    let read_seed = read(seed, "HOSTSEED", "SEED.JSN").await;
    Ok((image, read_seed.map_err(|why| of(2, why))?))
}
