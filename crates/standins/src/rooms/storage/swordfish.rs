//! An array's or filer's management, in Swordfish (SNIA, on DMTF Redfish): pools, volumes or shares, endpoints, and the
//! connections that let an initiator reach a volume.

use crate::{
    fault::Device,
    rooms::storage::array::{Array, ArrayKind, Connection, Lun},
    rooms::storage::volume::Volume,
    world::State as World,
};
use axum::{
    Json, Router,
    extract::{Path, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::get,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::{Value, json};

pub(super) const ROOT: &str = "/redfish/v1";

pub(crate) fn routes(device: Device) -> Router {
    let at = |path: &str| format!("{ROOT}{path}");
    Router::new()
        .route(&at("/"), get(root))
        .route(ROOT, get(root))
        .route(&at("/Chassis/1"), get(chassis))
        .route(&at("/Storage/1/StoragePools"), get(pools))
        .route(&at("/StorageServices/1/ClassesOfService"), get(classes))
        .route(
            &at("/StorageServices/1/ClassesOfService/{id}"),
            get(class).patch(write_class),
        )
        .route(&at("/Storage/1/Volumes"), get(volumes).post(make_volume))
        .route(
            &at("/Storage/1/FileSystems"),
            get(file_systems).post(make_volume),
        )
        .route(
            &at("/Storage/1/{kind}/{id}"),
            get(one).patch(grow).delete(remove),
        )
        .route(
            &at("/Fabrics/1/Endpoints"),
            get(endpoints).post(make_endpoint),
        )
        .route(
            &at("/Fabrics/1/Connections"),
            get(connections).post(connect),
        )
        .route(
            &at("/Fabrics/1/Connections/{id}"),
            axum::routing::delete(disconnect),
        )
        .with_state(device)
}

fn refused(status: StatusCode, code: &str, words: impl Into<String>) -> Response {
    let body = json!({"error": {"code": format!("Base.1.13.{code}"), "message": words.into()}});
    (status, Json(body)).into_response()
}

fn missing() -> Response {
    refused(
        StatusCode::NOT_FOUND,
        "ResourceMissingAtURI",
        "There is no such resource.",
    )
}

/// Looks at the array, for somebody who is signed in.
fn look(
    device: &Device,
    headers: &HeaderMap,
    say: impl FnOnce(&World, &Array) -> Value,
) -> Response {
    if let Err(no) = signed_in(device, headers) {
        return no;
    }
    let state = device.world.lock();
    match state.arrays.get(&device.name) {
        Some(array) => Json(say(&state, array)).into_response(),
        None => missing(),
    }
}

/// Changes it; an effect is counted under the step that asked.
fn change(
    device: &Device,
    headers: &HeaderMap,
    act: impl FnOnce(&mut World, &str) -> Result<Response, Response>,
) -> Response {
    if let Err(no) = signed_in(device, headers) {
        return no;
    }
    let mut state = device.world.lock();
    let is = |state: &World| serde_json::to_string(&state.arrays.get(&device.name)).ok();
    let was = is(&state);
    let answer = act(&mut state, &device.name);
    let changed = was != is(&state);
    let key = headers.get("step-key").and_then(|k| k.to_str().ok());
    if changed {
        if let (Some(key), Some(array)) = (key, state.arrays.get_mut(&device.name)) {
            *array.effects.entry(key.to_owned()).or_insert(0) += 1;
        }
        state.did(&device.name);
    }
    device.world.array_changed(&device.name);
    answer.unwrap_or_else(|no| no)
}

fn signed_in(device: &Device, headers: &HeaderMap) -> Result<(), Response> {
    let given = headers
        .get("authorization")
        .and_then(|h| h.to_str().ok())
        .and_then(|h| h.strip_prefix("Basic "))
        .and_then(|g| BASE64_STANDARD.decode(g).ok())
        .unwrap_or_default();
    let state = device.world.lock();
    let right = state
        .arrays
        .get(&device.name)
        .is_some_and(|a| given == format!("keeper:{}", a.password).as_bytes());
    if right {
        Ok(())
    } else {
        Err(refused(
            StatusCode::UNAUTHORIZED,
            "NoValidSession",
            "User name or password is wrong.",
        ))
    }
}

async fn root(State(device): State<Device>) -> Json<Value> {
    Json(json!({
        "@odata.id": "/redfish/v1/", "@odata.type": "#ServiceRoot.v1_15_0.ServiceRoot",
        "Id": "RootService", "Name": device.name, "RedfishVersion": "1.15.0",
        "Product": "storage",
        "Storage": {"@odata.id": "/redfish/v1/Storage"}, "Fabrics": {"@odata.id": "/redfish/v1/Fabrics"}
    }))
}

async fn chassis(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |_, array| {
        json!({"@odata.id": "/redfish/v1/Chassis/1", "Id": "1", "Name": array.name, "Manufacturer": "Tidestone",
            "Model": if array.kind == ArrayKind::Block { "B4" } else { "F2" }, "SerialNumber": array.serial})
    })
}

fn collection(path: &str, members: Vec<Value>) -> Value {
    json!({"@odata.id": format!("{ROOT}{path}"), "Members@odata.count": members.len(), "Members": members})
}

async fn pools(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |state, array| {
        let pools = array.pools.iter().map(|(id, size)| {
            let class = array.classes.get(id).map(|_| super::classes::at(id));
            json!({"@odata.id": format!("{ROOT}/Storage/1/StoragePools/{id}"), "Id": id, "Name": id,
                "DefaultClassOfService": class,
                "Capacity": {"Data": {"AllocatedBytes": size, "ConsumedBytes": state.pool_used(array, id)}}})
        });
        collection("/Storage/1/StoragePools", pools.collect())
    })
}

