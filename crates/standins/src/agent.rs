//! What a host agent says: greeting, claim, state, events, and keyed changes. The protocol stands in
//! `docs/agent-api.json`.

pub(crate) mod change;
pub(crate) mod history;
pub(crate) mod say;
pub(crate) mod telling;

pub(crate) use history::Seen;

use crate::{
    fault::Device,
    rooms::{
        carrying::calls as carrying,
        consoles::{calls as console, screens as screen},
        delivering::{calls as delivering, following},
        hardware::calls as hardware,
        hosts::{claim, leases},
        images::calls as images,
        keepers::calls as keepers,
        machines::{power, questions, records},
        moving::{calls as moving, disks},
        naming,
        networks::calls as network,
        packages::calls as packages,
        records::calls as of_volume,
        refreshing,
        sharing::calls as sharing,
        snapshots::calls as snapshots,
        storage::{calls as storage, pools},
        taking,
        templates::calls as templates,
    },
};
use axum::{
    Json, Router,
    extract::{DefaultBodyLimit, Path, State},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
    routing::{delete, get, patch, post, put},
};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};

pub(crate) fn routes(device: Device) -> Router {
    Router::new()
        .route("/v1/greeting", get(greeting))
        .route("/v1/password-check", post(password_check))
        .route("/v1/claim", post(claim::claim))
        .route("/v1/release", post(claim::release))
        .route("/v1/inventory", post(taking::inventory))
        .route("/v1/takeover", post(taking::take_over))
        .route("/v1/history", put(history::meet))
        .route("/v1/state", get(state))
        .route("/v1/clock", get(clock))
        .route("/v1/events", get(telling::events))
        .route("/v1/cluster", put(claim::join))
        .route("/v1/cluster", delete(claim::leave))
        .route("/v1/storage", get(storage::show))
        .route("/v1/networks/{name}", put(network::put))
        .route("/v1/networks/{name}", delete(network::remove))
        .route("/v1/mtu-probe", post(network::mtu))
        .route("/v1/neighbours", post(network::neighbours))
        .route("/v1/round-trip", post(network::round_trip))
        .route("/v1/resolve", post(naming::resolve))
        .route("/v1/storage/logins", put(storage::log_in))
        .route("/v1/pools", post(pools::begin))
        .route("/v1/pools/{uid}", get(pools::show))
        .route("/v1/pools/{uid}/members/{serial}", delete(pools::expel))
        .route("/v1/pools/{uid}/share", put(pools::share))
        .route("/v1/pools/{uid}/share", delete(pools::give_back))
        .route("/v1/volumes/{uid}/records", get(records))
        .route(
            "/v1/volumes/{uid}/records/{uuid}",
            delete(of_volume::forget),
        )
        .route("/v1/volumes/{uid}/format", post(storage::format))
        .route("/v1/volumes/{uid}/owner", put(storage::take))
        .route("/v1/volumes/{uid}/owner", delete(storage::disown))
        .route("/v1/volumes/{uid}/mount", put(storage::put_mount))
        .route("/v1/volumes/{uid}/mount", delete(storage::unmount))
        .route("/v1/volumes/{uid}/grow", post(storage::grow))
        .route("/v1/volumes/{uid}/images/{id}", get(images::show))
        .route("/v1/volumes/{uid}/images/{id}", put(images::create))
        .route("/v1/volumes/{uid}/images/{id}", delete(images::remove))
        .route("/v1/volumes/{uid}/images/{id}/seal", post(images::seal))
        .route("/v1/volumes/{uid}/images/{id}/bytes", get(images::read))
        .route(
            "/v1/volumes/{uid}/images/{id}/bytes",
            put(images::append).layer(DefaultBodyLimit::max(PIECE)),
        )
        .route("/v1/keepers/{cluster}", get(keepers::show))
        .route(
            "/v1/keepers/{cluster}",
            put(keepers::give).layer(DefaultBodyLimit::max(PAPERS)),
        )
        .route("/v1/keepers/{cluster}", delete(keepers::take))
        .route("/v1/volumes/{uid}/leases/{serial}", put(leases::tell))
        .route("/v1/volumes/{uid}/agreement", get(keepers::agreement))
        .route("/v1/volumes/{uid}/agreement", patch(keepers::change))
        .route("/v1/volumes/{uid}/agreement/members", put(keepers::name))
        .route("/v1/volumes/{uid}/journal", get(keepers::journal))
        .route("/v1/volumes/{uid}/journal/{index}", put(keepers::add))
        .merge(machine_routes())
        .with_state(device)
}

