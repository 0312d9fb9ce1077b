//! Disks that are copied to another volume: at a rate, in virtual time, while their guest goes on writing; then the record
//! goes over, under the next generation of the run lease.

use crate::{
    rooms::machines::guest::whole,
    rooms::storage::volume::Record,
    world::{State, World},
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// What the guest stands still for at the end, in virtual milliseconds.
const SWITCH: i64 = 300;

#[derive(Debug, Clone, PartialEq, Eq)]
enum Stage {
    Running,
    Done,
    Failed(String),
}

/// A copy from one volume to another, by one host.
#[derive(Debug, Clone)]
pub(crate) struct Copy {
    pub(crate) from: String,
    pub(crate) to: String,
    /// Bytes a second.
    rate: u64,
    /// What is still to be copied, as of `at`.
    left: f64,
    copied: f64,
    at: i64,
    stage: Stage,
}

pub(crate) type Copies = BTreeMap<(String, String), Copy>;

impl Copy {
    pub(crate) fn told(&self) -> Value {
        let (stage, why) = match &self.stage {
            Stage::Running => ("running", ""),
            Stage::Done => ("done", ""),
            Stage::Failed(why) => ("failed", why.as_str()),
        };
        json!({"stage": stage, "why": why, "from": self.from, "to": self.to,
            "copied": whole(self.copied), "left": whole(self.left), "rate": self.rate})
    }
    pub(crate) fn runs(&self) -> bool {
        self.stage == Stage::Running
    }
}

/// What a thin or thick disk takes on its volume.
pub(crate) fn takes(record: &Record) -> u64 {
    if let Some(chain) = &record.chain {
        return chain.bytes();
    }
    let disk = |d: &crate::rooms::storage::volume::Disk| {
        if d.thick {
            d.size
        } else {
            d.written.min(d.size)
        }
    };
    record.disks.iter().map(disk).sum()
}

/// How fast a host copies, in bytes a second.
pub(crate) fn rate_of(state: &State, host: &str) -> u64 {
    let fastest = state
        .hosts
        .get(host)
        .and_then(|h| h.uplinks.iter().map(|u| u.mbit).max())
        .unwrap_or(0);
    (fastest * 1_000_000 / 8 / 10 * 9).min(1_000_000_000)
}

/// How fast a guest writes to its disks, in bytes a second.
pub(crate) fn writes(record: &Record, command: bool) -> u64 {
    u64::from(record.temper.busy.min(1000)) * 20_000 + if command { 256 << 20 } else { 0 }
}

/// Begins a copy: the other volume is mounted and reached here, and has room.
pub(crate) fn begin(
    state: &mut State,
    host: &str,
    uuid: &str,
    to: &str,
    now: i64,
) -> Result<Copy, (&'static str, String)> {
    let key = (host.to_owned(), uuid.to_owned());
    if let Some(known) = state
        .copies
        .get(&key)
        .filter(|c| c.to == to && !matches!(c.stage, Stage::Failed(_)))
    {
        return Ok(known.clone());
    }
    let home = state.home(host, uuid);
    let home = home.and_then(|uid| state.volumes.get(&uid));
    let Some((from, record)) = home.map(|v| (v.uid.clone(), v.records[uuid].clone())) else {
        return Err(("machine", "There is no such machine.".into()));
    };
    let mounted = |uid: &str| {
        state
            .hosts
            .get(host)
            .is_some_and(|h| h.mounted.contains(uid))
            && state.reaches(host, uid)
    };
    for uid in [from.as_str(), to] {
        if !mounted(uid) {
            let name = state.volumes.get(uid).map_or(uid, |v| v.name.as_str());
            return Err(("path", format!("This host does not reach {name}.")));
        }
    }
    let elsewhere = record.lease.holder.as_deref().is_some_and(|h| h != host);
    if elsewhere {
        return Err(("off", "The machine runs on another host.".into()));
    }
    let folds = state.going.get(&key).is_some_and(|g| g.runs());
    if folds {
        return Err(("busy", "Its snapshots are being folded.".into()));
    }
    let needs = takes(&record);
    let rate = rate_of(state, host);
    let used = match &record.chain {
        Some(chain) => chain.bytes(),
        None => record.disks.iter().map(|d| d.written.min(d.size)).sum(),
    };
    let Some(volume) = state.volumes.get_mut(to) else {
        return Err(("volume", "There is no such volume.".into()));
    };
    if from == to {
        return Err(("volume", "Its disks are there already.".into()));
    }
    if volume.free() < needs {
        return Err((
            "room",
            format!("{} has no room for its disks.", volume.name),
        ));
    }
    volume.incoming.insert(uuid.to_owned(), needs);
    let copy = Copy {
        from,
        to: to.to_owned(),
        rate,
        left: used as f64,
        copied: 0.0,
        at: now,
        stage: Stage::Running,
    };
    state.copies.insert(key, copy.clone());
    Ok(copy)
}

/// Ends a copy that nobody wants any more: the other volume has its room back, nothing else has changed.
pub(crate) fn cancel(state: &mut State, host: &str, uuid: &str) {
    fail(state, host, uuid, "it was cancelled");
}

fn fail(state: &mut State, host: &str, uuid: &str, why: &str) {
    let State {
        copies, volumes, ..
    } = state;
    let Some(copy) = copies
        .get_mut(&(host.to_owned(), uuid.to_owned()))
        .filter(|c| c.runs())
    else {
        return;
    };
    copy.stage = Stage::Failed(why.to_owned());
    if let Some(volume) = volumes.get_mut(&copy.to) {
        volume.incoming.remove(uuid);
    }
}

/// A host without power copies nothing: what it had begun is lost.
pub(crate) fn lost(state: &mut State, host: &str) {
    let begun: Vec<String> = state
        .copies
        .keys()
        .filter(|(h, _)| h == host)
        .map(|(_, u)| u.clone())
        .collect();
    for uuid in begun {
        fail(state, host, &uuid, "the host lost its power");
        state.copies.remove(&(host.to_owned(), uuid));
    }
}

impl World {
    /// Lets copies of a host go on to this moment; those that are through go over.
    pub(crate) fn copy_on(&self, host: &str) {
        let now = self.now();
        let mut state = self.lock();
        let running: Vec<String> = state
            .copies
            .iter()
            .filter(|((h, _), c)| h == host && c.runs())
            .map(|((_, u), _)| u.clone())
            .collect();
        for uuid in running {
            let touched = go_on(&mut state, host, &uuid, now);
            for uid in touched {
                self.save_volume(&state, &uid);
            }
            self.save_host(&state, host);
        }
    }
}

/// Answers the volumes that changed.
fn go_on(state: &mut State, host: &str, uuid: &str, now: i64) -> Vec<String> {
    let key = (host.to_owned(), uuid.to_owned());
    let Some(copy) = state.copies.get(&key).cloned() else {
        return vec![];
    };
    if ![&copy.from, &copy.to]
        .iter()
        .all(|uid| state.reaches(host, uid))
    {
        fail(state, host, uuid, "a path to one of the volumes is gone");
        return vec![];
    }
    let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
    let Some(record) = state
        .volumes
        .get(&copy.from)
        .and_then(|v| v.records.get(uuid))
    else {
        fail(state, host, uuid, "the machine is gone");
        return vec![];
    };
    let writes = guest.map_or(0, |g| writes(record, g.console.writes()));
    let seconds = (now - copy.at).max(0) as f64 / 1000.0;
    let net = (copy.rate as f64 - writes as f64) * seconds;
    let State { copies, .. } = state;
    let Some(here) = copies.get_mut(&key) else {
        return vec![];
    };
    here.at = now;
    here.left -= net;
    here.copied += copy.rate as f64 * seconds;
    if here.left > 0.0 {
        return vec![];
    }
    here.left = 0.0;
    here.stage = Stage::Done;
    go_over(state, host, uuid, &copy, now);
    vec![copy.from, copy.to]
}

/// The record goes to the other volume. A guest that runs goes on under the next generation, so that nothing can be
/// written under the old one.
fn go_over(state: &mut State, host: &str, uuid: &str, copy: &Copy, now: i64) {
    let State { volumes, .. } = state;
    let record = volumes
        .get_mut(&copy.from)
        .and_then(|v| v.records.remove(uuid));
    let (Some(mut record), Some(to)) = (record, volumes.get_mut(&copy.to)) else {
        return;
    };
    record.lease.generation += 1;
    let generation = record.lease.generation;
    to.incoming.remove(uuid);
    to.records.insert(uuid.to_owned(), record);
    state.about_to(uuid);
    state.did_what(host, &format!("took the disks of {uuid} over"));
    let State { hosts, .. } = state;
    if let Some(guest) = hosts.get_mut(host).and_then(|h| h.guests.get_mut(uuid)) {
        guest.volume.clone_from(&copy.to);
        guest.generation = generation;
        // Its clock stands still for the switch.
        guest.started = (guest.started + SWITCH).min(now);
    }
}
