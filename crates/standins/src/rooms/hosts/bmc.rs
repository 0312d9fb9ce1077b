//! The management controller of a host, in Redfish (DMTF DSP0266): power state, reset, inventory, serial.

use crate::{fault::Device, rooms::hosts::host::Deceit};
use axum::{
    Json, Router,
    extract::{Path, Query, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::{get, post},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::{Value, json};

pub(crate) fn routes(device: Device) -> Router {
    Router::new()
        .route("/redfish/v1/", get(root))
        .route("/redfish/v1", get(root))
        .route("/redfish/v1/Systems", get(systems))
        .route("/redfish/v1/Systems/{id}", get(system))
        .route(
            "/redfish/v1/Systems/{id}/Actions/ComputerSystem.Reset",
            post(reset),
        )
        .route(
            "/redfish/v1/Systems/{id}/Oem/Zastrugi/SerialConsole",
            get(console).post(typed),
        )
        .with_state(device)
}

#[derive(serde::Deserialize)]
struct From {
    #[serde(default)]
    from: u64,
}

/// The host's text console as a stream; Redfish leaves the way of it to others.
async fn console(
    State(device): State<Device>,
    Path(_id): Path<String>,
    Query(ask): Query<From>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    crate::rooms::consoles::calls::stream(ask.from, move |from| {
        device.world.host_console(&device.name, from, "")
    })
}

async fn typed(
    State(device): State<Device>,
    Path(_id): Path<String>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let text = body["text"].as_str().unwrap_or_default();
    drop(device.world.host_console(&device.name, u64::MAX, text));
    StatusCode::NO_CONTENT.into_response()
}

async fn root() -> Json<Value> {
    Json(json!({
        "@odata.id": "/redfish/v1/", "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
        "Id": "RootService", "Name": "Root Service", "RedfishVersion": "1.15.0",
        "Systems": {"@odata.id": "/redfish/v1/Systems"}
    }))
}

fn refused(status: StatusCode, code: &str, words: &str) -> Response {
    let body = json!({"error": {"code": format!("Base.1.13.{code}"), "message": words}});
    (status, Json(body)).into_response()
}

fn signed_in(device: &Device, headers: &HeaderMap) -> Result<(), Response> {
    let given = headers
        .get("authorization")
        .and_then(|h| h.to_str().ok())
        .and_then(|h| h.strip_prefix("Basic "));
    let plain = given
        .and_then(|g| BASE64_STANDARD.decode(g).ok())
        .unwrap_or_default();
    let state = device.world.lock();
    let expected = state
        .hosts
        .get(&device.name)
        .map(|h| format!("zastrugi:{}", h.bmc_password));
    if expected.is_some_and(|e| e.as_bytes() == plain) {
        Ok(())
    } else {
        Err(refused(
            StatusCode::UNAUTHORIZED,
            "NoValidSession",
            "There is no valid session with the service.",
        ))
    }
}

async fn systems(State(device): State<Device>, headers: HeaderMap) -> Response {
    match signed_in(&device, &headers) {
        Err(no) => no,
        Ok(()) => Json(
            json!({"@odata.id": "/redfish/v1/Systems", "Name": "Systems", "Members@odata.count": 1,
            "Members": [{"@odata.id": "/redfish/v1/Systems/1"}]}),
        )
        .into_response(),
    }
}

async fn system(
    State(device): State<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let Some(host) = state.hosts.get(&device.name).filter(|_| id == "1") else {
        return refused(
            StatusCode::NOT_FOUND,
            "ResourceMissingAtURI",
            "There is no such system.",
        );
    };
    let on = host.power && host.deceit != Deceit::SaysOff;
    let serial = match host.deceit {
        Deceit::OtherSerial => "ANOTHER-HOST",
        Deceit::None | Deceit::SaysOff | Deceit::DoesNothing => &host.serial,
    };
    Json(json!({
        "@odata.id": "/redfish/v1/Systems/1", "@odata.type": "#ComputerSystem.v1_20_0.ComputerSystem",
        "Id": "1", "Name": host.name, "SystemType": "Physical",
        "Manufacturer": host.maker, "Model": host.model, "SerialNumber": serial,
        "PowerState": if on { "On" } else { "Off" },
        "ProcessorSummary": {"Count": host.cpu.sockets, "Model": host.cpu.model},
        "MemorySummary": {"TotalSystemMemoryGiB": host.memory >> 30},
        "Actions": {"#ComputerSystem.Reset": {
            "target": "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset",
            "ResetType@Redfish.AllowableValues": ["On", "ForceOff", "ForceRestart"]}}
    }))
    .into_response()
}

async fn reset(
    State(device): State<Device>,
    Path(_id): Path<String>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    if !device.world.obeys_bmc(&device.name) {
        return StatusCode::NO_CONTENT.into_response();
    }
    let was = device.world.has_power(&device.name);
    match body.get("ResetType").and_then(Value::as_str) {
        Some("On") => device.world.power(&device.name, true),
        Some("ForceOff") => device.world.power(&device.name, false),
        Some("ForceRestart") => {
            device.world.power(&device.name, false);
            device.world.power(&device.name, true);
        }
        _ => {
            return refused(
                StatusCode::BAD_REQUEST,
                "ActionParameterNotSupported",
                "ResetType is not one of the allowable values.",
            );
        }
    }
    let what = body["ResetType"].as_str().unwrap_or_default();
    // What is so already is no deed.
    if device.world.has_power(&device.name) != was || what == "ForceRestart" {
        let deed = format!("reset {what}");
        device.world.lock().did_what(&device.name, &deed);
    }
    StatusCode::NO_CONTENT.into_response()
}
