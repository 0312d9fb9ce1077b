//! The hosts' own disks, and volumes made of them: lending, giving back, and how whole they are.

use crate::agent::{change::by_owner, owner_only, refused};
use crate::{
    fault::Device,
    rooms::storage::{
        pool::{Member, Pool},
        volume::Volume,
    },
    scenario::ScenarioHost,
    world::{State, World},
};
use axum::{
    Json,
    extract::{Path, State as Extract},
    http::{HeaderMap, StatusCode},
    response::{IntoResponse, Response},
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};

/// A disk in a host, beside the one that it starts from.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct LocalDisk {
    pub(crate) name: String,
    pub(crate) size: u64,
    /// What is on it that nobody may overwrite.
    #[serde(default)]
    pub(crate) holds: Option<String>,
    /// The volume that it is lent to.
    #[serde(default)]
    pub(crate) lent: Option<String>,
    #[serde(default)]
    pub(crate) dead: bool,
}

impl LocalDisk {
    fn is_free(&self) -> bool {
        self.holds.is_none() && self.lent.is_none() && !self.dead
    }
}

/// The disks of a new host; of one that is installed already the first has what somebody left on it.
pub(crate) fn disks(host: &ScenarioHost) -> Vec<LocalDisk> {
    let disk = |(n, gb): (usize, &u64)| LocalDisk {
        name: format!("nvme{}", n + 1),
        size: gb * 1_000_000_000,
        holds: host
            .leftovers
            .first()
            .filter(|_| n == 0 && !host.bare)
            .cloned(),
        lent: None,
        dead: false,
    };
    host.disks_gb.iter().enumerate().map(disk).collect()
}

impl State {
    /// The hosts whose disks can be read.
    fn serving(&self) -> BTreeSet<String> {
        let on = self
            .hosts
            .values()
            .filter(|h| h.power && !h.stalled && h.bare.is_installed());
        on.map(|h| h.name.clone()).collect()
    }

    /// Brings every pool that the host belongs to up to now. Answers those of which something was changed.
    pub(crate) fn pools_on(&mut self, host: &str, now: i64) -> BTreeSet<String> {
        let mut changed = BTreeSet::new();
        let is_in = |v: &Volume| {
            v.pool
                .as_ref()
                .is_some_and(|p| p.members.contains_key(host))
        };
        let uids: Vec<String> = self
            .volumes
            .values()
            .filter(|v| is_in(v))
            .map(|v| v.uid.clone())
            .collect();
        if uids.is_empty() {
            return changed;
        }
        let serving = self.serving();
        let up = |host: &str| serving.contains(host);
        for uid in uids {
            let Some(volume) = self.volumes.get_mut(&uid) else {
                continue;
            };
            let holds = volume.holds();
            let Some(pool) = &mut volume.pool else {
                continue;
            };
            let (seq, members) = (
                pool.seq,
                pool.members.keys().cloned().collect::<BTreeSet<_>>(),
            );
            pool.fit(&holds, &up);
            pool.tick(now, &up);
            volume.capacity = pool.usable();
            if pool.seq != seq {
                changed.insert(uid.clone());
            }
            // Whoever has given everything back has its disks to itself again.
            let left: Vec<&String> = members
                .iter()
                .filter(|m| !pool.members.contains_key(*m))
                .collect();
            for host in left {
                if let Some(host) = self.hosts.get_mut(host) {
                    host.local
                        .iter_mut()
                        .filter(|d| d.lent.as_deref() == Some(&uid))
                        .for_each(|d| d.lent = None);
                }
            }
        }
        changed
    }

    /// Whether everything on a volume of the hosts' own disks can be read from a host; none where it is none.
    pub(crate) fn pool_serves(&self, host: &str, uid: &str) -> Option<bool> {
        let pool = self.volumes.get(uid)?.pool.as_ref()?;
        let serving = self.serving();
        let up = |host: &str| serving.contains(host);
        Some(pool.members.contains_key(host) && up(host) && pool.serves(&up))
    }

