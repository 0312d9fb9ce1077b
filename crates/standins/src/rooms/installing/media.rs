//! What a controller says of a host beneath its agent, and mounts for it: virtual media, the next start, disks and ports
//! (DMTF DSP0266 with the schemas VirtualMedia, ComputerSystem, Volume, EthernetInterface).

use crate::{
    agent::change::header,
    fault::Device,
    rooms::hosts::{
        bmc::{refused, service::collection, signed_in},
        host::Host,
    },
};
use axum::{
    Json, Router,
    extract::{Path, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::{get, post},
};
use serde_json::{Value, json};

const SYSTEM: &str = "/redfish/v1/Systems/1";
const SLOTS: [u8; 2] = [1, 2];
/// The size of the disk that a host starts from, bytes.
const STARTS_FROM: u64 = 240_000_000_000;

pub(crate) fn routes() -> Router<Device> {
    let at = |path: &str| format!("{SYSTEM}/{path}");
    let insert = at("VirtualMedia/{slot}/Actions/VirtualMedia.InsertMedia");
    let eject = at("VirtualMedia/{slot}/Actions/VirtualMedia.EjectMedia");
    Router::new()
        .route(&at("VirtualMedia"), get(slots))
        .route(&at("VirtualMedia/{slot}"), get(slot))
        .route(&insert, post(put_in))
        .route(&eject, post(take_out))
        .route(&at("Storage"), get(storages))
        .route(&at("Storage/1"), get(storage))
        .route(&at("Storage/1/Drives/{n}"), get(drive))
        .route(&at("Storage/1/Volumes"), get(volumes))
        .route(&at("Storage/1/Volumes/{n}"), get(volume))
        .route(&at("EthernetInterfaces"), get(ports))
        .route(&at("EthernetInterfaces/{n}"), get(port))
}

/// What the system says of its next start, its progress and its parts.
pub(crate) fn of_system(host: &Host) -> Value {
    let bare = &host.bare;
    let enabled = if bare.once { "Once" } else { "Disabled" };
    let target = if bare.once { "Cd" } else { "None" };
    let (last, words) = match (&bare.going, host.power) {
        (_, false) => ("None", String::new()),
        (Some(going), true) => ("OEM", going.phase.words().to_owned()),
        (None, true) if bare.trouble.is_some() => ("OEM", "stands still".to_owned()),
        (None, true) => ("OSRunning", String::new()),
    };
    let mut progress = json!({"LastState": last});
    if !words.is_empty() {
        progress["OemLastState"] = json!(words);
    }
    let status = match &bare.trouble {
        None => json!({"State": "Enabled", "Health": "OK"}),
        Some(why) => json!({"State": "Enabled", "Health": "Critical", "Conditions": [{
            "MessageId": "Base.1.13.GeneralError", "Message": why, "Severity": "Critical"}]}),
    };
    json!({
        "Boot": {
            "BootSourceOverrideEnabled": enabled, "BootSourceOverrideTarget": target,
            "BootSourceOverrideMode": "UEFI",
            "BootSourceOverrideTarget@Redfish.AllowableValues": ["None", "Cd", "Hdd"]},
        "BootProgress": progress, "Status": status,
        "VirtualMedia": {"@odata.id": format!("{SYSTEM}/VirtualMedia")},
        "Storage": {"@odata.id": format!("{SYSTEM}/Storage")},
        "EthernetInterfaces": {"@odata.id": format!("{SYSTEM}/EthernetInterfaces")},
    })
}

fn told(
    device: &Device,
    headers: &HeaderMap,
    say: impl FnOnce(&Host) -> Option<Value>,
) -> Response {
    if let Err(no) = signed_in(device, headers) {
        return no;
    }
    let state = device.world.lock();
    match state.hosts.get(&device.name).and_then(say) {
        Some(value) => Json(value).into_response(),
        None => missing(),
    }
}

fn missing() -> Response {
    refused(
        StatusCode::NOT_FOUND,
        "ResourceMissingAtURI",
        "There is no such resource.",
    )
}

fn numbered(part: &str, kind: &str, name: &str, n: usize) -> Value {
    let at = format!("{SYSTEM}/{part}");
    let members: Vec<String> = (1..=n).map(|n| format!("{at}/{n}")).collect();
    collection(&at, kind, name, &members)
}

async fn slots(State(device): State<Device>, headers: HeaderMap) -> Response {
    told(&device, &headers, |_| {
        Some(numbered(
            "VirtualMedia",
            "VirtualMedia",
            "Virtual media",
            SLOTS.len(),
        ))
    })
}

async fn slot(State(device): State<Device>, Path(n): Path<u8>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        let at = format!("{SYSTEM}/VirtualMedia/{n}");
        let image = host.bare.media.get(&n);
        let action = |name: &str| json!({"target": format!("{at}/Actions/VirtualMedia.{name}")});
        SLOTS.contains(&n).then(|| json!({
            "@odata.id": at, "@odata.type": "#VirtualMedia.v1_6_2.VirtualMedia",
            "Id": n.to_string(), "Name": format!("Virtual medium {n}"), "MediaTypes": ["CD", "DVD"],
            "Image": image, "Inserted": image.is_some(), "WriteProtected": true,
            "ConnectedVia": if image.is_some() { "URI" } else { "NotConnected" },
            "Actions": {"#VirtualMedia.InsertMedia": action("InsertMedia"), "#VirtualMedia.EjectMedia": action("EjectMedia")}
        }))
    })
}

