//! Breaking devices by script, and looking at what happened to them. Needs a token; plain HTTP on loopback.

use crate::{Deceit, fault::Fault, weather, world::World};
use axum::{
    Json, Router,
    extract::{Path, Request, State},
    http::StatusCode,
    middleware::{self, Next},
    response::{IntoResponse, Response},
    routing::{get, post},
};
use serde_json::{Value, json};
use std::sync::Arc;

#[derive(Clone)]
pub(crate) struct Control {
    pub(crate) world: Arc<World>,
    pub(crate) token: String,
}

pub(crate) fn routes(control: Control) -> Router {
    Router::new()
        .route("/faults", post(add_fault).delete(clear_faults))
        .route("/weather", get(weather::show).post(weather::blow))
        .route("/effects", get(effects))
        .route("/violations", get(violations))
        .route("/agents", get(agents))
        .route("/hosts/{name}/power/{state}", post(power))
        .route("/hosts/{name}/agent/{state}", post(hang))
        .route("/hosts/{name}/stall/{state}", post(stall))
        .route("/hosts/{name}/watchdog/{state}", post(arm))
        .route("/hosts/{name}/deceit/{kind}", post(deceive))
        .route("/hosts/{name}/controller/{state}", post(silence_bmc))
        .route("/arrays/{name}/controllers/{n}/{state}", post(controller))
        .route("/arrays/{name}/portals/{n}/{state}", post(portal))
        .route(
            "/arrays/{name}/portals/{n}/{state}/for/{host}",
            post(portal_for),
        )
        .route("/machines/{name}/write/{bytes}", post(write))
        .route("/machines/{name}/crash", post(crash))
        .route("/switches/{name}/{state}", post(switch))
        .route("/switches/{name}/to/{host}/without/{vlan}", post(untrunk))
        .layer(middleware::from_fn_with_state(control.clone(), token_only))
        .with_state(control)
}

async fn token_only(State(control): State<Control>, request: Request, next: Next) -> Response {
    let expected = format!("Bearer {}", control.token);
    let given = request
        .headers()
        .get("authorization")
        .and_then(|h| h.to_str().ok());
    if given == Some(expected.as_str()) {
        next.run(request).await
    } else {
        StatusCode::UNAUTHORIZED.into_response()
    }
}

async fn add_fault(State(control): State<Control>, Json(fault): Json<Fault>) -> StatusCode {
    control.world.add_fault(fault);
    StatusCode::NO_CONTENT
}
async fn clear_faults(State(control): State<Control>) -> StatusCode {
    control.world.clear_faults();
    StatusCode::NO_CONTENT
}
async fn effects(State(control): State<Control>) -> Json<Value> {
    Json(json!(control.world.effects()))
}
async fn violations(State(control): State<Control>) -> Json<Value> {
    Json(json!(control.world.violations()))
}
async fn agents(State(control): State<Control>) -> Json<Value> {
    Json(json!(control.world.agents()))
}
async fn power(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.power(&name, state == "on");
    StatusCode::NO_CONTENT
}

async fn hang(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.hang(&name, state != "up");
    StatusCode::NO_CONTENT
}
async fn stall(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.stall(&name, state != "up");
    StatusCode::NO_CONTENT
}
async fn arm(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.arm(&name, state == "armed");
    StatusCode::NO_CONTENT
}
async fn deceive(
    State(control): State<Control>,
    Path((name, kind)): Path<(String, Deceit)>,
) -> StatusCode {
    control.world.deceive(&name, kind);
    StatusCode::NO_CONTENT
}
async fn silence_bmc(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.silence_bmc(&name, state != "up");
    StatusCode::NO_CONTENT
}

async fn controller(
    State(control): State<Control>,
    Path((name, n, state)): Path<(String, usize, String)>,
) -> StatusCode {
    control.world.controller(&name, n, state == "up");
    StatusCode::NO_CONTENT
}
async fn portal(
    State(control): State<Control>,
    Path((name, n, state)): Path<(String, usize, String)>,
) -> StatusCode {
    control.world.portal(&name, n, None, state == "up");
    StatusCode::NO_CONTENT
}
async fn portal_for(
    State(control): State<Control>,
    Path((name, n, state, host)): Path<(String, usize, String, String)>,
) -> StatusCode {
    control.world.portal(&name, n, Some(&host), state == "up");
    StatusCode::NO_CONTENT
}
async fn write(
    State(control): State<Control>,
    Path((name, bytes)): Path<(String, u64)>,
) -> StatusCode {
    control.world.write(&name, bytes);
    StatusCode::NO_CONTENT
}

async fn crash(State(control): State<Control>, Path(name): Path<String>) -> StatusCode {
    control.world.crash(&name);
    StatusCode::NO_CONTENT
}

async fn switch(
    State(control): State<Control>,
    Path((name, state)): Path<(String, String)>,
) -> StatusCode {
    control.world.silence_switch(&name, state != "up");
    StatusCode::NO_CONTENT
}

/// Somebody takes a VLAN off the ports that a host is plugged into.
async fn untrunk(
    State(control): State<Control>,
    Path((name, host, vlan)): Path<(String, String, u16)>,
) -> StatusCode {
    control.world.change_port(&name, &host, None, Some(vlan));
    StatusCode::NO_CONTENT
}