    /// What a host says of a volume's pool.
    pub(crate) fn pool_of(&self, uid: &str, now: i64) -> Option<Value> {
        let pool = self.volumes.get(uid)?.pool.as_ref()?;
        let serving = self.serving();
        let up = |host: &str| serving.contains(host);
        let health = pool.health(now, &up);
        let members = pool.members.iter().map(|(name, m)| {
            let serial = self.hosts.get(name).map(|h| h.serial.as_str());
            json!({"name": name, "serial": serial, "domain": m.domain, "raw": m.disks.values().sum::<u64>(), "disks": m.disks.len(),
                "held": pool.held_by(name), "away_ms": m.away, "leaving": m.leaving})
        });
        Some(
            json!({"seq": pool.seq, "copies": pool.copies, "wait_s": pool.grace / 1000, "lacking": health.lacking,
            "lost": health.lost, "moving": health.moving, "members": members.collect::<Vec<_>>()}),
        )
    }
}

/// The disks of a host, as it says.
pub(crate) fn own_disks(disks: &[LocalDisk]) -> Vec<Value> {
    let say = |d: &LocalDisk| json!({"name": d.name, "size": d.size, "holds": d.holds, "lent": d.lent, "dead": d.dead});
    disks.iter().map(say).collect()
}

fn conflict(code: &str, words: impl Into<String>) -> Response {
    refused(StatusCode::CONFLICT, code, words)
}

/// Lends every free disk of the host; one that has none takes part all the same, and reads what the others keep.
fn lend(state: &mut State, host: &str, uid: &str, domain: &str) -> Result<Value, Response> {
    let Some(held) = state.hosts.get_mut(host) else {
        return Err(StatusCode::NOT_FOUND.into_response());
    };
    let mut lent = BTreeMap::new();
    for disk in held
        .local
        .iter_mut()
        .filter(|d| d.is_free() || d.lent.as_deref() == Some(uid))
    {
        if !disk.dead {
            disk.lent = Some(uid.to_owned());
            lent.insert(disk.name.clone(), disk.size);
        }
    }
    let raw: u64 = lent.values().sum();
    let Some(pool) = state.volumes.get_mut(uid).and_then(|v| v.pool.as_mut()) else {
        return Err(conflict(
            "volume",
            "There is no such volume of hosts' own disks.",
        ));
    };
    let member = Member {
        domain: domain.to_owned(),
        disks: lent,
        away: None,
        leaving: false,
    };
    pool.members.insert(host.to_owned(), member);
    pool.seq += 1;
    let capacity = pool.usable();
    if let Some(volume) = state.volumes.get_mut(uid) {
        volume.capacity = capacity;
    }
    Ok(json!({"uid": uid, "raw": raw}))
}

#[derive(Deserialize)]
pub(crate) struct Begin {
    name: String,
    copies: usize,
    wait_s: u32,
    domain: String,
}

/// Makes a volume of the hosts' own disks, with this host as its first.
pub(crate) async fn begin(
    Extract(device): Extract<Device>,
    headers: HeaderMap,
    Json(ask): Json<Begin>,
) -> Response {
    by_owner(&device, &headers, "pools", |state, host| {
        if !(2..=3).contains(&ask.copies) {
            return Err(conflict(
                "copies",
                "There are two copies of everything, or three.",
            ));
        }
        let uid = format!("pool-{}", uuid::Uuid::new_v4());
        let volume = Volume {
            uid: uid.clone(),
            name: ask.name,
            pool: Some(Pool::new(ask.copies, i64::from(ask.wait_s) * 1000)),
            ..Volume::default()
        };
        state.volumes.insert(uid.clone(), volume);
        let answer = lend(state, host, &uid, &ask.domain);
        device.world.volume_changed(&uid);
        answer
    })
}

#[derive(Deserialize)]
pub(crate) struct Share {
    domain: String,
    /// Agents of hosts that take part already.
    peers: Vec<String>,
}

/// Lends this host's free disks to a volume that another host takes part in.
pub(crate) async fn share(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
    Json(ask): Json<Share>,
) -> Response {
    let answer = by_owner(&device, &headers, &format!("mount:{uid}"), |state, host| {
        let known = state.volumes.get(&uid).and_then(|v| v.pool.as_ref());
        let takes_part =
            |h: &&crate::rooms::hosts::host::Host| ask.peers.contains(&h.address) && h.power;
        let met = known.is_some_and(|p| {
            state
                .hosts
                .values()
                .filter(takes_part)
                .any(|h| p.members.contains_key(&h.name))
        });
        if !met && !known.is_some_and(|p| p.members.contains_key(host)) {
            return Err(conflict(
                "peers",
                format!("None of {} answers for that volume.", ask.peers.join(", ")),
            ));
        }
        lend(state, host, &uid, &ask.domain)
    });
    device.world.volume_changed(&uid);
    answer
}

