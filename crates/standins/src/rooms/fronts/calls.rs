//! The API of a load balancer.

use super::{Config, LoadBalancer, live::Told};
use crate::{agent::change::header, fault::Device};
use axum::{
    Json, Router,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::{delete, get, put},
};
use serde::Deserialize;
use serde_json::{Value, json};

pub(crate) fn routes(device: Device) -> Router {
    Router::new()
        .route("/v1", get(greeting))
        .route("/v1/identity", get(identity))
        .route("/v1/fronts", get(list))
        .route("/v1/fronts/{id}", put(set))
        .route("/v1/fronts/{id}", delete(remove))
        .route("/v1/fronts/{id}/members/{at}", put(admit))
        .with_state(device)
}

fn no(status: StatusCode, words: impl Into<String>) -> Response {
    (status, Json(json!({"error": {"message": words.into()}}))).into_response()
}

/// Names itself to anybody, so that the certificate can be compared before a token is sent.
async fn greeting(Extract(device): Extract<Device>) -> Json<Value> {
    Json(json!({"name": device.name}))
}

/// With the token that it takes orders with.
fn with<T>(
    device: &Device,
    headers: &HeaderMap,
    act: impl FnOnce(&mut LoadBalancer) -> Result<T, Response>,
) -> Result<T, Response> {
    let given = header(headers, "authorization").and_then(|h| h.strip_prefix("Bearer "));
    let mut state = device.world.lock();
    let Some(balancer) = state.balancers.get_mut(&device.name) else {
        return Err(no(StatusCode::NOT_FOUND, "It is gone."));
    };
    if given != Some(balancer.token.as_str()) {
        return Err(no(StatusCode::UNAUTHORIZED, "The token is wrong."));
    }
    let answer = act(balancer);
    device.world.save_balancer(&state, &device.name);
    answer
}

async fn identity(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    match with(&device, &headers, |_| Ok(())) {
        Ok(()) => {
            Json(json!({"name": device.name, "software": "2.6.0", "protocols": ["tcp", "http"]}))
                .into_response()
        }
        Err(no) => no,
    }
}

/// Refuses what comes from an older history, or from somebody who took the front earlier than the last.
fn fenced(balancer: &mut LoadBalancer, headers: &HeaderMap, id: &str) -> Result<(), Response> {
    let number =
        |name: &str| header(headers, name).and_then(|h| h.split('.').next()?.parse::<u64>().ok());
    let (Some(epoch), Some(fence)) = (number("epoch"), number("fence")) else {
        return Err(no(StatusCode::BAD_REQUEST, "Epoch and Fence are required."));
    };
    let highest = balancer.fences.entry(id.to_owned()).or_default();
    if (epoch, fence) < *highest {
        return Err(no(
            StatusCode::PRECONDITION_FAILED,
            format!(
                "It was set by {}.{}; {epoch}.{fence} is older.",
                highest.0, highest.1
            ),
        ));
    }
    *highest = (epoch, fence);
    Ok(())
}

/// Every front with its members, as they are.
async fn list(Extract(device): Extract<Device>, headers: HeaderMap) -> Response {
    let fronts = match with(&device, &headers, |b| Ok(b.fronts.clone())) {
        Ok(fronts) => fronts,
        Err(no) => return no,
    };
    let said = fronts.into_iter().map(|(id, config)| {
        let live = device.world.balancing.of(&device.name, &id);
        let members = config.members.iter().map(|(at, member)| {
            let Told { state, why, connections } = live.as_ref().map_or_else(Told::unasked, |l| l.told(at, member));
            json!({"at": at, "name": member.name, "admitted": member.admitted, "state": state, "why": why, "connections": connections})
        });
        json!({"id": id, "name": config.name, "address": config.address, "port": config.port, "trouble": live.as_ref().and_then(|l| l.trouble()),
            "members": members.collect::<Vec<_>>()})
    });
    Json(json!({"fronts": said.collect::<Vec<_>>()})).into_response()
}

async fn set(
    Extract(device): Extract<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
    Json(config): Json<Config>,
) -> Response {
    let words = with(&device, &headers, |balancer| {
        let taken = balancer.fronts.iter().find(|(other, f)| {
            **other != id && (f.address, f.port) == (config.address, config.port)
        });
        if let Some((_, other)) = taken {
            return Err(no(
                StatusCode::CONFLICT,
                format!(
                    "{} port {} is {} already.",
                    config.address, config.port, other.name
                ),
            ));
        }
        if config.persistence == "cookie" && config.protocol == "tcp" {
            return Err(no(
                StatusCode::UNPROCESSABLE_ENTITY,
                "A cookie can only be read in HTTP.",
            ));
        }
        if let Err(words) = super::passing::acceptor(&config) {
            return Err(no(StatusCode::UNPROCESSABLE_ENTITY, words));
        }
        fenced(balancer, &headers, &id)?;
        let name = config.name.clone();
        let before = balancer.fronts.insert(id.clone(), config);
        Ok((before.as_ref() != balancer.fronts.get(&id)).then_some(name))
    });
    did(&device, &id, words)
}

/// What was changed is remembered under the front's name; a repeated call changes nothing.
fn did(device: &Device, id: &str, answer: Result<Option<String>, Response>) -> Response {
    match answer {
        Ok(changed) => {
            if let Some(name) = changed {
                let mut state = device.world.lock();
                state.called(id, &name);
                state.did(&device.name);
            }
            Json(json!({})).into_response()
        }
        Err(no) => no,
    }
}

async fn remove(
    Extract(device): Extract<Device>,
    Path(id): Path<String>,
    headers: HeaderMap,
) -> Response {
    let answer = with(&device, &headers, |balancer| {
        fenced(balancer, &headers, &id)?;
        Ok(balancer.fronts.remove(&id).map(|f| f.name))
    });
    did(&device, &id, answer)
}

#[derive(Deserialize)]
struct Admit {
    admitted: bool,
}

/// Takes a member out, or in again; open connections of one that is out go on for as long as the front's drain says.
async fn admit(
    Extract(device): Extract<Device>,
    Path((id, at)): Path<(String, String)>,
    headers: HeaderMap,
    Json(ask): Json<Admit>,
) -> Response {
    let answer = with(&device, &headers, |balancer| {
        fenced(balancer, &headers, &id)?;
        let member = balancer
            .fronts
            .get_mut(&id)
            .and_then(|f| f.members.get_mut(&at));
        let Some(member) = member else {
            return Err(no(
                StatusCode::NOT_FOUND,
                format!("{at} is no member of it."),
            ));
        };
        member.admitted = ask.admitted;
        Ok(())
    });
    if let Err(no) = answer {
        return no;
    }
    device.world.lock().did(&device.name);
    let live = device.world.balancing.of(&device.name, &id);
    let open = live.map_or(0, |l| l.connections(&at));
    Json(json!({"connections": open})).into_response()
}
