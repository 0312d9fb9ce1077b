//! Images on a volume.

use super::{Agent, Stamp, at_volume};
use crate::{agent::limited, http::Call};
use reqwest::Method;
use serde::Deserialize;
use serde_json::json;
use uuid::Uuid;
use zastrugi_core::{runs::Fault, units::Bytes};

/// An image as its volume has it.
#[derive(Deserialize)]
pub(crate) struct FileSeen {
    pub(crate) received: u64,
    #[serde(default)]
    sha256: Option<String>,
    /// How much was read for its checksum; none: nobody reads it.
    #[serde(default)]
    pub(crate) summed: Option<u64>,
    /// Why it could not be read.
    #[serde(default)]
    unread: Option<String>,
}

#[derive(Deserialize)]
struct Received {
    received: u64,
}

impl FileSeen {
    pub(crate) fn unread(&self) -> Option<String> {
        self.unread.clone().map(limited)
    }

    /// Its SHA-256 as the host read it, once it is sealed.
    pub(crate) fn sum(&self) -> Option<String> {
        let sum = self.sha256.clone()?;
        Some(limited(sum).to_lowercase())
    }
}

impl Agent<'_> {
    pub(crate) async fn make_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
        name: &str,
        size: Bytes,
    ) -> Result<(), Fault> {
        let body = json!({"name": name, "size": size.0});
        let path = at_volume(uid, &format!("images/{image}"));
        self.tell(Method::PUT, path, Some(stamp), Some(body)).await
    }

    pub(crate) async fn image(&self, uid: &str, image: &Uuid) -> Result<FileSeen, Fault> {
        let path = at_volume(uid, &format!("images/{image}"));
        self.get(path).await
    }

    /// Answers how many bytes are there then.
    pub(crate) async fn append(
        &self,
        uid: &str,
        image: &Uuid,
        from: u64,
        bytes: bytes::Bytes,
    ) -> Result<u64, Fault> {
        let path = at_volume(uid, &format!("images/{image}/bytes?from={from}"));
        let call = Call {
            bytes: Some(bytes),
            ..self.ask(Method::PUT, path, None, None)
        };
        let said: Received = self.http.call(call).await?;
        Ok(said.received)
    }

    pub(crate) async fn read_image(
        &self,
        uid: &str,
        image: &Uuid,
        from: u64,
        length: usize,
    ) -> Result<Vec<u8>, Fault> {
        let path = at_volume(
            uid,
            &format!("images/{image}/bytes?from={from}&length={length}"),
        );
        self.http
            .fetch(&self.ask(Method::GET, path, None, None))
            .await
    }

    /// Nothing more is taken; the host begins to work out the checksum.
    pub(crate) async fn seal_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
    ) -> Result<(), Fault> {
        let path = at_volume(uid, &format!("images/{image}/seal"));
        let body = Some(json!({}));
        self.tell(Method::POST, path, Some(stamp), body).await
    }

    pub(crate) async fn drop_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
    ) -> Result<(), Fault> {
        let path = at_volume(uid, &format!("images/{image}"));
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }
}
