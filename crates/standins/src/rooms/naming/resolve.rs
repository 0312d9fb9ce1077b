//! A host asks a name server (RFC 1035), from its own address.

use crate::{
    agent::{owner_only, refused},
    fault::Device,
};
use axum::{
    Json,
    extract::State as Extract,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use hickory_proto::{
    op::{Message, Query},
    rr::{DNSClass, Name, RData, RecordType},
};
use serde::Deserialize;
use serde_json::json;
use std::{
    collections::BTreeMap,
    io,
    net::{IpAddr, SocketAddr},
    time::Duration,
};
use tokio::{net::UdpSocket, time::timeout};

const PATIENCE: Duration = Duration::from_millis(500);
const TRIES: usize = 3;
/// As many as it is asked of at once.
const MOST: usize = 128;

#[derive(Deserialize)]
pub(crate) struct Asked {
    server: SocketAddr,
    names: Vec<String>,
    addresses: Vec<IpAddr>,
}

pub(crate) async fn resolve(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Asked>,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    if ask.names.len() + ask.addresses.len() > MOST {
        let words = format!("At most {MOST} at once.");
        return refused(StatusCode::UNPROCESSABLE_ENTITY, "many", words);
    }
    let own = {
        let state = device.world.lock();
        let host = state.hosts.get(&device.name);
        host.and_then(|h| h.address.parse::<SocketAddr>().ok())
    };
    match all(own, &ask).await {
        Ok(said) => Json(said).into_response(),
        Err(error) => {
            let words = format!("{} is not heard: {error}.", ask.server);
            refused(StatusCode::SERVICE_UNAVAILABLE, "silent", words)
        }
    }
}

async fn all(own: Option<SocketAddr>, ask: &Asked) -> io::Result<serde_json::Value> {
    let from = own.filter(|o| o.is_ipv4() == ask.server.is_ipv4());
    let any = SocketAddr::new(ask.server.ip(), 0);
    let socket = UdpSocket::bind(from.map_or(any, |o| SocketAddr::new(o.ip(), 0))).await?;
    socket.connect(ask.server).await?;
    let mut names = BTreeMap::new();
    for name in &ask.names {
        let rooted = format!("{}.", name.trim_end_matches('.'));
        let full = Name::from_ascii(rooted).map_err(io::Error::other)?;
        let mut there = Vec::new();
        for kind in [RecordType::A, RecordType::AAAA] {
            for data in one(&socket, &full, kind).await? {
                match data {
                    RData::A(a) => there.push(IpAddr::V4(a.0)),
                    RData::AAAA(a) => there.push(IpAddr::V6(a.0)),
                    _ => {}
                }
            }
        }
        names.insert(name, there);
    }
    let mut addresses = BTreeMap::new();
    for address in &ask.addresses {
        let found = one(&socket, &Name::from(*address), RecordType::PTR).await?;
        let to = found.into_iter().filter_map(|d| match d {
            RData::PTR(to) => Some(to.0.to_string()),
            _ => None,
        });
        addresses.insert(address.to_string(), to.collect::<Vec<_>>());
    }
    Ok(json!({"names": names, "addresses": addresses}))
}

/// What stands there. A packet may be lost.
async fn one(socket: &UdpSocket, name: &Name, kind: RecordType) -> io::Result<Vec<RData>> {
    let mut query = Query::new();
    query
        .set_name(name.clone())
        .set_query_type(kind)
        .set_query_class(DNSClass::IN);
    let mut message = Message::query();
    message.add_query(query);
    let bytes = message.to_vec().map_err(io::Error::other)?;
    for _ in 0..TRIES {
        socket.send(&bytes).await?;
        let mut said = vec![0; 4096];
        if let Ok(read) = timeout(PATIENCE, socket.recv(&mut said)).await {
            said.truncate(read?);
            // An answer to an earlier question that came late is nobody's.
            if said.get(..2) == bytes.get(..2) {
                let answer = Message::from_vec(&said).map_err(io::Error::other)?;
                return Ok(answer.answers.into_iter().map(|r| r.data).collect());
            }
        }
    }
    Err(io::ErrorKind::TimedOut.into())
}