async fn put_in(
    State(device): State<Device>,
    Path(n): Path<u8>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> Response {
    let image = body.get("Image").and_then(Value::as_str).map(str::to_owned);
    let Some(image) = image.filter(|i| i.starts_with("http://")) else {
        return refused(
            StatusCode::BAD_REQUEST,
            "ActionParameterValueFormatError",
            "Image is no address that this controller can read from.",
        );
    };
    change(&device, &headers, |host| {
        SLOTS
            .contains(&n)
            .then(|| host.bare.media.insert(n, image))
            .map(drop)
    })
}

async fn take_out(State(device): State<Device>, Path(n): Path<u8>, headers: HeaderMap) -> Response {
    change(&device, &headers, |host| {
        SLOTS
            .contains(&n)
            .then(|| host.bare.media.remove(&n))
            .map(drop)
    })
}

fn change(
    device: &Device,
    headers: &HeaderMap,
    change: impl FnOnce(&mut Host) -> Option<()>,
) -> Response {
    if let Err(no) = signed_in(device, headers) {
        return no;
    }
    let mut state = device.world.lock();
    let done = state.hosts.get_mut(&device.name).and_then(change);
    device.world.save_host(&state, &device.name);
    match done {
        Some(()) => StatusCode::NO_CONTENT.into_response(),
        None => missing(),
    }
}

/// Which state of the system it is, as far as it can be changed.
pub(crate) fn etag(host: &Host) -> String {
    format!("W/\"{}-{}\"", host.bare.changes, u8::from(host.bare.once))
}

/// A change is of the state that was read: without one none is taken, and one of another state neither.
fn of_state(device: &Device, headers: &HeaderMap) -> Option<Response> {
    let given = header(headers, "if-match");
    let mut state = device.world.lock();
    let host = state.hosts.get_mut(&device.name)?;
    // Somebody else was quicker.
    if std::mem::take(&mut host.bare.meddled) {
        host.bare.changes += 1;
    }
    let (status, words) = match given {
        None => (StatusCode::PRECONDITION_REQUIRED, "If-Match is required."),
        Some(tag) if tag != etag(host) => {
            (StatusCode::PRECONDITION_FAILED, "It was changed meanwhile.")
        }
        Some(_) => return None,
    };
    drop(state);
    Some(refused(status, "PreconditionFailed", words))
}

/// The next start, as a change of the system.
pub(crate) async fn patch(
    State(device): State<Device>,
    Path(_id): Path<String>,
    headers: HeaderMap,
    Json(body): Json<Value>,
) -> Response {
    if let Some(no) = of_state(&device, &headers) {
        return no;
    }
    let boot = &body["Boot"];
    let enabled = boot["BootSourceOverrideEnabled"].as_str();
    let target = boot["BootSourceOverrideTarget"].as_str();
    let once = match (enabled, target) {
        (Some("Once"), Some("Cd")) => true,
        (Some("Disabled"), _) => false,
        _ => {
            return refused(
                StatusCode::BAD_REQUEST,
                "PropertyValueNotInList",
                "Only the next start can be told, and only from a medium.",
            );
        }
    };
    change(&device, &headers, |host| {
        host.bare.once = once;
        host.bare.changes += 1;
        Some(())
    })
}

async fn storages(State(device): State<Device>, headers: HeaderMap) -> Response {
    told(&device, &headers, |_| {
        Some(numbered("Storage", "Storage", "Storage", 1))
    })
}

async fn storage(State(device): State<Device>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        let drive = |n| json!({"@odata.id": format!("{SYSTEM}/Storage/1/Drives/{n}")});
        let drives: Vec<Value> = (1..=host.local.len() + 1).map(drive).collect();
        Some(json!({
            "@odata.id": format!("{SYSTEM}/Storage/1"), "@odata.type": "#Storage.v1_15_1.Storage",
            "Id": "1", "Name": "Local disks", "Status": {"State": "Enabled", "Health": "OK"},
            "Drives": drives, "Drives@odata.count": drives.len(),
            "Volumes": {"@odata.id": format!("{SYSTEM}/Storage/1/Volumes")}
        }))
    })
}

