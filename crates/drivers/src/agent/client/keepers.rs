//! Keepers: given to a host and taken from it; and what stands on a volume for them to agree by.

use super::{Agent, Stamp, at_volume};
use crate::{fault::refused, keeping::Agreement};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use std::collections::BTreeSet;
use zastrugi_core::{
    guard::{Held, Line},
    ids::ClusterId,
    runs::Fault,
};

/// Lines that are read at once.
const LINES: usize = 500;

#[derive(Deserialize)]
struct Lines {
    lines: Vec<Value>,
}

impl Agent<'_> {
    pub(crate) async fn give_keeper(
        &self,
        stamp: Stamp<'_>,
        cluster: ClusterId,
        (sealed, key): (String, String),
    ) -> Result<(), Fault> {
        let body = json!({"sealed": sealed, "key": key});
        let path = format!("/v1/keepers/{cluster}");
        self.tell(Method::PUT, path, Some(stamp), Some(body)).await
    }

    pub(crate) async fn take_keeper(
        &self,
        stamp: Stamp<'_>,
        cluster: ClusterId,
    ) -> Result<(), Fault> {
        let path = format!("/v1/keepers/{cluster}");
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }

    /// Writes beside a host's lease that it shall end what it runs, under a number.
    pub(crate) async fn tell_by_lease(
        &self,
        uid: &str,
        serial: &str,
        number: u64,
    ) -> Result<(), Fault> {
        let serial =
            percent_encoding::utf8_percent_encode(serial, percent_encoding::NON_ALPHANUMERIC);
        let path = at_volume(uid, &format!("leases/{serial}"));
        let body = json!({"end": number});
        self.tell(Method::PUT, path, None, Some(body)).await
    }

    pub(crate) async fn agreement(&self, uid: &str) -> Result<Agreement, Fault> {
        self.get(at_volume(uid, "agreement")).await
    }

    pub(crate) async fn name_keepers(
        &self,
        stamp: Stamp<'_>,
        uid: &str,
        members: &BTreeSet<String>,
    ) -> Result<Agreement, Fault> {
        let body = json!({"members": members});
        self.put(at_volume(uid, "agreement/members"), stamp, body)
            .await
    }

    /// Compare and set; false where it is not as it was read.
    pub(crate) async fn agree(&self, uid: &str, from: &Held, to: &Held) -> Result<bool, Fault> {
        let body = json!({"token": from.token, "counter": from.counter, "to": to});
        let path = at_volume(uid, "agreement");
        let call = self.ask(Method::PATCH, path, None, Some(body));
        let reply = self.http.exchange(&call).await?;
        match reply.status {
            200..300 => Ok(true),
            409 => Ok(false),
            status => Err(refused(status, &reply.body)),
        }
    }

    /// Lines that make no sense to this version are left out.
    pub(crate) async fn journal(&self, uid: &str, after: u64) -> Result<Vec<Line>, Fault> {
        let path = at_volume(uid, &format!("journal?after={after}"));
        let read: Lines = self.get(path).await?;
        let lines = read.lines.into_iter().take(LINES);
        Ok(lines
            .filter_map(|l| serde_json::from_value(l).ok())
            .collect())
    }

    pub(crate) async fn add_line(&self, uid: &str, held: &Held, line: &Line) -> Result<(), Fault> {
        let body = json!({"token": held.token, "holder": held.holder, "line": line});
        let path = at_volume(uid, &format!("journal/{}", line.index));
        self.tell(Method::PUT, path, None, Some(body)).await
    }
}
