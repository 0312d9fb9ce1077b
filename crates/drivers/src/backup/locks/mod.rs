//! Object lock (S3): what is locked nobody can take away before its time, whatever credentials they have; it can be overwritten and
//! hidden, but what was there stays beneath as an older version.

mod answers;
mod calls;

use super::{Bucket, StoreFault};
use base64::{Engine, engine::general_purpose::STANDARD};
use bytes::Bytes;
use calls::{Call, Calls};
use md5::{Digest, Md5};
use object_store::client::HttpClient;
use reqwest::Method;
use std::collections::BTreeMap;

/// Nobody can shorten it, no administrator either.
const MODE: &str = "COMPLIANCE";
const UNTIL: &str = "x-amz-object-lock-retain-until-date";

/// One of an object.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Version {
    pub(super) id: String,
    pub(super) size: u64,
}

/// What a bucket's server knows of locks and versions. Moments are milliseconds since 1970 by its clock.
pub(super) struct Locks {
    calls: Calls,
    bucket: String,
}

impl Locks {
    pub(super) fn new(client: HttpClient, bucket: &Bucket) -> Locks {
        Locks {
            calls: Calls::new(client, bucket),
            bucket: bucket.name.clone(),
        }
    }

    /// Whether what is put here can be locked, one by one.
    ///
    /// # Errors
    /// [`StoreFault::Refused`] where it can't, with what to do.
    pub(super) async fn can(&self) -> Result<(), StoreFault> {
        let none = || {
            let text = format!(
                "bucket {} has no object lock, and must be made with it",
                self.bucket
            );
            StoreFault::Refused(text)
        };
        let said = self.calls.send(Call {
            query: vec![("object-lock", String::new())],
            ..Call::default()
        });
        let said = match said.await {
            Err(StoreFault::Gone(_)) => return Err(none()),
            other => other?,
        };
        let found: answers::Configuration = answers::read(&said.body)?;
        match (found.object_lock_enabled.as_deref(), found.rule) {
            (Some("Enabled"), None) => Ok(()),
            // What says that somebody writes must go when it is written.
            (Some("Enabled"), Some(_)) => Err(StoreFault::Refused(format!(
                "bucket {} locks by a rule of its own whatever is put there; take that rule away",
                self.bucket
            ))),
            _ => Err(none()),
        }
    }

    /// What time it is there.
    pub(super) async fn now(&self) -> Result<u64, StoreFault> {
        let said = self.calls.send(Call {
            query: vec![("object-lock", String::new())],
            ..Call::default()
        });
        answers::date(&said.await?.headers)
    }

    /// Puts an object that stays until then.
    pub(super) async fn put(
        &self,
        name: &str,
        body: Bytes,
        until: u64,
        fresh: bool,
    ) -> Result<(), StoreFault> {
        let mut headers = vec![
            ("x-amz-object-lock-mode", MODE.to_owned()),
            (UNTIL, answers::written(until)),
            checked(&body),
        ];
        if fresh {
            headers.push(("if-none-match", "*".into()));
        }
        let call = Call {
            method: Method::PUT,
            name,
            headers,
            body,
            ..Call::default()
        };
        self.calls.send(call).await.map(|_| ())
    }

    /// Versions of everything whose name begins so, oldest first of each; markers that hide them are none.
    pub(super) async fn beneath(
        &self,
        start: &str,
    ) -> Result<BTreeMap<String, Vec<Version>>, StoreFault> {
        let mut all: BTreeMap<String, Vec<(String, Version)>> = BTreeMap::new();
        let mut after: Option<(String, String)> = None;
        loop {
            let mut query = vec![
                ("max-keys", "1000".to_owned()),
                ("prefix", self.calls.key(start)),
                ("versions", String::new()),
            ];
            if let Some((key, version)) = after.take() {
                query.push(("key-marker", key));
                query.push(("version-id-marker", version));
            }
            // The signature wants them sorted.
            query.sort();
            let said = self.calls.send(Call {
                query,
                ..Call::default()
            });
            let page: answers::Versions = answers::read(&said.await?.body)?;
            for found in page.versions {
                let Some(name) = self.calls.name(&found.key) else {
                    continue;
                };
                let version = Version {
                    id: found.version_id,
                    size: found.size,
                };
                let of = all.entry(name.to_owned()).or_default();
                of.push((found.last_modified, version));
            }
            match (page.is_truncated, page.next_key_marker) {
                (true, Some(key)) => {
                    after = Some((key, page.next_version_id_marker.unwrap_or_default()));
                }
                _ => break,
            }
        }
        let sorted = all.into_iter().map(|(name, mut of)| {
            // Newest first they come; of one second, in that order.
            of.reverse();
            of.sort_by(|a, b| a.0.cmp(&b.0));
            (name, of.into_iter().map(|(_, v)| v).collect())
        });
        Ok(sorted.collect())
    }

    /// Of this object alone.
    pub(super) async fn versions(&self, name: &str) -> Result<Vec<Version>, StoreFault> {
        let mut all = self.beneath(name).await?;
        Ok(all.remove(name).unwrap_or_default())
    }

    /// Until when a version stays; none: it is not locked, or not there.
    pub(super) async fn until(&self, name: &str, version: &str) -> Result<Option<u64>, StoreFault> {
        let said = self.calls.send(Call {
            method: Method::HEAD,
            name,
            query: vec![("versionId", version.to_owned())],
            ..Call::default()
        });
        match said.await {
            Ok(said) => {
                let until = said.headers.get(UNTIL).and_then(|u| u.to_str().ok());
                Ok(until.and_then(answers::moment))
            }
            Err(StoreFault::Gone(_)) => Ok(None),
            Err(why) => Err(why),
        }
    }

    /// Lets a version stay until then, or longer where it does already.
    pub(super) async fn retain(
        &self,
        name: &str,
        version: &str,
        until: u64,
    ) -> Result<(), StoreFault> {
        let body = format!(
            "<Retention xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\"><Mode>{MODE}</Mode><RetainUntilDate>{}</RetainUntilDate></Retention>",
            answers::written(until)
        );
        let body = Bytes::from(body);
        let call = Call {
            method: Method::PUT,
            name,
            query: vec![
                ("retention", String::new()),
                ("versionId", version.to_owned()),
            ],
            headers: vec![checked(&body)],
            body,
        };
        match self.calls.send(call).await {
            Ok(_) => Ok(()),
            Err(why @ StoreFault::Refused(_)) => {
                match self.until(name, version).await?.is_some_and(|u| u >= until) {
                    true => Ok(()),
                    false => Err(why),
                }
            }
            Err(why) => Err(why),
        }
    }

    /// Takes a version away; one that is not there is no fault.
    ///
    /// # Errors
    /// [`StoreFault::Locked`] before its time.
    pub(super) async fn remove(&self, name: &str, version: &str) -> Result<(), StoreFault> {
        let call = Call {
            method: Method::DELETE,
            name,
            query: vec![("versionId", version.to_owned())],
            ..Call::default()
        };
        match self.calls.send(call).await {
            Ok(_) | Err(StoreFault::Gone(_)) => Ok(()),
            Err(why @ StoreFault::Refused(_)) => match self.until(name, version).await? {
                Some(_) => Err(StoreFault::Locked(name.to_owned())),
                None => Err(why),
            },
            Err(why) => Err(why),
        }
    }
}

/// Servers take nothing that is to be locked without a digest of it (RFC 1864).
fn checked(body: &[u8]) -> (&'static str, String) {
    ("content-md5", STANDARD.encode(Md5::digest(body)))
}
