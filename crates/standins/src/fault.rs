//! Faults by script: the next calls to a device that match go wrong in a stated way.

use axum::{
    body::{Body, Bytes, to_bytes},
    extract::{Request, State},
    http::StatusCode,
    middleware::Next,
    response::{IntoResponse, Response},
};
use futures::stream;
use serde::{Deserialize, Serialize};
use std::{sync::Arc, time::Duration};

use crate::{deeds::known, world::World};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum FaultKind {
    /// Says no, in words.
    Refuse,
    /// Takes the call and never answers.
    Hang,
    /// Does it, and the connection breaks in the middle of the answer.
    Drop,
    /// The answer comes twice, one behind the other.
    Twice,
    Garbage,
    /// Answers after two seconds.
    Slow,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Fault {
    pub device: String,
    /// A part of `METHOD /path`; empty for every call.
    #[serde(default)]
    pub call: String,
    pub kind: FaultKind,
    pub times: u32,
}

/// Which device a listener belongs to.
#[derive(Clone)]
pub(crate) struct Device {
    pub(crate) world: Arc<World>,
    pub(crate) name: String,
    pub(crate) part: Part,
}

/// Which part of the device listens there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Part {
    Agent,
    Bmc,
    /// A controller of an array, counted from 0.
    Controller(usize),
    Switch,
    Balancer,
    Buckets,
}

impl Device {
    /// The name under which faults are set.
    pub(crate) fn fault_name(&self) -> String {
        match self.part {
            Part::Agent => self.name.clone(),
            Part::Bmc => format!("{}-bmc", self.name),
            Part::Switch | Part::Balancer | Part::Buckets => self.name.clone(),
            Part::Controller(n) => format!("{}-{}", self.name, n + 1),
        }
    }
    /// Whether anybody is there.
    pub(crate) fn lives(&self) -> bool {
        match self.part {
            Part::Agent => self.world.is_on(&self.name),
            Part::Bmc => self.world.bmc_answers(&self.name),
            Part::Switch => self.world.switch_answers(&self.name),
            Part::Balancer => self.world.balancer_answers(&self.name),
            Part::Buckets => self.world.buckets_answer(&self.name),
            Part::Controller(n) => self.world.answers(&self.name, n),
        }
    }
}

pub(crate) async fn inject(State(device): State<Device>, request: Request, next: Next) -> Response {
    let call = format!("{} {}", request.method(), request.uri().path());
    let name = device.fault_name();
    if !device.lives() {
        // The power went while the connection was open: it breaks.
        let broken = stream::iter([Err::<Bytes, _>(std::io::Error::other("no power"))]);
        return Response::new(Body::from_stream(broken));
    }
    if let Part::Controller(_) = device.part {
        let slow = device.world.slowness(&device.name);
        tokio::time::sleep(Duration::from_millis(slow)).await;
    }
    match device.world.next_fault(&name, &call) {
        None => known(&device.world, request, next).await,
        Some(FaultKind::Refuse) => {
            let words = serde_json::json!({"error": {"code": "busy", "message": "The device is busy with its own maintenance."}});
            (StatusCode::CONFLICT, axum::Json(words)).into_response()
        }
        Some(FaultKind::Hang) => {
            tokio::time::sleep(Duration::from_secs(3600)).await;
            StatusCode::GATEWAY_TIMEOUT.into_response()
        }
        Some(FaultKind::Garbage) => "\u{fffd}{{ not an answer".into_response(),
        Some(FaultKind::Slow) => {
            tokio::time::sleep(Duration::from_secs(2)).await;
            known(&device.world, request, next).await
        }
        Some(FaultKind::Twice) => {
            let (parts, body) = known(&device.world, request, next).await.into_parts();
            let bytes = to_bytes(body, 1 << 20).await.unwrap_or_default();
            let mut parts = parts;
            parts.headers.remove("content-length");
            Response::from_parts(parts, Body::from([bytes.clone(), bytes].concat()))
        }
        Some(FaultKind::Drop) => {
            let (mut parts, body) = known(&device.world, request, next).await.into_parts();
            let bytes = to_bytes(body, 1 << 20).await.unwrap_or_default();
            parts
                .headers
                .insert("content-length", (bytes.len() + 10).into());
            let half = bytes.slice(..bytes.len() / 2);
            let broken = stream::iter([
                Ok::<Bytes, std::io::Error>(half),
                Err(std::io::Error::other("cut")),
            ]);
            Response::from_parts(parts, Body::from_stream(broken))
        }
    }
}
