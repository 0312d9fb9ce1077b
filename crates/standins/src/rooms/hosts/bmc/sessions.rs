//! Sessions of the service: opened by name and password, used by their token, closed by whoever has it (DSP0266, section 13.3).

use super::{refused, service::collection, signed_in};
use crate::{fault::Device, rooms::hosts::host::Host};
use axum::{
    Json, Router,
    extract::{Path, State},
    http::{HeaderMap, StatusCode, header},
    response::{IntoResponse, Response},
    routing::{delete, get},
};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

const AT: &str = "/redfish/v1/SessionService/Sessions";
/// A service has room for few; the oldest gives way.
const MOST: usize = 8;

/// Open ones by number, with their token; gone when the service starts anew.
#[derive(Debug, Clone, Default)]
pub(crate) struct Sessions {
    next: u64,
    open: BTreeMap<u64, String>,
}

pub(super) fn routes() -> Router<Device> {
    Router::new()
        .route("/redfish/v1/SessionService", get(service))
        .route(AT, get(all).post(open))
        .route(
            "/redfish/v1/SessionService/Sessions/{id}",
            delete(close).get(one),
        )
}

/// Whether the password is the host's.
pub(super) fn knows(device: &Device, user: &str, password: &str) -> bool {
    let state = device.world.lock();
    let host = state.hosts.get(&device.name);
    // Its maker's account goes with the claim.
    let ours = |h: &Host| user == "zastrugi" || user == "operator" && h.owner.is_none();
    host.is_some_and(|h| ours(h) && h.bmc_password == password)
}

/// Whether the call carries the token of an open session.
pub(super) fn lets_in(device: &Device, headers: &HeaderMap) -> bool {
    let token = headers.get("x-auth-token").and_then(|t| t.to_str().ok());
    let state = device.world.lock();
    let open = state.hosts.get(&device.name).map(|h| &h.bmc_sessions.open);
    token.is_some_and(|token| open.is_some_and(|all| all.values().any(|t| t == token)))
}

async fn service(State(device): State<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    Json(json!({
        "@odata.id": "/redfish/v1/SessionService", "@odata.type": "#SessionService.v1_1_9.SessionService",
        "Id": "SessionService", "Name": "Sessions", "ServiceEnabled": true, "SessionTimeout": 1800,
        "Sessions": {"@odata.id": AT}
    }))
    .into_response()
}

async fn all(State(device): State<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let open = state.hosts.get(&device.name).map(|h| &h.bmc_sessions.open);
    let members: Vec<String> = open
        .into_iter()
        .flatten()
        .map(|(n, _)| format!("{AT}/{n}"))
        .collect();
    Json(collection(AT, "Session", "Sessions", &members)).into_response()
}

fn session(id: u64) -> Value {
    json!({
        "@odata.id": format!("{AT}/{id}"), "@odata.type": "#Session.v1_7_0.Session",
        "Id": id.to_string(), "Name": "Session", "UserName": "zastrugi", "Password": null
    })
}

async fn open(State(device): State<Device>, Json(body): Json<Value>) -> Response {
    let said = |field: &str| body[field].as_str().unwrap_or_default().to_owned();
    if !knows(&device, &said("UserName"), &said("Password")) {
        return refused(
            StatusCode::UNAUTHORIZED,
            "ResourceAtUriUnauthorized",
            "The name or the password is wrong.",
        );
    }
    let token = Uuid::new_v4().simple().to_string();
    let mut state = device.world.lock();
    let Some(host) = state.hosts.get_mut(&device.name) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let sessions = &mut host.bmc_sessions;
    sessions.next += 1;
    sessions.open.insert(sessions.next, token.clone());
    while sessions.open.len() > MOST {
        sessions.open.pop_first();
    }
    let id = sessions.next;
    let head = [
        (header::LOCATION.as_str(), format!("{AT}/{id}")),
        ("x-auth-token", token),
    ];
    (StatusCode::CREATED, head, Json(session(id))).into_response()
}

async fn one(State(device): State<Device>, Path(id): Path<u64>, headers: HeaderMap) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    Json(session(id)).into_response()
}

async fn close(State(device): State<Device>, Path(id): Path<u64>, headers: HeaderMap) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    let host = state.hosts.get_mut(&device.name);
    let closed = host.and_then(|h| h.bmc_sessions.open.remove(&id));
    match closed {
        Some(_) => StatusCode::NO_CONTENT.into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "ResourceMissingAtURI",
            "There is no such session.",
        ),
    }
}
