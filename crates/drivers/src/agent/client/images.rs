//! Images on a volume.

use super::{Agent, Stamp, at_volume};
use crate::{agent::limited, fault::garbled, http::Call};
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
    pub(crate) sha256: Option<String>,
}

#[derive(Deserialize)]
struct Received {
    received: u64,
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

    /// Answers the SHA-256 of what lies there.
    pub(crate) async fn seal_image(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        image: &Uuid,
    ) -> Result<String, Fault> {
        let path = at_volume(uid, &format!("images/{image}/seal"));
        let said: FileSeen = self
            .http
            .call(self.ask(Method::POST, path, Some(stamp), Some(json!({}))))
            .await?;
        said.sha256
            .map(|s| limited(s).to_lowercase())
            .ok_or_else(|| garbled(self.address, "no checksum"))
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
