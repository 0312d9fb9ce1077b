//! A switch's management by RESTCONF (RFC 8040): ietf-interfaces (RFC 8343), VLANs by IEEE 802.1Q, neighbours by LLDP.

use crate::{fault::Device, rooms::networks::network::Switch};
use axum::{
    Json, Router,
    extract::State,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::get,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use serde_json::{Value, json};
use std::collections::BTreeMap;

pub(crate) fn routes(device: Device) -> Router {
    Router::new()
        .route("/.well-known/host-meta", get(host_meta))
        .route("/restconf/data/ietf-system:system", get(system))
        .route("/restconf/data/ietf-interfaces:interfaces", get(interfaces))
        .route("/restconf/data/ieee802-dot1q-bridge:bridges", get(bridges))
        .route("/restconf/data/ieee802-dot1ab-lldp:lldp", get(lldp))
        .with_state(device)
}

/// Names itself to anybody, so that the certificate can be compared before a password is sent.
async fn host_meta(State(device): State<Device>) -> Json<Value> {
    Json(json!({"name": device.name, "links": [{"rel": "restconf", "href": "/restconf"}]}))
}

fn look(device: &Device, headers: &HeaderMap, say: impl FnOnce(&Switch) -> Value) -> Response {
    let given = headers
        .get("authorization")
        .and_then(|h| h.to_str().ok())
        .and_then(|h| h.strip_prefix("Basic "))
        .and_then(|g| BASE64_STANDARD.decode(g).ok())
        .unwrap_or_default();
    let state = device.world.lock();
    let Some(switch) = state.switches.get(&device.name) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    if given != format!("reader:{}", switch.password).as_bytes() {
        let words = json!({"ietf-restconf:errors": {"error": [{"error-type": "protocol", "error-tag": "access-denied",
            "error-message": "User name or password is wrong."}]}});
        return (StatusCode::UNAUTHORIZED, Json(words)).into_response();
    }
    Json(say(switch)).into_response()
}

async fn system(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(
        &device,
        &headers,
        |s| json!({"ietf-system:system": {"hostname": s.name}}),
    )
}

async fn interfaces(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |s| {
        let all: Vec<Value> = s
            .ports
            .iter()
            .map(|(name, p)| {
                json!({"name": name, "type": "iana-if-type:ethernetCsmacd", "enabled": true,
                    "oper-status": if p.up { "up" } else { "down" },
                    "ietf-if-extensions:max-frame-size": p.mtu + 18,
                    "ieee802-dot1q-bridge:bridge-port": {"pvid": p.untagged}})
            })
            .collect();
        json!({"ietf-interfaces:interfaces": {"interface": all}})
    })
}

async fn bridges(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |s| {
        let mut by_vlan: BTreeMap<u16, Vec<Value>> = BTreeMap::new();
        for (name, port) in &s.ports {
            for vlan in &port.tagged {
                by_vlan.entry(*vlan).or_default().push(
                    json!({"port-ref": name, "static-vlan-registration-entries": {"vlan-transmitted": "tagged"}}),
                );
            }
        }
        let entries: Vec<Value> = by_vlan
            .into_iter()
            .map(|(vlan, ports)| json!({"vids": vlan.to_string(), "port-map": ports}))
            .collect();
        json!({"ieee802-dot1q-bridge:bridges": {"bridge": [{"name": "main", "component": [{"name": "main",
            "filtering-database": {"vlan-registration-entry": entries}}]}]}})
    })
}

async fn lldp(State(device): State<Device>, headers: HeaderMap) -> Response {
    look(&device, &headers, |s| {
        let ports: Vec<Value> = s
            .ports
            .iter()
            .filter(|(_, p)| p.up)
            .map(|(name, p)| {
                json!({"name": name, "remote-systems-data": [{"system-name": p.neighbour.0, "port-id": p.neighbour.1}]})
            })
            .collect();
        json!({"ieee802-dot1ab-lldp:lldp": {"port": ports}})
    })
}