/// The first is the one that the host starts from.
async fn drive(State(device): State<Device>, Path(n): Path<usize>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        let (name, size, dead) = match n.checked_sub(1)? {
            0 => ("start", STARTS_FROM, false),
            more => {
                let disk = host.local.get(more - 1)?;
                (disk.name.as_str(), disk.size, disk.dead)
            }
        };
        let health = if dead { "Critical" } else { "OK" };
        Some(json!({
            "@odata.id": format!("{SYSTEM}/Storage/1/Drives/{n}"), "@odata.type": "#Drive.v1_18_0.Drive",
            "Id": n.to_string(), "Name": name, "CapacityBytes": size, "MediaType": "SSD", "Protocol": "NVMe",
            "Status": {"State": "Enabled", "Health": health}
        }))
    })
}

async fn volumes(State(device): State<Device>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        Some(numbered(
            "Storage/1/Volumes",
            "Volume",
            "Volumes",
            host.bare.leftovers.len(),
        ))
    })
}

async fn volume(
    State(device): State<Device>,
    Path(n): Path<usize>,
    headers: HeaderMap,
) -> Response {
    told(&device, &headers, |host| {
        let name = host.bare.leftovers.get(n.checked_sub(1)?)?;
        Some(json!({
            "@odata.id": format!("{SYSTEM}/Storage/1/Volumes/{n}"), "@odata.type": "#Volume.v1_10_0.Volume",
            "Id": n.to_string(), "Name": name, "Status": {"State": "Enabled", "Health": "OK"}
        }))
    })
}

async fn ports(State(device): State<Device>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        let n = host.uplinks.len();
        Some(numbered(
            "EthernetInterfaces",
            "EthernetInterface",
            "Ports",
            n,
        ))
    })
}

async fn port(State(device): State<Device>, Path(n): Path<usize>, headers: HeaderMap) -> Response {
    told(&device, &headers, |host| {
        let uplink = host.uplinks.get(n.checked_sub(1)?)?;
        Some(json!({
            "@odata.id": format!("{SYSTEM}/EthernetInterfaces/{n}"),
            "@odata.type": "#EthernetInterface.v1_12_0.EthernetInterface",
            "Id": n.to_string(), "Name": uplink.name, "MACAddress": uplink.mac, "SpeedMbps": uplink.mbit,
            "LinkStatus": if uplink.up { "LinkUp" } else { "LinkDown" }, "Status": {"State": "Enabled", "Health": "OK"}
        }))
    })
}