fn machine_routes() -> Router<Device> {
    Router::new()
        .route("/v1/machines/{uuid}", get(machine))
        .route("/v1/machines/{uuid}", put(records::create))
        .route("/v1/machines/{uuid}", patch(records::rewrite))
        .route("/v1/machines/{uuid}", delete(records::remove))
        .route("/v1/machines/{uuid}/console", get(console::watch))
        .route("/v1/machines/{uuid}/console", post(console::typed))
        .route("/v1/machines/{uuid}/screen", get(screen::upgrade))
        .route("/v1/machines/{uuid}/picture", get(screen::picture))
        .route("/v1/machines/{uuid}/questions", post(questions::ask))
        .route("/v1/machines/{uuid}/arrival", put(moving::arrive))
        .route("/v1/machines/{uuid}/move", get(moving::show))
        .route("/v1/machines/{uuid}/move", put(moving::leave))
        .route("/v1/machines/{uuid}/move", delete(moving::cancel))
        .route("/v1/machines/{uuid}/disks", get(disks::show))
        .route("/v1/machines/{uuid}/disks", put(disks::begin))
        .route("/v1/machines/{uuid}/disks", delete(disks::cancel))
        .route("/v1/machines/{uuid}/disks/{key}", put(hardware::add))
        .route(
            "/v1/machines/{uuid}/disks/{key}/detach",
            post(hardware::detach),
        )
        .route(
            "/v1/machines/{uuid}/disks/{key}/attach",
            post(hardware::attach),
        )
        .route("/v1/machines/{uuid}/copy", put(templates::copy))
        .route("/v1/machines/{uuid}/copy", delete(templates::end))
        .route("/v1/machines/{uuid}/disks/{key}/fill", put(packages::fill))
        .route(
            "/v1/machines/{uuid}/disks/{key}/copy",
            put(refreshing::copy),
        )
        .route(
            "/v1/machines/{uuid}/disks/{key}/copy",
            delete(refreshing::end),
        )
        .route(
            "/v1/volumes/{uid}/images/{id}/pack",
            put(packages::pack_file),
        )
        .route("/v1/machines/{uuid}/whole", post(templates::whole))
        .route("/v1/volumes/{uid}/templates/{id}", put(templates::make))
        .route(
            "/v1/volumes/{uid}/templates/{id}",
            delete(templates::remove),
        )
        .route("/v1/machines/{uuid}/cards", put(hardware::cards))
        .route("/v1/volumes/{uid}/disks/{key}", patch(hardware::mark))
        .route("/v1/volumes/{uid}/disks/{key}", delete(hardware::purge))
        .route("/v1/volumes/{uid}/shared/{key}", put(sharing::make))
        .route("/v1/volumes/{uid}/shared/{key}", delete(sharing::end))
        .route("/v1/machines/{uuid}/shared/{key}", put(sharing::give))
        .route("/v1/machines/{uuid}/shared/{key}", delete(sharing::take))
        .route("/v1/machines/{uuid}/snapshots", get(snapshots::show))
        .route("/v1/machines/{uuid}/layers", get(snapshots::layers))
        .route("/v1/machines/{uuid}/snapshots/{id}", put(snapshots::take))
        .route(
            "/v1/machines/{uuid}/freezes/{id}",
            put(snapshots::freeze).delete(snapshots::thaw),
        )
        .route(
            "/v1/machines/{uuid}/snapshots/{id}/back",
            post(snapshots::go_back),
        )
        .route("/v1/machines/{uuid}/forget", post(snapshots::forget))
        .route("/v1/machines/{uuid}/grow", post(records::grow))
        .route("/v1/machines/{uuid}/power", post(power::power))
        .merge(mover_routes())
}

fn mover_routes() -> Router<Device> {
    Router::new()
        .route("/v1/machines/{uuid}/marks/{id}", put(carrying::mark))
        .route("/v1/machines/{uuid}/marks/{id}", delete(carrying::release))
        .route(
            "/v1/machines/{uuid}/marks/{id}/blocks",
            get(carrying::blocks),
        )
        .route("/v1/machines/{uuid}/marks/{id}/bytes", get(carrying::bytes))
        .route("/v1/volumes/{uid}/deliveries/{id}", put(delivering::begin))
        .route("/v1/volumes/{uid}/deliveries/{id}", get(delivering::show))
        .route("/v1/volumes/{uid}/deliveries/{id}", delete(delivering::end))
        .route(
            "/v1/volumes/{uid}/deliveries/{id}/disks/{key}/bytes",
            put(delivering::bring).layer(DefaultBodyLimit::max(PIECE)),
        )
        .route(
            "/v1/machines/{uuid}/marks/{id}/digests",
            get(carrying::digests),
        )
        .route("/v1/machines/{uuid}/delivered", put(delivering::place))
        .route("/v1/machines/{uuid}/followed", put(following::follow))
}

