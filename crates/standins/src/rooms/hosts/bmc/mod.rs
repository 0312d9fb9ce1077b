//! The management controller of a host, in Redfish (DMTF DSP0266): power state, reset, inventory, serial, and the log of what it
//! was told.

pub(crate) mod service;
mod sessions;

pub(crate) use sessions::Sessions;

use crate::{
    fault::Device,
    rooms::{hosts::host::Deceit, installing::media},
    world::World,
};
use axum::{
    Json, Router,
    extract::{Path, Query, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::{get, post},
};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::{Value, json};

/// What it can be told.
const RESETS: [&str; 3] = ["On", "ForceOff", "ForceRestart"];

pub(crate) fn routes(device: Device) -> Router {
    Router::new()
        .merge(service::routes())
        .merge(sessions::routes())
        .merge(media::routes())
        .route("/redfish/v1/Systems/{id}", get(system).patch(media::patch))
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

pub(crate) fn refused(status: StatusCode, code: &str, words: &str) -> Response {
    let body = json!({"error": {"code": format!("Base.1.13.{code}"), "message": words}});
    (status, Json(body)).into_response()
}

pub(crate) fn signed_in(device: &Device, headers: &HeaderMap) -> Result<(), Response> {
    if sessions::lets_in(device, headers) {
        return Ok(());
    }
    let given = headers
        .get("authorization")
        .and_then(|h| h.to_str().ok())
        .and_then(|h| h.strip_prefix("Basic "));
    let plain = given
        .and_then(|g| BASE64_STANDARD.decode(g).ok())
        .unwrap_or_default();
    let plain = String::from_utf8_lossy(&plain).into_owned();
    let (user, password) = plain.split_once(':').unwrap_or_default();
    if sessions::knows(device, user, password) {
        return Ok(());
    }
    Err(refused(
        StatusCode::UNAUTHORIZED,
        "NoValidSession",
        "There is no valid session with the service.",
    ))
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
    let log = "/redfish/v1/Systems/1/LogServices";
    let chassis = json!([{"@odata.id": "/redfish/v1/Chassis/1"}]);
    let manager = json!([{"@odata.id": "/redfish/v1/Managers/1"}]);
    let mut said = json!({
        "LogServices": {"@odata.id": log},
        "Links": {"Chassis": chassis, "ManagedBy": manager},
        "@odata.id": "/redfish/v1/Systems/1", "@odata.type": "#ComputerSystem.v1_20_0.ComputerSystem",
        "Id": "1", "Name": host.name, "SystemType": "Physical",
        "Manufacturer": host.maker, "Model": host.model, "SerialNumber": serial,
        "PowerState": if on { "On" } else { "Off" },
        "ProcessorSummary": {"Count": host.cpu.sockets, "Model": host.cpu.model, "CoreCount": host.cpu.cores,
            "LogicalProcessorCount": host.cpu.cores * 2},
        "MemorySummary": {"TotalSystemMemoryGiB": host.memory >> 30},
        "Actions": {"#ComputerSystem.Reset": {
            "target": "/redfish/v1/Systems/1/Actions/ComputerSystem.Reset",
            "ResetType@Redfish.AllowableValues": RESETS}}
    });
    if let (Some(all), Value::Object(more)) = (said.as_object_mut(), media::of_system(host)) {
        all.extend(more);
    }
    ([("etag", media::etag(host))], Json(said)).into_response()
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
    let kind = body.get("ResetType").and_then(Value::as_str);
    let Some(kind) = kind.filter(|k| RESETS.contains(k)) else {
        return refused(
            StatusCode::BAD_REQUEST,
            "ActionParameterNotSupported",
            "ResetType is not one of the allowable values.",
        );
    };
    // It is logged that it was told, whatever comes of it.
    device.world.lock().told_controller(&device.name, kind);
    if !device.world.obeys_bmc(&device.name) {
        return StatusCode::NO_CONTENT.into_response();
    }
    let was = device.world.has_power(&device.name);
    match kind {
        "On" => device.world.power(&device.name, true),
        "ForceOff" => device.world.power(&device.name, false),
        _ => {
            device.world.power(&device.name, false);
            device.world.power(&device.name, true);
        }
    }
    // What is so already is no deed.
    if device.world.has_power(&device.name) != was || kind == "ForceRestart" {
        let deed = format!("reset {kind}");
        device.world.lock().did_what(&device.name, &deed);
    }
    StatusCode::NO_CONTENT.into_response()
}

/// Orders that a controller's log keeps.
const KEPT: usize = 1000;

impl crate::world::State {
    /// A controller was told to switch its host.
    fn told_controller(&mut self, name: &str, kind: &str) {
        if let Some(host) = self.hosts.get_mut(name) {
            host.bmc_told.push(kind.to_owned());
            let old = host.bmc_told.len().saturating_sub(KEPT);
            host.bmc_told.drain(..old);
        }
    }
    fn controller_told(&self, name: &str) -> Vec<String> {
        self.hosts
            .get(name)
            .map_or_else(Vec::new, |h| h.bmc_told.clone())
    }
}

impl World {
    /// Every reset that the controller of a host was told, in order, whatever came of it.
    pub fn controller_told(&self, name: &str) -> Vec<String> {
        self.lock().controller_told(name)
    }
}
