//! Signing in: by name and password with each call, or, where a service doesn't take that, once by a session whose token is
//! used until it is refused (DSP0266, section 13.3).

use super::{
    Controller,
    wire::{Link, Root},
};
use crate::{
    fault::{garbled, refused},
    http::{Call, Reply},
    said,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde::de::DeserializeOwned;
use serde_json::{Value, json};
use std::{
    collections::HashMap,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::time::sleep;
use zastrugi_core::runs::{Fault, FaultKind};

/// Everybody begins here.
pub(super) const ROOT: &str = "/redfish/v1/";
/// A service that asks for patience gets so much of it in a call, and is asked again so often.
const MOST_PATIENCE: Duration = Duration::from_secs(3);
const TRIES: usize = 3;

/// What is known of each service, by its address: where the system stands, and the session that is open.
#[derive(Debug, Clone, Default)]
pub(crate) struct Ways(Arc<Mutex<HashMap<String, Way>>>);

#[derive(Debug, Clone, Default)]
pub(super) struct Way {
    pub(super) system: Option<String>,
    token: Option<String>,
}

impl Ways {
    pub(super) fn of(&self, address: &str) -> Way {
        let all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.get(address).cloned().unwrap_or_default()
    }
    pub(super) fn set(&self, address: &str, change: impl FnOnce(&mut Way)) {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        change(all.entry(address.to_owned()).or_default());
    }
}

impl Controller<'_> {
    fn basic(&self) -> (&'static str, String) {
        let plain = format!("{}:{}", self.user, self.password);
        (
            "authorization",
            format!("Basic {}", BASE64_STANDARD.encode(plain)),
        )
    }

    /// The header that lets us in.
    pub(super) async fn signature(&self) -> Result<(&'static str, String), Fault> {
        let token = self.ways.of(self.address).token;
        Ok(token.map_or_else(|| self.basic(), |t| ("x-auth-token", t)))
    }

    pub(super) async fn get<T: DeserializeOwned>(&self, path: &str) -> Result<T, Fault> {
        let reply = self.ask(Method::GET, path, None).await?;
        said::read(&reply.body).map_err(|e| garbled(&self.who(), &e.to_string()))
    }

    /// Anything of the two hundreds is a yes; whether it was done is read.
    pub(super) async fn post(&self, path: &str, body: Value) -> Result<(), Fault> {
        self.ask(Method::POST, path, Some(body)).await.map(drop)
    }

    /// A change of what is there already, as it is now: where somebody else changed it meanwhile, it is read and changed once more
    /// (If-Match, RFC 9110, section 13.1.1; DSP0266, section 6.5).
    pub(super) async fn patch(&self, path: &str, body: Value) -> Result<(), Fault> {
        let mut tries = 0;
        loop {
            tries += 1;
            let now = self.ask(Method::GET, path, None).await?;
            let mut call = self.call(Method::PATCH, path.to_owned(), Some(body.clone()));
            call.headers.extend(now.etag.map(|tag| ("if-match", tag)));
            match self.signed(call).await? {
                Reply { status: 412, .. } if tries < TRIES => {}
                reply => return answered(reply).map(drop),
            }
        }
    }

    async fn ask(&self, method: Method, path: &str, body: Option<Value>) -> Result<Reply, Fault> {
        answered(
            self.signed(self.call(method, path.to_owned(), body))
                .await?,
        )
    }

    /// Signs it in whatever way the service takes.
    async fn signed(&self, call: Call<'_>) -> Result<Reply, Fault> {
        let signed = self.signature().await?;
        let reply = self.patiently(&call, signed).await?;
        if reply.status != 401 {
            return Ok(reply);
        }
        // A session that has ended, or a service that takes no passwords with calls.
        let token = self.session().await?;
        self.patiently(&call, ("x-auth-token", token)).await
    }

    /// A service that says that it can't now, and when it can, has done nothing: it is asked again then.
    async fn patiently(
        &self,
        call: &Call<'_>,
        signed: (&'static str, String),
    ) -> Result<Reply, Fault> {
        let mut tries = 0;
        loop {
            tries += 1;
            let mut headers = vec![("odata-version", "4.0".to_owned()), signed.clone()];
            headers.extend(call.headers.iter().cloned());
            let call = Call {
                headers,
                ..self.call(call.method.clone(), call.path.clone(), call.body.clone())
            };
            let reply = self.http.exchange(&call).await?;
            let after = reply.retry_after.filter(|_| reply.status == 503);
            match after.map(Duration::from_secs) {
                Some(after) if tries < TRIES && after <= MOST_PATIENCE => sleep(after).await,
                _ => return Ok(reply),
            }
        }
    }

    /// Opens one; the password is sent in the body, and never again until the token is refused.
    async fn session(&self) -> Result<String, Fault> {
        self.ways.set(self.address, |way| way.token = None);
        let call = self.call(Method::GET, ROOT.into(), None);
        let reply = self.http.exchange(&call).await?;
        let root: Root =
            said::read(&reply.body).map_err(|e| garbled(&self.who(), &e.to_string()))?;
        let no = || {
            let said = format!("{} does not take the password.", self.who());
            let remedy = "It was changed there. Claim the host again, so that it gets a new one.";
            Fault::new(FaultKind::Password, said, remedy)
        };
        let sessions = root.links.sessions.ok_or_else(no)?;
        let path = local(&self.who(), &sessions)?;
        let body = json!({"UserName": self.user, "Password": self.password});
        let reply = self
            .http
            .exchange(&self.call(Method::POST, path, Some(body)))
            .await?;
        let token = reply.token.filter(|_| (200..300).contains(&reply.status));
        let token = token.ok_or_else(no)?;
        self.ways
            .set(self.address, |way| way.token = Some(token.clone()));
        Ok(token)
    }
}

fn answered(reply: Reply) -> Result<Reply, Fault> {
    match reply.status {
        200..300 => Ok(reply),
        status => Err(refused(status, &reply.body)),
    }
}

/// A link as a path of the same service: nobody sends us, or our password, elsewhere.
pub(super) fn local(who: &str, link: &Link) -> Result<String, Fault> {
    path(who, &link.id)
}

pub(super) fn path(who: &str, link: &str) -> Result<String, Fault> {
    let fine = link.starts_with('/')
        && !link.starts_with("//")
        && link.len() <= 512
        && link.chars().all(|c| c.is_ascii_graphic());
    if fine {
        return Ok(link.trim_end_matches('/').to_owned());
    }
    let said = format!("A link of {who} leads out of the service; it is not followed.");
    Err(Fault::new(
        FaultKind::Refused,
        said,
        "Look at the controller.",
    ))
}