async fn classes(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |_, array| {
        let all = array.classes.iter();
        let told = all.map(|(pool, class)| super::classes::told(array, pool, class));
        collection("/StorageServices/1/ClassesOfService", told.collect())
    })
}

async fn class(
    State(device): State<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let array = state.arrays.get(&device.name);
    let told = array.and_then(|a| Some(super::classes::told(a, &id, a.classes.get(&id)?)));
    told.map_or_else(missing, |told| Json(told).into_response())
}

async fn write_class(
    State(device): State<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    change(&device, &headers, |state, at| {
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        super::classes::write(array, &id, &ask)
            .ok_or_else(missing)?
            .map_err(|words| refused(StatusCode::BAD_REQUEST, "PropertyValueIncorrect", words))?;
        let array = state.arrays.get(at).ok_or_else(missing)?;
        let class = array.classes.get(&id).ok_or_else(missing)?;
        Ok(Json(super::classes::told(array, &id, class)).into_response())
    })
}

fn kind_path(array: &Array) -> &'static str {
    match array.kind {
        ArrayKind::Block => "Volumes",
        ArrayKind::File => "FileSystems",
    }
}

fn volume(state: &World, array: &Array, id: &str, lun: &Lun) -> Value {
    let used = state.volumes.get(&lun.uid).map_or(0, Volume::used);
    let mut said = json!({
        "@odata.id": format!("{ROOT}/Storage/1/{}/{id}", kind_path(array)), "Id": id, "Name": lun.name,
        "Description": lun.description, "CapacityBytes": lun.capacity,
        "ProvisioningPolicy": if lun.thin { "Thin" } else { "Fixed" },
        "Capacity": {"Data": {"AllocatedBytes": lun.capacity, "ConsumedBytes": used}},
        "Identifiers": [{"DurableName": lun.uid, "DurableNameFormat": "NAA"}],
        "Links": super::classes::links(array, &lun.pool),
        "CapacitySources": [{"ProvidingPools": {"Members": [{"@odata.id": format!("{ROOT}/Storage/1/StoragePools/{}", lun.pool)}]}}]
    });
    if array.kind == ArrayKind::File {
        said["ExportedShares"] = json!([{"FileSharePath": format!("/export/{}", lun.name)}]);
    }
    said
}

fn all_volumes(state: &World, array: &Array) -> Value {
    let members = array.luns.iter().map(|(id, l)| volume(state, array, id, l));
    collection(
        &format!("/Storage/1/{}", kind_path(array)),
        members.collect(),
    )
}

async fn volumes(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, all_volumes)
}
async fn file_systems(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, all_volumes)
}

