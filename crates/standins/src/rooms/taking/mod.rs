//! A cluster that was built by hand under another manager: what each host tells whoever knows its password, without changing
//! anything, and how it changes its owner. The manager itself is only what its hosts saw of it: orders, and automation.

use crate::{
    agent::{
        change::{header, keyed},
        check_password, refused, say, sha,
    },
    fault::Device,
    rooms::{
        hosts::{
            claim::{Claim, become_owned},
            host::{Host, Owner},
        },
        machines::guest::hash,
        storage::calls::{owner, paths},
    },
    scenario::Handmade,
    world::{State, World},
};
use axum::{
    Json,
    extract::State as Extract,
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// Another manager, as its hosts know it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Former {
    pub(crate) id: String,
    pub(crate) name: String,
    /// Virtual milliseconds.
    pub(crate) last_order: i64,
    /// It gives an order every minute.
    #[serde(default)]
    pub(crate) orders: bool,
    #[serde(default)]
    pub(crate) automation: bool,
    /// What runs on its hosts beside machines, by host.
    #[serde(default)]
    pub(crate) others: BTreeMap<String, Vec<String>>,
}

/// A host is given up only by a manager of which no order was seen for so long, in virtual milliseconds.
const SILENT_FOR: i64 = 600_000;
const A_DAY: i64 = 86_400_000;
const EVERY: i64 = 60_000;

impl Former {
    fn silent_ms(&self, now: i64) -> i64 {
        let since = (now - self.last_order).max(0);
        if self.orders { since % EVERY } else { since }
    }
    /// As the protocol says it.
    fn said(&self, now: i64) -> Value {
        json!({"installation": self.id, "name": self.name, "silent_ms": self.silent_ms(now),
            "automation": self.automation})
    }
    fn is_active(&self, now: i64) -> bool {
        self.automation || self.silent_ms(now) < SILENT_FOR
    }
}

/// Hosts, volumes and networks of a scenario as their manager left them.
pub(crate) fn make(state: &mut State, made: &Handmade, now: i64) {
    let id = uuid::Builder::from_random_bytes(
        (u128::from(hash(&made.manager)) << 64 | u128::from(!hash(&made.manager))).to_be_bytes(),
    )
    .into_uuid()
    .to_string();
    let owner = Owner {
        installation: id.clone(),
        name: made.manager.clone(),
        key: sha(&uuid::Uuid::new_v4().to_string()),
    };
    for (name, networks) in &made.hosts {
        if let Some(host) = state.hosts.get_mut(name) {
            host.owner = Some(owner.clone());
            host.password.clone_from(&made.password);
            host.networks.clone_from(networks);
            // Its orders carried a history of its own, which says nothing to ours.
            (host.seen.epoch, host.seen.history) = (4, id.clone());
        }
    }
    for uid in &made.volumes {
        if let Some(volume) = state.volumes.get_mut(uid) {
            volume.owner = Some((id.clone(), made.manager.clone(), made.manager.clone()));
            (volume.seen.epoch, volume.seen.history) = (4, id.clone());
        }
    }
    let former = Former {
        id,
        name: made.manager.clone(),
        last_order: now - i64::from(made.silent_days) * A_DAY,
        orders: false,
        automation: false,
        others: made.others.clone(),
    };
    state.formers.insert(made.manager.clone(), former);
}

fn former_of<'a>(state: &'a State, host: &Host) -> Option<&'a Former> {
    let owner = host.owner.as_ref()?;
    state.formers.values().find(|f| f.id == owner.installation)
}

#[derive(Deserialize)]
pub(crate) struct Ask {
    password: String,
}

/// Everything that the host has, for whoever knows its password; nothing is changed by it.
pub(crate) async fn inventory(Extract(device): Extract<Device>, Json(ask): Json<Ask>) -> Response {
    if let Err(no) = check_password(&device, &ask.password) {
        return no;
    }
    device.world.settle(&device.name);
    let now = device.world.now();
    let state = device.world.lock();
    let Some(host) = state.hosts.get(&device.name) else {
        return StatusCode::NOT_FOUND.into_response();
    };
    let former = former_of(&state, host);
    // A manager that its host never heard acting is silent since it took it, and says nothing of automation.
    let said = match (&host.owner, former) {
        (None, _) => Value::Null,
        (Some(_), Some(former)) => former.said(now),
        (Some(owner), None) => {
            json!({"installation": owner.installation, "name": owner.name, "silent_ms": 0,
            "automation": true})
        }
    };
    let others = former.and_then(|f| f.others.get(&host.name)).cloned();
    let up = host
        .guests
        .iter()
        .map(|(uuid, g)| (uuid.clone(), json!(now - g.started)));
    let up: serde_json::Map<String, Value> = up.collect();
    let mounted = host.mounted.iter().filter_map(|uid| state.volumes.get(uid));
    let volumes: Vec<Value> = mounted
        .map(|v| {
            json!({"uid": v.uid, "name": v.name, "capacity": v.capacity, "used": v.used(), "owner": owner(v),
                "paths": paths(&state, &host.name, &v.uid), "machines": say::records(v)})
        })
        .collect();
    Json(json!({"former": said, "volumes": volumes, "networks": host.networks, "uplinks": host.uplinks, "up_ms": up,
        "others": others.unwrap_or_default()}))
    .into_response()
}

