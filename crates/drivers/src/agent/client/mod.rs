//! The calls of the agent's protocol: a file for what each part of it is about.

mod carrying;
mod claim;
mod consoles;
mod delivering;
mod hardware;
mod images;
mod keepers;
mod machines;
mod moving;
mod names;
mod neighbours;
mod packages;
mod pools;
mod questions;
mod records;
mod sharing;
mod snapshots;
mod taking;
mod templates;
mod volumes;
mod watch;

pub(crate) use carrying::{Blocks, WireBlocks};
pub(crate) use claim::{Claimed, Installed, greet, greet_installed};
pub(crate) use delivering::{Delivered, FollowedDisk, Following, Placing};
pub(crate) use hardware::Card;
pub(crate) use machines::{Cards, boot, record};
pub(crate) use names::Told;
pub(crate) use sharing::NewShared;
pub(crate) use snapshots::Wish as SnapshotWish;
pub(crate) use volumes::Seen;
pub use watch::{KeptScreen, Sample};

use crate::http::{Call, Http, Watch};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::Method;
use serde_json::Value;
use zastrugi_core::{
    epoch::Epoch,
    ids::Revision,
    runs::{Fault, FaultKind},
};

/// An agent at an address, with the certificate that it must show and the key that we must.
pub(crate) struct Agent<'a> {
    pub(crate) http: &'a Http,
    /// The host's name, for words; where none is known yet, its address.
    pub(crate) name: &'a str,
    pub(crate) address: &'a str,
    pub(crate) pin: &'a str,
    pub(crate) key: &'a str,
}

/// Which step asks, for the agent to recognise a repetition and an outdated caller.
#[derive(Clone, Copy)]
pub(crate) struct Stamp<'a> {
    pub(crate) key: &'a str,
    pub(crate) epoch: Epoch,
    pub(crate) fence: Revision,
}

/// What RFC 3986 calls unreserved stands in a path as it is.
const RESERVED: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');

/// A name as one segment of a path: a name with a slash or a question mark asks for nothing else.
pub(crate) fn segment(name: &str) -> String {
    utf8_percent_encode(name, RESERVED).to_string()
}

fn at_volume(uid: &str, rest: &str) -> String {
    format!("/v1/volumes/{}/{rest}", segment(uid))
}

impl Agent<'_> {
    fn ask(
        &self,
        method: Method,
        path: impl Into<String>,
        stamp: Option<Stamp<'_>>,
        body: Option<Value>,
    ) -> Call<'_> {
        let mut headers = Vec::new();
        if !self.key.is_empty() {
            headers.push(("authorization", format!("Bearer {}", self.key)));
        }
        if let Some(stamp) = stamp {
            headers.push(("step-key", stamp.key.to_owned()));
            let Epoch { number, history } = stamp.epoch;
            headers.push(("epoch", format!("{number}.{}", history.simple())));
            headers.push(("fence", stamp.fence.0.to_string()));
        }
        Call {
            who: self.name.to_owned(),
            address: self.address,
            pin: self.pin,
            method,
            path: path.into(),
            headers,
            body,
            bytes: None,
        }
    }

    /// Sends it; that it was taken is the answer.
    async fn tell(
        &self,
        method: Method,
        path: impl Into<String>,
        stamp: Option<Stamp<'_>>,
        body: Option<Value>,
    ) -> Result<(), Fault> {
        let call = self.ask(method, path, stamp, body);
        self.http.call::<Value>(call).await.map(drop)
    }

    async fn get<T: serde::de::DeserializeOwned>(
        &self,
        path: impl Into<String>,
    ) -> Result<T, Fault> {
        self.http
            .call(self.ask(Method::GET, path, None, None))
            .await
    }

    async fn put<T: serde::de::DeserializeOwned>(
        &self,
        path: impl Into<String>,
        stamp: Stamp<'_>,
        body: Value,
    ) -> Result<T, Fault> {
        self.http
            .call(self.ask(Method::PUT, path, Some(stamp), Some(body)))
            .await
    }

    async fn post<T: serde::de::DeserializeOwned>(
        &self,
        path: &str,
        stamp: Stamp<'_>,
        body: Value,
    ) -> Result<T, Fault> {
        self.http
            .call(self.ask(Method::POST, path, Some(stamp), Some(body)))
            .await
    }

    /// That it answers is the answer, whatever it says.
    pub(crate) async fn ping(&self) -> Result<(), Fault> {
        match self.get::<Value>("/v1/clock").await {
            Err(fault)
                if matches!(
                    fault.kind,
                    FaultKind::TimedOut | FaultKind::Unreachable | FaultKind::Ours
                ) =>
            {
                Err(fault)
            }
            _ => Ok(()),
        }
    }

    /// From now on it obeys the history of `stamp`, and no older one; nothing else is done.
    pub(crate) async fn meet(&self, stamp: Stamp<'_>) -> Result<(), Fault> {
        self.tell(Method::PUT, "/v1/history", Some(stamp), None)
            .await
    }

    pub(crate) async fn watch(&self) -> Result<Watch, Fault> {
        self.http
            .follow(self.ask(Method::GET, "/v1/events", None, None))
            .await
    }
}

#[cfg(test)]
mod tests {
    use super::at_volume;

    /// If this fails, a device's odd identity makes us call something else on the host.
    #[test]
    fn a_name_stays_one_segment() {
        assert_eq!(
            at_volume("naa.600a-1", "mount"),
            "/v1/volumes/naa.600a-1/mount"
        );
        assert_eq!(
            at_volume("../x?y#z", "mount"),
            "/v1/volumes/..%2Fx%3Fy%23z/mount"
        );
        assert_eq!(at_volume("a b", "owner"), "/v1/volumes/a%20b/owner");
    }
}