/// The most bytes of an image in one call.
const PIECE: usize = 16 << 20;
/// The most bytes of what a keeper is given.
const PAPERS: usize = 32 << 20;

/// Says no, in the protocol's shape.
pub(crate) fn refused(status: StatusCode, code: &str, message: impl Into<String>) -> Response {
    (
        status,
        Json(json!({"error": {"code": code, "message": message.into()}})),
    )
        .into_response()
}

pub(crate) fn sha(text: &str) -> String {
    Sha256::digest(text.as_bytes())
        .iter()
        .map(|b| format!("{b:02x}"))
        .collect()
}

/// The caller shows the owner's key.
pub(crate) fn owner_only(device: &Device, headers: &HeaderMap) -> Result<(), Response> {
    let given = headers
        .get("authorization")
        .and_then(|h| h.to_str().ok())
        .and_then(|h| h.strip_prefix("Bearer "));
    let state = device.world.lock();
    let owner = state.hosts.get(&device.name).and_then(|h| h.owner.clone());
    match (given, owner) {
        (Some(key), Some(owner)) if sha(key) == owner.key => Ok(()),
        (_, None) => Err(refused(
            StatusCode::UNAUTHORIZED,
            "unclaimed",
            "This host is not claimed.",
        )),
        _ => Err(refused(
            StatusCode::UNAUTHORIZED,
            "key",
            "This key is not the owner's.",
        )),
    }
}

async fn greeting(State(device): State<Device>) -> Response {
    device.world.settle(&device.name);
    let state = device.world.lock();
    match state.hosts.get(&device.name) {
        Some(host) => Json(say::greeting(&state, host)).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// Checks a password; after a wrong one the host says how many tries are left.
pub(crate) fn check_password(device: &Device, given: &str) -> Result<(), Response> {
    const TRIES: u32 = 5;
    let mut state = device.world.lock();
    let Some(host) = state.hosts.get_mut(&device.name) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let verdict = if host.wrong_passwords >= TRIES {
        Err(refused(
            StatusCode::LOCKED,
            "locked",
            "Too many wrong passwords; the host must be unlocked at its own screen.",
        ))
    } else if host.password == given {
        host.wrong_passwords = 0;
        Ok(())
    } else {
        host.wrong_passwords += 1;
        let left = TRIES - host.wrong_passwords;
        Err(refused(
            StatusCode::UNAUTHORIZED,
            "password",
            format!("Password not accepted; {left} tries left."),
        ))
    };
    device.world.save_host(&state, &device.name);
    verdict
}

async fn password_check(State(device): State<Device>, Json(body): Json<Value>) -> Response {
    match check_password(
        &device,
        body.get("password")
            .and_then(Value::as_str)
            .unwrap_or_default(),
    ) {
        Ok(()) => StatusCode::NO_CONTENT.into_response(),
        Err(no) => no,
    }
}

async fn state(State(device): State<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    Json(report(&device)).into_response()
}

fn report(device: &Device) -> Value {
    device.world.settle(&device.name);
    let now = device.world.now();
    let state = device.world.lock();
    state
        .hosts
        .get(&device.name)
        .map_or(Value::Null, |host| say::report(&state, host, now))
}

async fn clock(State(device): State<Device>, headers: HeaderMap) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let host = state.hosts.get(&device.name);
    let offset = host.map_or(0, |h| state.clock_of(h));
    drop(state);
    Json(json!({"unix_ms": crate::world::wall() + offset})).into_response()
}

async fn records(
    State(device): State<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    let state = device.world.lock();
    let sees = state
        .hosts
        .get(&device.name)
        .is_some_and(|h| h.mounted.contains(&uid));
    match state.volumes.get(&uid).filter(|_| sees) {
        Some(volume) => Json(json!({"machines": say::records(volume)})).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "volume",
            "This host does not see that volume.",
        ),
    }
}

async fn machine(
    State(device): State<Device>,
    Path(uuid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    device.world.settle(&device.name);
    let now = device.world.now();
    let state = device.world.lock();
    match state
        .hosts
        .get(&device.name)
        .and_then(|h| say::machine_now(&state, h, &uuid, now))
    {
        Some(found) => Json(found).into_response(),
        None => refused(
            StatusCode::NOT_FOUND,
            "machine",
            "No volume that this host sees has such a machine.",
        ),
    }
}
