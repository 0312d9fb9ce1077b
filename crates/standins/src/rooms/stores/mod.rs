//! A server of buckets at another place: the S3 protocol as a crate that nobody here wrote speaks it, over TLS, with faults.

mod buckets;
mod shelf;

use crate::{
    fault::Device,
    make::identity,
    rooms::hosts::host::Identity,
    scenario::ScenarioBuckets,
    world::{State, World},
};
use axum::{
    Router,
    body::Body,
    extract::{Request, State as Extract},
    http::{StatusCode, header::DATE},
    middleware::{self, Next},
    response::{IntoResponse, Response},
};
use buckets::Buckets;
use s3s::{auth::SimpleAuth, service::S3ServiceBuilder};
use s3s_fs::FileSystem;
use serde::{Deserialize, Serialize};
use shelf::Shelf;
use std::{
    fs, io,
    path::Path,
    time::{Duration, SystemTime, UNIX_EPOCH},
};

/// What a server without room says; S3 has no code of its own for it.
const FULL: &str = "<?xml version=\"1.0\" encoding=\"UTF-8\"?><Error><Code>InsufficientStorage</Code><Message>There is no room left on this server.</Message></Error>";

/// One server with its buckets.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct BucketServer {
    pub(crate) name: String,
    /// `ip:port`.
    pub(crate) address: String,
    pub(crate) identity: Identity,
    pub(crate) access: String,
    pub(crate) secret: String,
    pub(crate) buckets: Vec<String>,
    /// Those that were made with object lock.
    #[serde(default)]
    pub(crate) locked: Vec<String>,
    /// Milliseconds that its clock is ahead.
    #[serde(default)]
    pub(crate) ahead: u64,
    pub(crate) up: bool,
    /// Nothing more is taken.
    #[serde(default)]
    pub(crate) full: bool,
}

impl BucketServer {
    pub(crate) fn of(name: &str, made: &ScenarioBuckets, net: &str) -> io::Result<Self> {
        Ok(BucketServer {
            name: name.into(),
            address: format!("{net}.{}:9443", made.address),
            identity: identity(name)?,
            access: made.access.clone(),
            secret: made.secret.clone(),
            buckets: made.buckets.clone(),
            locked: made.locked.clone(),
            ahead: 0,
            up: true,
            full: false,
        })
    }
}

/// # Errors
/// When its folder can't be made.
pub(crate) fn routes(device: Device, server: &BucketServer) -> io::Result<Router> {
    let folder = device.world.dir.join("buckets").join(&server.name);
    for bucket in &server.buckets {
        fs::create_dir_all(folder.join(bucket))?;
    }
    let plain = FileSystem::new(&folder).map_err(|e| io::Error::other(format!("{e:?}")))?;
    let shelves = device.world.dir.join("locked-buckets").join(&server.name);
    let locked = server.locked.iter().map(|bucket| {
        let shelf = Shelf::at(shelves.join(bucket))?;
        Ok((bucket.clone(), shelf))
    });
    let mut builder = S3ServiceBuilder::new(Buckets {
        plain,
        locked: locked.collect::<io::Result<_>>()?,
        device: device.clone(),
    });
    builder.set_auth(SimpleAuth::from_single(
        server.access.as_str(),
        server.secret.as_str(),
    ));
    let service = builder.build();
    let answer = move |request: Request| {
        let service = service.clone();
        async move {
            let request = request.map(s3s::Body::http_body_unsync);
            match service.call(request).await {
                Ok(answer) => answer.map(Body::new),
                Err(error) => {
                    tracing::error!(?error, "a bucket could not answer");
                    StatusCode::INTERNAL_SERVER_ERROR.into_response()
                }
            }
        }
    };
    let room = middleware::from_fn_with_state(device, room);
    Ok(Router::new().fallback(answer).layer(room))
}

/// What time it is at a server of buckets, in milliseconds since 1970.
fn now(device: &Device) -> u64 {
    let here = SystemTime::now().duration_since(UNIX_EPOCH);
    let here = here.map_or(0, |d| u64::try_from(d.as_millis()).unwrap_or(u64::MAX));
    let server = device
        .world
        .lock()
        .buckets
        .get(&device.name)
        .map(|b| b.ahead);
    here.saturating_add(server.unwrap_or_default())
}

async fn room(Extract(device): Extract<Device>, request: Request, next: Next) -> Response {
    let server = device
        .world
        .lock()
        .buckets
        .get(&device.name)
        .map(|b| (b.full, b.ahead));
    let (full, ahead) = server.unwrap_or_default();
    let mut answer = match full && request.method() == axum::http::Method::PUT {
        true => (StatusCode::INSUFFICIENT_STORAGE, FULL).into_response(),
        false => next.run(request).await,
    };
    if ahead > 0 {
        let at = UNIX_EPOCH + Duration::from_millis(now(&device));
        let at = time::OffsetDateTime::from(at);
        let said = at
            .format(&time::format_description::well_known::Rfc2822)
            .ok();
        let said = said.and_then(|s| s.replace("+0000", "GMT").parse().ok());
        said.map(|said| answer.headers_mut().insert(DATE, said));
    }
    answer
}

fn lose(dir: &Path, part: &str) -> io::Result<bool> {
    let mut lost = false;
    for entry in fs::read_dir(dir)? {
        let path = entry?.path();
        let is_it = || {
            path.file_name()
                .is_some_and(|n| n.to_string_lossy().contains(part))
        };
        if path.is_dir() {
            lost |= lose(&path, part)?;
        } else if is_it() {
            fs::remove_file(&path)?;
            lost = true;
        }
    }
    Ok(lost)
}

impl World {
    /// Whether a server of buckets answers.
    pub(crate) fn buckets_answer(&self, name: &str) -> bool {
        self.lock().buckets.get(name).is_some_and(|b| b.up)
    }
    /// Nobody answers there, or somebody does.
    pub fn silence_buckets(&self, name: &str, silent: bool) {
        let mut state = self.lock();
        if let Some(server) = state.buckets.get_mut(name) {
            server.up = !silent;
        }
        self.save_buckets(&state, name);
    }
    /// It has no room for anything more, or it has.
    pub fn fill_buckets(&self, name: &str, full: bool) {
        let mut state = self.lock();
        if let Some(server) = state.buckets.get_mut(name) {
            server.full = full;
        }
        self.save_buckets(&state, name);
    }
    /// Time goes on there, and nowhere else.
    pub fn forward_buckets(&self, name: &str, by: Duration) {
        let mut state = self.lock();
        if let Some(server) = state.buckets.get_mut(name) {
            server.ahead += u64::try_from(by.as_millis()).unwrap_or(u64::MAX);
        }
        self.save_buckets(&state, name);
    }
    /// Somebody takes the objects away whose names hold this, with whatever else writes to buckets; false: there is none.
    pub fn lose_object(&self, server: &str, part: &str) -> bool {
        let lost = lose(&self.dir.join("buckets").join(server), part);
        lost.unwrap_or(false)
    }
    /// Where a server of buckets listens, and the SHA-256 of its public key.
    pub fn bucket_server(&self, name: &str) -> Option<(String, String)> {
        let state = self.lock();
        let server = state.buckets.get(name)?;
        Some((
            server.address.clone(),
            crate::server::pin_of(&server.identity.certificate)?,
        ))
    }
    pub(crate) fn save_buckets(&self, state: &State, name: &str) {
        self.save("bucket-servers", name, state.buckets.get(name));
    }
}