/// Begins to give this host's disks back: what they hold is copied to the others first.
pub(crate) async fn give_back(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    let answer = by_owner(&device, &headers, &format!("mount:{uid}"), |state, host| {
        let Some(pool) = state.volumes.get_mut(&uid).and_then(|v| v.pool.as_mut()) else {
            return Ok(json!({}));
        };
        if let Some(why) = pool.keeps(host) {
            return Err(conflict("copies", why));
        }
        if let Some(member) = pool.members.get_mut(host) {
            member.leaving = true;
            pool.seq += 1;
        }
        Ok(json!({}))
    });
    device.world.volume_changed(&uid);
    answer
}

/// Who lends what to a volume, and how whole it is.
pub(crate) async fn show(
    Extract(device): Extract<Device>,
    Path(uid): Path<String>,
    headers: HeaderMap,
) -> Response {
    if let Err(no) = owner_only(&device, &headers) {
        return no;
    }
    device.world.settle(&device.name);
    let now = device.world.now();
    let state = device.world.lock();
    let takes_part = state
        .volumes
        .get(&uid)
        .and_then(|v| v.pool.as_ref())
        .is_some_and(|p| p.members.contains_key(&device.name));
    // Whoever takes no part knows nothing of it.
    let said = state.pool_of(&uid, now).filter(|_| takes_part);
    let nothing = json!({"seq": 0, "copies": 0, "wait_s": 0, "lacking": 0, "lost": 0, "moving": 0, "members": []});
    Json(said.unwrap_or(nothing)).into_response()
}

/// Leaves a host out whose disks can't be read any more, if the others have everything.
pub(crate) async fn expel(
    Extract(device): Extract<Device>,
    Path((uid, serial)): Path<(String, String)>,
    headers: HeaderMap,
) -> Response {
    let answer = by_owner(&device, &headers, &format!("mount:{uid}"), |state, _| {
        let serving = state.serving();
        let up = |host: &str| serving.contains(host);
        let named = state
            .hosts
            .values()
            .find(|h| h.serial == serial)
            .map(|h| h.name.clone());
        let Some(pool) = state.volumes.get_mut(&uid).and_then(|v| v.pool.as_mut()) else {
            return Ok(json!({}));
        };
        let Some(gone) = named.filter(|n| pool.members.contains_key(n)) else {
            return Ok(json!({}));
        };
        if up(&gone) {
            return Err(conflict(
                "answers",
                format!("The disks of {gone} can be read."),
            ));
        }
        if !pool.serves(&up) {
            return Err(conflict(
                "copies",
                format!("Some of it is on {gone} alone."),
            ));
        }
        pool.expel(&gone);
        Ok(json!({}))
    });
    device.world.volume_changed(&uid);
    answer
}

impl World {
    /// A disk of a host is dead from now on, with what lay on it; or an empty one is put in its place.
    pub fn kill_disk(&self, host: &str, disk: &str, dead: bool) {
        let mut state = self.lock();
        let State { hosts, volumes, .. } = &mut *state;
        let Some(found) = hosts
            .get_mut(host)
            .and_then(|h| h.local.iter_mut().find(|d| d.name == disk))
        else {
            return;
        };
        found.dead = dead;
        let lent = found.lent.take();
        if let Some(pool) = lent
            .as_ref()
            .and_then(|uid| volumes.get_mut(uid)?.pool.as_mut())
        {
            pool.dies(host, disk);
        }
        if let Some(uid) = lent {
            self.save_volume(&state, &uid);
        }
        self.save_host(&state, host);
    }

    /// (bytes that lack copies, bytes that can't be read, bytes being copied) of the volume of this name.
    pub fn lacks(&self, volume: &str) -> Option<(u64, u64, u64)> {
        let now = self.now();
        let state = self.lock();
        let serving = state.serving();
        let named = state.volumes.values().find(|v| v.name == volume)?;
        let health = named
            .pool
            .as_ref()?
            .health(now, &|host: &str| serving.contains(host));
        Some((health.lacking, health.lost, health.moving))
    }
}
