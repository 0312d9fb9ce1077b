//! What the service consists of besides the system: its root, collections, manager, chassis, tasks and log.

use super::{refused, signed_in};
use crate::fault::Device;
use axum::{
    Json, Router,
    extract::{Path, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::get,
};
use serde_json::{Value, json};

pub(super) fn routes() -> Router<Device> {
    Router::new()
        .route("/redfish", get(versions))
        .route("/redfish/v1/", get(root))
        .route("/redfish/v1", get(root))
        .route("/redfish/v1/Systems", get(systems))
        .route("/redfish/v1/Managers", get(managers))
        .route("/redfish/v1/Managers/1", get(manager))
        .route("/redfish/v1/Chassis", get(chassis))
        .route("/redfish/v1/Chassis/1", get(one_chassis))
        .route("/redfish/v1/TaskService", get(task_service))
        .route("/redfish/v1/TaskService/Tasks", get(tasks))
        .route("/redfish/v1/Systems/1/LogServices", get(logs))
        .route("/redfish/v1/Systems/1/LogServices/Orders", get(log))
        .route(
            "/redfish/v1/Systems/1/LogServices/Orders/Entries",
            get(entries),
        )
        .route(
            "/redfish/v1/Systems/1/LogServices/Orders/Entries/{id}",
            get(one_entry),
        )
}

async fn versions() -> Json<Value> {
    Json(json!({"v1": "/redfish/v1/"}))
}

async fn root() -> Json<Value> {
    let link = |to: &str| json!({"@odata.id": format!("/redfish/v1/{to}")});
    Json(json!({
        "@odata.id": "/redfish/v1/", "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
        "Id": "RootService", "Name": "Root Service", "RedfishVersion": "1.15.0",
        "Systems": link("Systems"), "Managers": link("Managers"), "Chassis": link("Chassis"),
        "Tasks": link("TaskService"), "SessionService": link("SessionService"),
        "Links": {"Sessions": link("SessionService/Sessions")}
    }))
}

/// A collection as the standard has it.
pub(crate) fn collection(at: &str, kind: &str, name: &str, members: &[String]) -> Value {
    let members: Vec<Value> = members.iter().map(|m| json!({"@odata.id": m})).collect();
    json!({
        "@odata.id": at, "@odata.type": format!("#{kind}Collection.{kind}Collection"), "Name": name,
        "Members@odata.count": members.len(), "Members": members
    })
}

/// To whoever is signed in.
fn to_guests(device: &Device, headers: &HeaderMap, value: impl FnOnce() -> Value) -> Response {
    match signed_in(device, headers) {
        Err(no) => no,
        Ok(()) => Json(value()).into_response(),
    }
}

fn one(kind: &'static str, name: &'static str, at: &'static str) -> impl FnOnce() -> Value {
    move || collection(at, kind, name, &[format!("{at}/1")])
}

async fn systems(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(
        &device,
        &headers,
        one("ComputerSystem", "Systems", "/redfish/v1/Systems"),
    )
}

async fn managers(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(
        &device,
        &headers,
        one("Manager", "Managers", "/redfish/v1/Managers"),
    )
}

async fn chassis(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(
        &device,
        &headers,
        one("Chassis", "Chassis", "/redfish/v1/Chassis"),
    )
}

async fn manager(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        let system = json!([{"@odata.id": "/redfish/v1/Systems/1"}]);
        json!({
            "@odata.id": "/redfish/v1/Managers/1", "@odata.type": "#Manager.v1_18_0.Manager",
            "Id": "1", "Name": "Management controller", "ManagerType": "BMC", "FirmwareVersion": "2.6",
            "PowerState": "On", "Status": {"State": "Enabled", "Health": "OK"},
            "Links": {"ManagerForServers": system}
        })
    })
}

async fn one_chassis(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        let state = device.world.lock();
        let host = state.hosts.get(&device.name);
        let said = |of: fn(&crate::rooms::hosts::host::Host) -> &String| host.map(of);
        let system = json!([{"@odata.id": "/redfish/v1/Systems/1"}]);
        json!({
            "@odata.id": "/redfish/v1/Chassis/1", "@odata.type": "#Chassis.v1_24_0.Chassis",
            "Id": "1", "Name": "Chassis", "ChassisType": "RackMount",
            "Manufacturer": said(|h| &h.maker), "Model": said(|h| &h.model),
            "Status": {"State": "Enabled", "Health": "OK"},
            "Links": {"ComputerSystems": system, "ManagedBy": [{"@odata.id": "/redfish/v1/Managers/1"}]}
        })
    })
}

async fn task_service(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        json!({
            "@odata.id": "/redfish/v1/TaskService", "@odata.type": "#TaskService.v1_2_0.TaskService",
            "Id": "TaskService", "Name": "Tasks", "ServiceEnabled": true,
            "Tasks": {"@odata.id": "/redfish/v1/TaskService/Tasks"}
        })
    })
}

/// What it is told it does at once.
async fn tasks(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        collection("/redfish/v1/TaskService/Tasks", "Task", "Tasks", &[])
    })
}

async fn logs(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        let at = "/redfish/v1/Systems/1/LogServices";
        collection(at, "LogService", "Logs", &[format!("{at}/Orders")])
    })
}

async fn log(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        let at = "/redfish/v1/Systems/1/LogServices/Orders";
        json!({
            "@odata.id": at, "@odata.type": "#LogService.v1_5_0.LogService",
            "Id": "Orders", "Name": "What it was told", "ServiceEnabled": true, "OverWritePolicy": "WrapsWhenFull",
            "Entries": {"@odata.id": format!("{at}/Entries")}
        })
    })
}

const ENTRIES: &str = "/redfish/v1/Systems/1/LogServices/Orders/Entries";

/// The order of a number, counted from 1.
fn entry(number: usize, kind: &str) -> Value {
    json!({
        "@odata.id": format!("{ENTRIES}/{number}"), "@odata.type": "#LogEntry.v1_16_0.LogEntry",
        "Id": number.to_string(), "Name": "Order", "EntryType": "Event", "Severity": "OK",
        "Message": format!("ComputerSystem.Reset: {kind}")
    })
}

async fn entries(State(device): State<Device>, headers: HeaderMap) -> Response {
    to_guests(&device, &headers, || {
        let told = device.world.lock().controller_told(&device.name);
        let all = told.iter().enumerate();
        let members: Vec<Value> = all.map(|(n, kind)| entry(n + 1, kind)).collect();
        json!({
            "@odata.id": ENTRIES, "@odata.type": "#LogEntryCollection.LogEntryCollection",
            "Name": "What it was told", "Members@odata.count": members.len(), "Members": members
        })
    })
}

async fn one_entry(
    State(device): State<Device>,
    Path(number): Path<usize>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let told = device.world.lock().controller_told(&device.name);
    match number.checked_sub(1).and_then(|n| told.get(n)) {
        Some(kind) => Json(entry(number, kind)).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "ResourceMissingAtURI",
            "There is no such entry.",
        ),
    }
}
