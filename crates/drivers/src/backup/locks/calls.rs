//! What `object_store` has no calls for: object lock, and older versions. They are signed by its own signer and sent by its own client.

use super::super::{Bucket, StoreFault, fault::WHOLE};
use bytes::Bytes;
use http_body_util::{BodyExt, Limited};
use object_store::{
    aws::{AwsAuthorizer, AwsCredential},
    client::{HttpClient, HttpRequest},
};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, utf8_percent_encode};
use reqwest::{
    Method, StatusCode,
    header::{HeaderMap, HeaderName, HeaderValue},
};
use std::time::Duration;
use tokio::time::{sleep, timeout};

/// As the signature wants paths and values encoded (RFC 3986, section 2.3).
const VALUE: &AsciiSet = &NON_ALPHANUMERIC
    .remove(b'-')
    .remove(b'.')
    .remove(b'_')
    .remove(b'~');
const KEY: &AsciiSet = &VALUE.remove(b'/');
/// No answer that is read has more bytes: a page of a thousand versions has a few hundred thousand.
const LONGEST: usize = 8 << 20;
/// Sent so often before it is a fault, a little later each time.
const TRIES: u32 = 3;
const PAUSE: Duration = Duration::from_millis(200);

/// A call, of the bucket where it names no object.
#[derive(Debug, Clone, Default)]
pub(super) struct Call<'a> {
    pub(super) method: Method,
    pub(super) name: &'a str,
    pub(super) query: Vec<(&'static str, String)>,
    pub(super) headers: Vec<(&'static str, String)>,
    pub(super) body: Bytes,
}

#[derive(Debug)]
pub(super) struct Said {
    pub(super) headers: HeaderMap,
    pub(super) body: Bytes,
}

pub(super) struct Calls {
    client: HttpClient,
    bucket: Bucket,
    credential: AwsCredential,
}

impl Calls {
    pub(super) fn new(client: HttpClient, bucket: &Bucket) -> Calls {
        Calls {
            client,
            credential: AwsCredential {
                key_id: bucket.access.clone(),
                secret_key: bucket.secret.clone(),
                token: None,
            },
            bucket: bucket.clone(),
        }
    }

    /// What an object of the store is called in its bucket.
    pub(super) fn key(&self, name: &str) -> String {
        match self.bucket.prefix.as_str() {
            "" => name.to_owned(),
            prefix => format!("{prefix}/{name}"),
        }
    }

    /// The same the other way round; none: it is outside the store.
    pub(super) fn name<'a>(&self, key: &'a str) -> Option<&'a str> {
        match self.bucket.prefix.as_str() {
            "" => Some(key),
            prefix => key.strip_prefix(prefix)?.strip_prefix('/'),
        }
    }

    fn url(&self, call: &Call<'_>) -> String {
        let mut url = format!("{}/{}", self.bucket.endpoint, self.bucket.name);
        if !call.name.is_empty() {
            let key = self.key(call.name);
            url.extend(["/", &utf8_percent_encode(&key, KEY).to_string()]);
        }
        for (n, (name, value)) in call.query.iter().enumerate() {
            let before = if n == 0 { '?' } else { '&' };
            let value = utf8_percent_encode(value, VALUE);
            url.push_str(&format!("{before}{name}={value}"));
        }
        url
    }

    fn signed(&self, call: &Call<'_>) -> Result<HttpRequest, StoreFault> {
        let odd = |e: &dyn std::fmt::Display| StoreFault::Refused(e.to_string());
        let mut request = HttpRequest::new(call.body.clone().into());
        *request.method_mut() = call.method.clone();
        *request.uri_mut() = self.url(call).parse().map_err(|e| odd(&e))?;
        for (name, value) in &call.headers {
            let value = HeaderValue::from_str(value).map_err(|e| odd(&e))?;
            let name = HeaderName::from_static(name);
            request.headers_mut().insert(name, value);
        }
        AwsAuthorizer::new(&self.credential, "s3", &self.bucket.region)
            .try_authorize(&mut request, None)?;
        Ok(request)
    }

    async fn once(&self, call: &Call<'_>) -> Result<(StatusCode, Said), StoreFault> {
        let silent = |e: &dyn std::fmt::Display| StoreFault::Silent(e.to_string());
        let answer = self.client.execute(self.signed(call)?).await;
        let (parts, body) = answer.map_err(|e| silent(&e))?.into_parts();
        let body = Limited::new(body, LONGEST).collect().await;
        let body = body.map_err(|e| silent(&e))?.to_bytes();
        let headers = parts.headers;
        Ok((parts.status, Said { headers, body }))
    }

    /// Sends a call that may be sent again. What is refused is told in the server's own words.
    pub(super) async fn send(&self, call: Call<'_>) -> Result<Said, StoreFault> {
        let mut tried = 0;
        loop {
            tried += 1;
            let answer = timeout(WHOLE, self.once(&call)).await;
            let answer = answer.unwrap_or(Err(StoreFault::Slow));
            let why = match answer {
                Ok((status, said)) if status.is_success() => return Ok(said),
                Ok((status, said)) => super::answers::fault(call.name, status, &said.body),
                Err(why) => why,
            };
            if tried >= TRIES || !matches!(why, StoreFault::Silent(_) | StoreFault::Slow) {
                return Err(why);
            }
            sleep(PAUSE * tried).await;
        }
    }
}