async fn one(
    State(device): State<Device>,
    Path((_, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let found = state
        .arrays
        .get(&device.name)
        .and_then(|a| a.luns.get(&id).map(|l| volume(&state, a, &id, l)));
    found.map_or_else(missing, |v| Json(v).into_response())
}

async fn make_volume(
    State(device): State<Device>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    let text = |name: &str| {
        ask.get(name)
            .and_then(Value::as_str)
            .unwrap_or_default()
            .to_owned()
    };
    let pool = ask
        .pointer("/CapacitySources/0/ProvidingPools/Members/0/@odata.id")
        .and_then(Value::as_str)
        .and_then(|p| p.rsplit('/').next())
        .unwrap_or_default()
        .to_owned();
    let size = ask
        .get("CapacityBytes")
        .and_then(Value::as_u64)
        .unwrap_or(0);
    let (name, description, policy) = (
        text("Name"),
        text("Description"),
        text("ProvisioningPolicy"),
    );
    change(&device, &headers, |state, at| {
        let array = state.arrays.get(at).ok_or_else(missing)?;
        let Some(all) = array.pools.get(&pool).copied() else {
            return Err(refused(
                StatusCode::BAD_REQUEST,
                "PropertyValueIncorrect",
                format!("There is no pool {pool}."),
            ));
        };
        if array.luns.values().any(|l| l.name == name) {
            return Err(refused(
                StatusCode::CONFLICT,
                "ResourceAlreadyExists",
                format!("There is a volume {name} already."),
            ));
        }
        let thin = policy != "Fixed";
        let free = all.saturating_sub(state.pool_used(array, &pool));
        if size == 0 || (!thin && size > free) {
            return Err(refused(
                StatusCode::INSUFFICIENT_STORAGE,
                "InsufficientResources",
                format!("Pool {pool} has {free} bytes free; {size} are asked for."),
            ));
        }
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        let id = array.number();
        let uid = format!(
            "naa.6{:015x}{:016x}",
            crate::rooms::machines::guest::hash(at) >> 4,
            crate::rooms::machines::guest::hash(&format!("{at}{id}"))
        );
        let lun = Lun {
            name,
            uid: uid.clone(),
            pool,
            capacity: size,
            thin,
            description,
        };
        array.luns.insert(id.clone(), lun);
        let blank = Volume {
            uid: uid.clone(),
            capacity: size,
            ..Volume::default()
        };
        state.volumes.insert(uid.clone(), blank);
        device.world.volume_changed(&uid);
        let array = &state.arrays[at];
        let said = volume(state, array, &id, &array.luns[&id]);
        Ok((StatusCode::CREATED, Json(said)).into_response())
    })
}

async fn grow(
    State(device): State<Device>,
    Path((_, id)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    let size = ask
        .get("CapacityBytes")
        .and_then(Value::as_u64)
        .unwrap_or(0);
    change(&device, &headers, |state, at| {
        let array = state.arrays.get(at).ok_or_else(missing)?;
        let lun = array.luns.get(&id).ok_or_else(missing)?;
        if size < lun.capacity {
            return Err(refused(
                StatusCode::BAD_REQUEST,
                "PropertyValueIncorrect",
                "A volume can't be made smaller.",
            ));
        }
        let (pool, more) = (lun.pool.clone(), size - lun.capacity);
        let free = array
            .pools
            .get(&pool)
            .map_or(0, |all| all.saturating_sub(state.pool_used(array, &pool)));
        if !lun.thin && more > free {
            return Err(refused(
                StatusCode::INSUFFICIENT_STORAGE,
                "InsufficientResources",
                format!("Pool {pool} has {free} bytes free; {more} more are asked for."),
            ));
        }
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        if let Some(lun) = array.luns.get_mut(&id) {
            lun.capacity = size;
        }
        Ok(StatusCode::NO_CONTENT.into_response())
    })
}

async fn remove(
    State(device): State<Device>,
    Path((_, id)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, |state, at| {
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        if array.connections.values().any(|c| c.lun == id) {
            return Err(refused(
                StatusCode::CONFLICT,
                "ResourceInUse",
                "Hosts are still connected to this volume.",
            ));
        }
        let gone = array.luns.remove(&id).ok_or_else(missing)?;
        state.volumes.remove(&gone.uid);
        Ok(StatusCode::NO_CONTENT.into_response())
    })
}

fn endpoint(id: &str, name: &str, kind: ArrayKind) -> Value {
    let format = if kind == ArrayKind::Block {
        "iQN"
    } else {
        "FQDN"
    };
    json!({"@odata.id": format!("{ROOT}/Fabrics/1/Endpoints/{id}"), "Id": id, "Name": name,
        "EndpointProtocol": if kind == ArrayKind::Block { "iSCSI" } else { "NFSv4" },
        "ConnectedEntities": [{"EntityRole": "Initiator"}],
        "Identifiers": [{"DurableName": name, "DurableNameFormat": format}]})
}

async fn endpoints(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |_, array| {
        let initiators = array
            .initiators
            .iter()
            .map(|(id, name)| endpoint(id, name, array.kind));
        let targets = array.portals.iter().enumerate().map(|(i, portal)| {
            let (ip, port) = portal.address.rsplit_once(':').unwrap_or((&portal.address, "3260"));
            json!({"@odata.id": format!("{ROOT}/Fabrics/1/Endpoints/target-{i}"), "Id": format!("target-{i}"),
                "Name": format!("portal {}", i + 1),
                "EndpointProtocol": if array.kind == ArrayKind::Block { "iSCSI" } else { "NFSv4" },
                "ConnectedEntities": [{"EntityRole": "Target"}],
                "Status": {"State": if portal.up { "Enabled" } else { "UnavailableOffline" }},
                "IPTransportDetails": [{"IPv4Address": {"Address": ip}, "Port": port.parse::<u16>().unwrap_or(3260)}]})
        });
        collection("/Fabrics/1/Endpoints", targets.chain(initiators).collect())
    })
}

async fn make_endpoint(
    State(device): State<Device>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    let name = ask
        .pointer("/Identifiers/0/DurableName")
        .and_then(Value::as_str)
        .unwrap_or_default()
        .to_owned();
    // Not counted as a step's effect: the connection is.
    if let Err(no) = signed_in(&device, &headers) {
        return no;
    }
    let mut state = device.world.lock();
    let Some(array) = state.arrays.get_mut(&device.name) else {
        return missing();
    };
    if name.is_empty() {
        return refused(
            StatusCode::BAD_REQUEST,
            "PropertyMissing",
            "An initiator needs a name.",
        );
    }
    if array.initiators.values().any(|i| *i == name) {
        return refused(
            StatusCode::CONFLICT,
            "ResourceAlreadyExists",
            format!("{name} is known already."),
        );
    }
    let id = array.number();
    array.initiators.insert(id.clone(), name.clone());
    let said = endpoint(&id, &name, array.kind);
    device.world.array_changed(&device.name);
    (StatusCode::CREATED, Json(said)).into_response()
}

fn connection(array: &Array, id: &str, c: &Connection) -> Value {
    json!({"@odata.id": format!("{ROOT}/Fabrics/1/Connections/{id}"), "Id": id, "Name": id,
        "ConnectionType": "Storage",
        "VolumeInfo": [{"AccessCapabilities": ["Read", "Write"],
            "Volume": {"@odata.id": format!("{ROOT}/Storage/1/{}/{}", kind_path(array), c.lun)}}],
        "Links": {"InitiatorEndpoints": [{"@odata.id": format!("{ROOT}/Fabrics/1/Endpoints/{}", c.initiator)}]}})
}

async fn connections(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |_, array| {
        let members = array.connections.iter();
        collection(
            "/Fabrics/1/Connections",
            members.map(|(id, c)| connection(array, id, c)).collect(),
        )
    })
}

async fn connect(
    State(device): State<Device>,
    headers: HeaderMap,
    Json(ask): Json<Value>,
) -> Response {
    let last = |pointer: &str| {
        ask.pointer(pointer)
            .and_then(Value::as_str)
            .and_then(|p| p.rsplit('/').next())
            .unwrap_or_default()
            .to_owned()
    };
    let lun = last("/VolumeInfo/0/Volume/@odata.id");
    let initiator = last("/Links/InitiatorEndpoints/0/@odata.id");
    change(&device, &headers, |state, at| {
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        if !array.luns.contains_key(&lun) || !array.initiators.contains_key(&initiator) {
            return Err(missing());
        }
        let there = array
            .connections
            .values()
            .any(|c| c.lun == lun && c.initiator == initiator);
        if there {
            return Err(refused(
                StatusCode::CONFLICT,
                "ResourceAlreadyExists",
                "They are connected already.",
            ));
        }
        let id = array.number();
        let made = Connection { lun, initiator };
        let said = connection(array, &id, &made);
        array.connections.insert(id, made);
        Ok((StatusCode::CREATED, Json(said)).into_response())
    })
}

async fn disconnect(
    State(device): State<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    change(&device, &headers, |state, at| {
        let array = state.arrays.get_mut(at).ok_or_else(missing)?;
        array.connections.remove(&id).ok_or_else(missing)?;
        Ok(StatusCode::NO_CONTENT.into_response())
    })
}
