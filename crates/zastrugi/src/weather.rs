//! The demo's weather: what its panel asks for goes to the stand-ins' control socket, with their token.

use futures::future::BoxFuture;
use serde::{Serialize, de::DeserializeOwned};
use std::{net::SocketAddr, time::Duration};
use zastrugi_standins as devices;
use zastrugi_web::{Climate, Gust, Sky};

/// The control socket of the stand-ins.
pub(crate) struct Control {
    at: String,
    token: String,
    client: reqwest::Client,
}

impl Control {
    pub(crate) fn new(socket: SocketAddr, token: String) -> Self {
        // Nothing is said by TLS here, and a client wants a provider all the same.
        drop(rustls::crypto::ring::default_provider().install_default());
        Control {
            at: format!("http://{socket}"),
            token,
            client: reqwest::Client::new(),
        }
    }
    async fn ask<T: DeserializeOwned>(&self) -> Result<T, reqwest::Error> {
        let call = self.client.get(format!("{}/weather", self.at));
        let answer = call
            .bearer_auth(&self.token)
            .timeout(PATIENCE)
            .send()
            .await?;
        answer.error_for_status()?.json().await
    }
    async fn tell(&self, body: &impl Serialize) -> Result<(), reqwest::Error> {
        let call = self.client.post(format!("{}/weather", self.at)).json(body);
        let answer = call
            .bearer_auth(&self.token)
            .timeout(PATIENCE)
            .send()
            .await?;
        answer.error_for_status().map(drop)
    }
}

const PATIENCE: Duration = Duration::from_secs(5);

impl Climate for Control {
    fn skies(&self) -> BoxFuture<'_, Result<Vec<Sky>, String>> {
        Box::pin(async move {
            let all: Vec<devices::Sky> = self.ask().await.map_err(|e| e.to_string())?;
            let sky = |s: devices::Sky| Sky {
                kind: s.kind,
                name: s.name,
                words: s.words,
            };
            Ok(all.into_iter().map(sky).collect())
        })
    }
    fn blow(&self, gust: Gust) -> BoxFuture<'_, Result<(), String>> {
        Box::pin(async move {
            let gust = devices::Gust {
                kind: gust.kind,
                name: gust.name,
                word: gust.word,
                broken: gust.broken,
            };
            self.tell(&gust).await.map_err(|e| e.to_string())
        })
    }
}
