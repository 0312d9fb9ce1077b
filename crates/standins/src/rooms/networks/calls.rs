//! A host and its networks: setting one up on uplinks, taking one away, trying how large a frame gets through.

use crate::agent::{change::by_owner, owner_only, refused};
use crate::{fault::Device, rooms::networks::network::HostNet};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::Deserialize;
use serde_json::json;
use std::{
    collections::BTreeMap,
    net::IpAddr,
    time::{Duration, Instant},
};
use tokio::{net::TcpStream, time::timeout};

pub(crate) async fn put(
    Extract(device): Extract<Device>,
    Path(network): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<HostNet>,
) -> Response {
    by_owner(
        &device,
        &headers,
        &format!("network:{network}"),
        |state, name| {
            let Some(host) = state.hosts.get_mut(name) else {
                return Err(StatusCode::NOT_FOUND.into_response());
            };
            if let Some(missing) = ask
                .uplinks
                .iter()
                .find(|u| !host.uplinks.iter().any(|h| h.name == **u))
            {
                let words = format!("There is no uplink {missing}.");
                return Err(refused(StatusCode::CONFLICT, "uplink", words));
            }
            let clash = host.networks.iter().find(|(other, n)| {
                **other != network
                    && n.vlan == ask.vlan
                    && n.uplinks.iter().any(|u| ask.uplinks.contains(u))
            });
            if let Some((other, _)) = clash {
                let words = format!("The network {other} has this VLAN already.");
                return Err(refused(StatusCode::CONFLICT, "vlan", words));
            }
            host.networks.insert(network, ask);
            Ok(json!({}))
        },
    )
}

pub(crate) async fn remove(
    Extract(device): Extract<Device>,
    Path(network): Path<String>,
    headers: HeaderMap,
) -> Response {
    by_owner(
        &device,
        &headers,
        &format!("network:{network}"),
        |state, name| {
            let volumes = &state.volumes;
            let Some(host) = state.hosts.get_mut(name) else {
                return Err(StatusCode::NOT_FOUND.into_response());
            };
            let user = host.guests.iter().find_map(|(uuid, g)| {
                let record = volumes.get(&g.volume)?.records.get(uuid)?;
                let on_it = record
                    .nics
                    .iter()
                    .any(|n| n.network.as_ref() == Some(&network));
                on_it.then(|| record.name.clone())
            });
            if let Some(machine) = user {
                let words = format!("{machine} is on it here.");
                return Err(refused(StatusCode::CONFLICT, "busy", words));
            }
            host.networks.remove(&network);
            Ok(json!({}))
        },
    )
}

#[derive(Deserialize)]
pub(crate) struct RoundTrip {
    /// Of another host's agent: `ip:port`.
    address: String,
}

/// The shortest of several handshakes (RFC 9293, section 3.5) with another host, and what the line between their sites adds.
pub(crate) async fn round_trip(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<RoundTrip>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let way = (device.name.clone(), ask.address.clone());
    if device.world.lock().walls.contains(&way) {
        let words = format!("{} lets nothing in from here.", ask.address);
        return refused(StatusCode::SERVICE_UNAVAILABLE, "silent", words);
    }
    let mut best: Option<Duration> = None;
    for _ in 0..3 {
        let began = Instant::now();
        let tried = timeout(Duration::from_secs(1), TcpStream::connect(&ask.address)).await;
        if matches!(tried, Ok(Ok(_))) {
            let took = began.elapsed();
            best = Some(best.map_or(took, |b| b.min(took)));
        }
    }
    let Some(best) = best else {
        let words = format!("{} does not answer.", ask.address);
        return refused(StatusCode::SERVICE_UNAVAILABLE, "silent", words);
    };
    let state = device.world.lock();
    let own = state.hosts.get(&device.name).map(|h| h.address.clone());
    let line = state.line_between(&own.unwrap_or_default(), &ask.address);
    let micros = u64::try_from(best.as_micros()).unwrap_or(u64::MAX);
    Json(json!({"micros": micros.saturating_add(line)})).into_response()
}

#[derive(Deserialize)]
pub(crate) struct MtuProbe {
    network: String,
    /// The other host, by the name that it calls itself.
    to: String,
    /// Of the whole frame's payload, header included.
    bytes: u32,
}

/// One packet with do-not-fragment: did it get through?
pub(crate) async fn mtu(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<MtuProbe>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let largest = state.mtu_between(&device.name, &ask.to, &ask.network);
    Json(json!({"through": largest.is_some_and(|m| ask.bytes <= m)})).into_response()
}

#[derive(Deserialize)]
pub(crate) struct Neighbours {
    network: String,
    addresses: Vec<IpAddr>,
}

/// As many as a host asks for at once.
const MOST: usize = 64;

/// Who has which address (RFC 826, RFC 4861).
pub(crate) async fn neighbours(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Neighbours>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    if ask.addresses.len() > MOST {
        let words = format!("At most {MOST} at once.");
        return refused(StatusCode::UNPROCESSABLE_ENTITY, "many", words);
    }
    let state = device.world.lock();
    let heard = |a: &IpAddr| {
        Some((
            a.to_string(),
            state.neighbour(&device.name, &ask.network, *a)?,
        ))
    };
    let all: BTreeMap<String, String> = ask.addresses.iter().filter_map(heard).collect();
    Json(json!({"neighbours": all})).into_response()
}