#[derive(Deserialize)]
pub(crate) struct TakeOver {
    #[serde(flatten)]
    claim: Claim,
    /// The installation that it is taken from.
    former: String,
}

/// The host changes its owner, unless the one that it has is still at work. What runs on it runs on.
pub(crate) async fn take_over(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<TakeOver>,
) -> Response {
    let repeated = header(&headers, "step-key").is_some_and(|key| {
        let state = device.world.lock();
        let host = state.hosts.get(&device.name);
        host.is_some_and(|h| {
            h.answers.contains_key(key)
                && h.claimed_with.as_deref() == Some(sha(&ask.claim.password).as_str())
        })
    });
    if !repeated {
        if let Err(no) = check_password(&device, &ask.claim.password) {
            return no;
        }
        if let Err(no) = let_go(&device, &ask.former) {
            return no;
        }
    }
    let name = device.name.clone();
    keyed(&device, &headers, "host", |state, now| {
        become_owned(state, &name, &ask.claim, now)
    })
}

/// Forgets whose orders were obeyed before, at the host and at what it mounts, once nobody gives any.
fn let_go(device: &Device, former: &str) -> Result<(), Response> {
    let now = device.world.now();
    let mut state = device.world.lock();
    let State {
        hosts,
        volumes,
        formers,
        ..
    } = &mut *state;
    let Some(host) = hosts.get_mut(&device.name) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let owner = host.owner.clone();
    let conflict = |code, words: String| Err(refused(StatusCode::CONFLICT, code, words));
    match owner {
        None => {
            return conflict(
                "unclaimed",
                "Nobody owns this host; it is claimed, not taken over.".into(),
            );
        }
        Some(o) if o.installation != former => {
            return conflict("owned", format!("It belongs to {}.", o.name));
        }
        Some(o) => match formers.values().find(|f| f.id == o.installation) {
            Some(f) if f.is_active(now) => {
                let ago = f.silent_ms(now) / 1000;
                let what = if f.automation {
                    "its automation is on".into()
                } else {
                    format!("it gave an order {ago} s ago")
                };
                return conflict(
                    "active",
                    format!("{} is still at work here: {what}.", o.name),
                );
            }
            Some(_) => {}
            None => return conflict("active", format!("{} may still be at work here.", o.name)),
        },
    }
    host.owner = None;
    host.seen = Default::default();
    (host.fence, host.answers) = (0, Default::default());
    host.fences.clear();
    for uid in &host.mounted {
        if let Some(volume) = volumes.get_mut(uid)
            && volume.owner.as_ref().is_some_and(|(id, ..)| id == former)
        {
            volume.seen = Default::default();
            volume.fences.clear();
        }
    }
    Ok(())
}

impl World {
    /// Who owns each host and volume, in the order of their names; none: nobody.
    pub fn owners(&self) -> Vec<Option<String>> {
        let state = self.lock();
        let hosts = state
            .hosts
            .values()
            .map(|h| h.owner.as_ref().map(|o| o.name.clone()));
        let owned = state.volumes.values().filter_map(|v| v.owner.as_ref());
        hosts
            .chain(owned.map(|(_, name, _)| Some(name.clone())))
            .collect()
    }
    /// The hosts that another manager owns.
    pub(crate) fn of_others(&self) -> BTreeSet<String> {
        let state = self.lock();
        let theirs = state
            .hosts
            .values()
            .filter(|h| former_of(&state, h).is_some());
        theirs.map(|h| h.name.clone()).collect()
    }
    /// Another manager gives orders, or does no more.
    pub fn former_orders(&self, name: &str, orders: bool) {
        let now = self.now();
        self.at_former(name, |f| {
            f.last_order = if orders || f.orders {
                now
            } else {
                f.last_order
            };
            f.orders = orders;
        });
    }
    pub fn former_automation(&self, name: &str, on: bool) {
        self.at_former(name, |f| f.automation = on);
    }
    fn at_former(&self, name: &str, change: impl FnOnce(&mut Former)) {
        let mut state = self.lock();
        if let Some(former) = state.formers.get_mut(name) {
            change(former);
        }
        self.save_former(&state, name);
    }
}
