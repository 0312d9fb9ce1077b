//! A medium over HTTP, and what is on it.

use super::bare::{Image, Seed};
use crate::rooms::machines::seed::files;
use futures::StreamExt;
use hyper::body::Incoming;
use hyper_util::{client::legacy::Client, rt::TokioExecutor};
use serde::de::DeserializeOwned;
use std::time::Duration;

const MOST: usize = 64 << 20;
const PATIENCE: Duration = Duration::from_secs(30);

/// The bytes at an address.
async fn get(url: &str) -> Result<Vec<u8>, String> {
    let uri = url.parse().map_err(|_| format!("{url} is no address"))?;
    let client: Client<_, axum::body::Body> = Client::builder(TokioExecutor::new()).build_http();
    let got = tokio::time::timeout(PATIENCE, client.get(uri)).await;
    let answer = got.map_err(|_| "no answer".to_owned())?;
    let answer: hyper::Response<Incoming> = answer.map_err(|e| format!("no answer: {e}"))?;
    if !answer.status().is_success() {
        return Err(format!("the server says {}", answer.status()));
    }
    let mut body = axum::body::Body::new(answer.into_body()).into_data_stream();
    let mut all = Vec::new();
    while let Some(chunk) = body.next().await {
        all.extend(chunk.map_err(|e| format!("it broke off: {e}"))?);
        if all.len() > MOST {
            return Err("it is too large".into());
        }
    }
    Ok(all)
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
