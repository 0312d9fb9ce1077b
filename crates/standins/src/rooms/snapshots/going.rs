//! What takes time: memory that is written, layers that are folded. In virtual time, at the rate of the host's uplinks, while the
//! guest goes on writing.

use super::blocks::GRAIN;
use crate::{
    rooms::{
        machines::{
            guest::{Guest, whole},
            memory,
        },
        moving::copying::{rate_of, writes},
        snapshots::chain::{Chain, DEEPEST, Kept, Snapshot},
        storage::volume::Volume,
    },
    world::{State, World},
};
use serde_json::{Value, json};
use std::collections::BTreeMap;

/// The agent thaws after this long; a guest that needs longer is left alone.
const FREEZE_AT_MOST: i64 = 10_000;
/// How long file systems stand still in a guest that is quick about it, and in one that is not.
const FREEZES: [i64; 2] = [400, 20_000];
/// What the guest stands still for at the end of a fold, or of the copy of its memory.
const SWITCH: i64 = 300;
/// How often a guest's writing is followed, in virtual milliseconds.
const FOLLOWED: i64 = 10_000;

#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Stage {
    Running,
    Done,
    Failed(String),
}

#[derive(Debug, Clone)]
pub(crate) enum Task {
    /// The snapshot with this name, once the memory is written.
    Take {
        id: String,
        snapshot: Snapshot,
    },
    Forget {
        ids: Vec<String>,
    },
}

/// Something that is under way at a host for a machine.
#[derive(Debug, Clone)]
pub(crate) struct Going {
    pub(crate) task: Task,
    volume: String,
    /// Bytes a second.
    rate: u64,
    /// Bytes that are copied out of what the guest writes to: what it writes meanwhile is copied again.
    moving: f64,
    still: f64,
    copied: f64,
    began: i64,
    at: i64,
    stood_still: i64,
    pub(crate) stage: Stage,
}

/// By host and machine.
pub(crate) type AllGoing = BTreeMap<(String, String), Going>;

impl Going {
    pub(crate) fn told(&self) -> Value {
        let (stage, why) = match &self.stage {
            Stage::Running => ("running", ""),
            Stage::Done => ("done", ""),
            Stage::Failed(why) => ("failed", why.as_str()),
        };
        json!({"stage": stage, "why": why, "copied": whole(self.copied), "left": whole(self.moving + self.still),
            "rate": self.rate, "took_ms": self.at - self.began, "stood_still_ms": self.stood_still})
    }
    pub(crate) fn runs(&self) -> bool {
        self.stage == Stage::Running
    }
    pub(crate) fn copied(&self) -> u64 {
        whole(self.copied)
    }
    fn is_for(&self, id: &str) -> bool {
        match &self.task {
            Task::Take { id: own, .. } => own == id,
            Task::Forget { ids } => ids.iter().any(|own| own == id),
        }
    }
}

/// A code of the protocol, and words.
pub(crate) type No = (&'static str, String);

/// How a snapshot shall be taken.
pub(crate) struct Wish {
    pub(crate) name: String,
    pub(crate) note: String,
    pub(crate) quiet: bool,
    pub(crate) memory: bool,
    /// Taken only while its file systems stand still for this.
    pub(crate) frozen: Option<String>,
}

/// The volume of a machine that this host reaches; nobody else runs it.
pub(super) fn home(state: &State, host: &str, uuid: &str) -> Result<String, No> {
    let home = state.home(host, uuid);
    let Some(volume) = home.and_then(|uid| state.volumes.get(&uid)) else {
        return Err(("machine", "There is no such machine.".into()));
    };
    let mounted = state
        .hosts
        .get(host)
        .is_some_and(|h| h.mounted.contains(&volume.uid));
    if !mounted || !state.reaches(host, &volume.uid) {
        return Err(("path", format!("This host does not reach {}.", volume.name)));
    }
    let holder = volume.records[uuid].lease.holder.as_deref();
    if holder.is_some_and(|h| h != host) {
        return Err(("off", "The machine runs on another host.".into()));
    }
    Ok(volume.uid.clone())
}

fn busy(state: &State, host: &str, uuid: &str) -> Result<(), No> {
    let key = (host.to_owned(), uuid.to_owned());
    let folds = state.going.get(&key).is_some_and(Going::runs);
    let copies = state.copies.get(&key).is_some_and(|c| c.runs());
    match folds || copies {
        true => Err((
            "busy",
            "Something else is done to its disks already.".into(),
        )),
        false => Ok(()),
    }
}

/// How long its file systems stand still, if its agent does that in time.
pub(super) fn freeze(
    state: &State,
    host: &str,
    uuid: &str,
    uid: &str,
    now: i64,
) -> Result<i64, No> {
    let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
    let Some(guest) = guest else { return Ok(0) };
    let temper = state.volumes[uid].records[uuid].temper;
    let silent = guest.hung.is_some() || guest.mute.is_some() || !temper.agent;
    if silent || guest.phase(now, temper) != "up" {
        return Err((
            "guest",
            "Its agent does not answer; nothing was frozen.".into(),
        ));
    }
    let takes = FREEZES[usize::from(temper.slow)];
    if takes > FREEZE_AT_MOST {
        let words = "Its file systems were not quiet within 10 s, and were let go on.";
        return Err(("guest", words.into()));
    }
    Ok(takes)
}

/// Takes a snapshot, or begins to where its memory is kept with it.
pub(crate) fn take(
    state: &mut State,
    host: &str,
    uuid: &str,
    id: &str,
    wish: Wish,
    now: i64,
) -> Result<Value, No> {
    let uid = home(state, host, uuid)?;
    let key = (host.to_owned(), uuid.to_owned());
    let record = &state.volumes[&uid].records[uuid];
    let depth = record.chain.as_ref().map_or(0, |c| c.path(c.current).len());
    if let Some(known) = record.chain.as_ref().and_then(|c| c.snapshots.get(id)) {
        return Ok(taken(known));
    }
    let taking = |g: &&Going| matches!(g.task, Task::Take { .. }) && g.is_for(id);
    if let Some(going) = state.going.get(&key).filter(taking) {
        return Ok(going.told());
    }
    busy(state, host, uuid)?;
    if depth >= DEEPEST {
        let words = format!("{depth} layers lie on each other already.");
        return Err(("depth", words));
    }
    let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
    if guest.is_some_and(|g| g.frozen.is_some()) {
        return Err(("busy", "It is being moved.".into()));
    }
    let (on, up) = (guest.is_some(), guest.map_or(0, |g| now - g.started));
    let console = guest.is_some_and(|g| g.console.writes());
    if let Some(by) = wish.frozen.as_deref().filter(|_| on)
        && !super::still::holds(state, host, (uuid, by), now)
    {
        let words = "Its file systems do not stand still any more.";
        return Ok(json!({"stage": "failed", "code": "guest", "why": words}));
    }
    let frozen = match wish.quiet && wish.frozen.is_none() {
        true => match freeze(state, host, uuid, &uid, now) {
            Ok(still) => still,
            Err((code, words)) => {
                return Ok(json!({"stage": "failed", "code": code, "why": words}));
            }
        },
        false => 0,
    };
    let bytes = match wish.memory && on {
        true => memory::writes(record, console).touched,
        false => 0,
    };
    if bytes > state.volumes[&uid].free() {
        let words = format!("{} has no room for its memory.", state.volumes[&uid].name);
        return Err(("room", words));
    }
    let snapshot = Snapshot {
        layer: 0,
        name: wish.name,
        note: wish.note,
        taken: crate::world::wall(),
        quiet: (wish.quiet || wish.frozen.is_some()) && on,
        off: !on,
        memory: (wish.memory && on).then_some(Kept { bytes, up }),
        still: frozen + if on { SWITCH } else { 0 },
    };
    let task = Task::Take {
        id: id.to_owned(),
        snapshot,
    };
    let going = Going {
        task,
        volume: uid.clone(),
        rate: rate_of(state, host),
        moving: 0.0,
        still: bytes as f64,
        copied: 0.0,
        began: now,
        at: now,
        stood_still: frozen + if on { SWITCH } else { 0 },
        stage: Stage::Running,
    };
    if bytes > 0 {
        hold(state, &uid, uuid, bytes);
        state.going.insert(key, going.clone());
        return Ok(going.told());
    }
    ended(state, host, uuid, &going, now);
    take_again(state, &uid, uuid, id)
}

/// What is said of one that is there.
fn take_again(state: &State, uid: &str, uuid: &str, id: &str) -> Result<Value, No> {
    let record = state.volumes.get(uid).and_then(|v| v.records.get(uuid));
    let chain = record.and_then(|r| r.chain.as_ref());
    let known = chain.and_then(|c| c.snapshots.get(id));
    let known = known.ok_or(("machine", "There is no such machine.".into()))?;
    Ok(taken(known))
}

fn taken(known: &Snapshot) -> Value {
    json!({"stage": "done", "why": "", "quiet": known.quiet, "off": known.off, "stood_still_ms": known.still,
        "memory": known.memory.map(|m| m.bytes), "taken_ms": known.taken})
}

/// There is nothing to fold.
fn nothing() -> Value {
    json!({"stage": "done", "why": "", "copied": 0, "left": 0, "rate": 0, "took_ms": 0, "stood_still_ms": 0})
}

fn hold(state: &mut State, uid: &str, uuid: &str, bytes: u64) {
    if let Some(volume) = state.volumes.get_mut(uid) {
        volume.incoming.insert(uuid.to_owned(), bytes);
    }
}

/// Begins to fold the layers of snapshots that are wanted no more.
pub(crate) fn forget(
    state: &mut State,
    host: &str,
    uuid: &str,
    ids: &[String],
    now: i64,
) -> Result<Value, No> {
    let key = (host.to_owned(), uuid.to_owned());
    // Memory that is still being written ends.
    let arriving = state.going.get(&key).filter(|g| g.runs());
    if arriving.is_some_and(|g| matches!(&g.task, Task::Take { id, .. } if ids.contains(id))) {
        fail(state, host, uuid, "it was given up");
        return Ok(nothing());
    }
    let uid = home(state, host, uuid)?;
    if let Some(going) = state
        .going
        .get(&key)
        .filter(|g| ids.iter().all(|id| g.is_for(id)) && !matches!(g.stage, Stage::Failed(_)))
    {
        return Ok(going.told());
    }
    busy(state, host, uuid)?;
    follow(state, host, uuid, now, 0);
    let Some(chain) = state.volumes[&uid].records[uuid].chain.as_ref() else {
        return Ok(nothing());
    };
    let work = chain.work(ids);
    let (peak, volume) = (work.peak * GRAIN, &state.volumes[&uid]);
    if peak > volume.free() {
        let (name, free) = (&volume.name, volume.free());
        let words =
            format!("{name} has {free} bytes free; {peak} more are needed until it is over.");
        return Err(("room", words));
    }
    let on = state
        .hosts
        .get(host)
        .is_some_and(|h| h.guests.contains_key(uuid));
    let going = Going {
        task: Task::Forget { ids: ids.to_vec() },
        volume: uid.clone(),
        rate: rate_of(state, host),
        moving: (work.moving * GRAIN) as f64,
        still: (work.still * GRAIN) as f64,
        copied: 0.0,
        began: now,
        at: now,
        stood_still: if on { SWITCH } else { 0 },
        stage: Stage::Running,
    };
    hold(state, &uid, uuid, peak);
    state.going.insert(key, going.clone());
    Ok(going.told())
}

fn fail(state: &mut State, host: &str, uuid: &str, why: &str) {
    let State { going, volumes, .. } = state;
    let key = (host.to_owned(), uuid.to_owned());
    let Some(going) = going.get_mut(&key).filter(|g| g.runs()) else {
        return;
    };
    going.stage = Stage::Failed(why.to_owned());
    if let Some(volume) = volumes.get_mut(&going.volume) {
        volume.incoming.remove(uuid);
    }
}

/// A host without power goes on with nothing: what it had begun is begun anew.
pub(crate) fn lost(state: &mut State, host: &str) {
    let begun: Vec<String> = state
        .going
        .keys()
        .filter(|(h, _)| h == host)
        .map(|(_, u)| u.clone())
        .collect();
    for uuid in begun {
        fail(state, host, &uuid, "the host lost its power");
        state.going.remove(&(host.to_owned(), uuid));
    }
}

/// What was written, or what is folded now, is so from now on.
fn ended(state: &mut State, host: &str, uuid: &str, going: &Going, now: i64) {
    follow(state, host, uuid, now, 0);
    let State { hosts, volumes, .. } = state;
    let guest = hosts.get_mut(host).and_then(|h| h.guests.get_mut(uuid));
    if let Some(guest) = guest {
        // Its clock stands still meanwhile.
        guest.started = (guest.started + going.stood_still).min(now);
    }
    let Some(volume) = volumes.get_mut(&going.volume) else {
        return;
    };
    volume.incoming.remove(uuid);
    let Some(record) = volume.records.get_mut(uuid) else {
        return;
    };
    let mut chain = record
        .chain
        .take()
        .unwrap_or_else(|| Box::new(Chain::of(&record.disks, super::seed(uuid), now)));
    let did = match &going.task {
        Task::Take { id, snapshot } => {
            chain.take(id, snapshot.clone());
            format!("took a snapshot of {uuid}")
        }
        Task::Forget { ids } => {
            chain.forget(ids);
            format!("folded {} of {uuid}", ids.len())
        }
    };
    match chain.alone() {
        Some(bytes) => {
            for (disk, held) in record.disks.iter_mut().zip(bytes) {
                disk.written = if disk.thick {
                    disk.written
                } else {
                    held.min(disk.size)
                };
            }
        }
        None => record.chain = Some(chain),
    }
    state.about_to(uuid);
    state.did_what(host, &did);
}

/// Goes back to a snapshot: once for each order.
pub(crate) fn go_back(
    state: &mut State,
    host: &str,
    uuid: &str,
    id: &str,
    order: &str,
    now: i64,
) -> Result<Value, No> {
    let uid = home(state, host, uuid)?;
    let none = || ("snapshot", "It has no such snapshot.".to_owned());
    let record = &state.volumes[&uid].records[uuid];
    let chain = record.chain.as_ref().ok_or_else(none)?;
    if chain.went_back == order {
        return Ok(json!({}));
    }
    let snapshot = chain.snapshots.get(id).ok_or_else(none)?;
    if chain.disks_of(snapshot.layer) < record.disks.len() {
        let words = "It has disks that came after the snapshot.";
        return Err(("disks", words.into()));
    }
    let kept = snapshot.memory;
    busy(state, host, uuid)?;
    let State { hosts, volumes, .. } = state;
    let guest = hosts.get_mut(host).and_then(|h| h.guests.get_mut(uuid));
    if guest.as_ref().is_some_and(|g| g.frozen.is_some()) {
        return Err(("busy", "It is being moved.".into()));
    }
    let record = volumes.get_mut(&uid).and_then(|v| v.records.get_mut(uuid));
    let Some((chain, generation)) =
        record.and_then(|r| Some((r.chain.as_mut()?, &mut r.generation_id)))
    else {
        return Err(none());
    };
    // Whatever its guest drew from before, it shall draw anew.
    *generation = uuid::Uuid::new_v4();
    chain.rests_until(now);
    chain.go_back(id);
    order.clone_into(&mut chain.went_back);
    if let Some(guest) = guest {
        guest.boot_again(now);
        guest.stopping = None;
        if let Some(kept) = kept {
            guest.started = now - kept.up;
        }
        chain.resumes = None;
    }
    state.about_to(uuid);
    state.did_what(host, &format!("went back with {uuid}"));
    Ok(json!({}))
}

/// Follows what the guest of a machine with snapshots has written by now. Answers whether anything was; more than the volume has
/// room for waits, and halts the guest.
pub(crate) fn follow(state: &mut State, host: &str, uuid: &str, now: i64, every: i64) -> bool {
    let State { hosts, volumes, .. } = state;
    let guest = hosts.get_mut(host).and_then(|h| h.guests.get_mut(uuid));
    let volume = match &guest {
        Some(guest) => volumes.get_mut(&guest.volume),
        None => volumes.values_mut().find(|v| v.records.contains_key(uuid)),
    };
    let Some(volume) = volume else { return false };
    // Who reads for another host knows nothing of what its guest does there.
    let holder = volume
        .records
        .get(uuid)
        .and_then(|r| r.lease.holder.as_deref());
    if guest.is_none() && holder.is_some_and(|h| h != host) {
        return false;
    }
    follow_one(volume, guest.map(|g| &*g), uuid, now, every)
}

pub(crate) fn follow_one(
    volume: &mut Volume,
    guest: Option<&Guest>,
    uuid: &str,
    now: i64,
    every: i64,
) -> bool {
    let free = volume.free();
    let Some(record) = volume.records.get_mut(uuid) else {
        return false;
    };
    let writing = guest.filter(|g| g.paused.is_none() && g.hung.is_none() && g.crashed.is_none());
    let rate = writing.map_or(0, |g| writes(record, g.console.writes()));
    let Some(chain) = record.chain.as_mut() else {
        return false;
    };
    if rate == 0 {
        chain.rests_until(now);
        return false;
    }
    let bytes = chain.due(rate, now, every);
    if bytes == 0 {
        return false;
    }
    chain.writes(bytes.min(free), now);
    true
}

/// As often as guests are followed anyway. Where the volume is full now, the guest waits to write on.
pub(crate) fn follow_now_and_then(
    volume: &mut Volume,
    guest: &mut Guest,
    uuid: &str,
    now: i64,
) -> bool {
    let wrote = follow_one(volume, Some(guest), uuid, now, FOLLOWED);
    if wrote && volume.free() < GRAIN {
        guest.unwritten = guest.unwritten.max(GRAIN);
    }
    wrote
}

impl World {
    /// Lets what is under way at a host go on to this moment.
    pub(crate) fn fold_on(&self, host: &str) {
        let now = self.now();
        let mut state = self.lock();
        let running: Vec<String> = state
            .going
            .iter()
            .filter(|((h, _), g)| h == host && g.runs())
            .map(|((_, u), _)| u.clone())
            .collect();
        for uuid in running {
            if let Some(uid) = go_on(&mut state, host, &uuid, now) {
                self.save_volume(&state, &uid);
                self.save_host(&state, host);
            }
        }
    }
}

/// Answers the volume that changed.
fn go_on(state: &mut State, host: &str, uuid: &str, now: i64) -> Option<String> {
    let key = (host.to_owned(), uuid.to_owned());
    let uid = state.going.get(&key)?.volume.clone();
    if !state.reaches(host, &uid) {
        fail(state, host, uuid, "the path to its volume is gone");
        return None;
    }
    let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
    let Some(record) = state.volumes.get(&uid).and_then(|v| v.records.get(uuid)) else {
        fail(state, host, uuid, "the machine is gone");
        return None;
    };
    let written = guest.map_or(0, |g| writes(record, g.console.writes()));
    let going = state.going.get_mut(&key)?;
    let had = (now - going.at).max(0) as f64 / 1000.0;
    let rate = going.rate as f64;
    // First what rests, then what the guest writes into: what it writes meanwhile is copied again.
    let first = (going.still / rate).min(had);
    going.still -= first * rate;
    let net = (rate - written as f64).max(1.0);
    let then = (going.moving / net).min(had - first);
    going.moving -= then * net;
    going.copied += (first + then) * rate;
    if going.still + going.moving > 0.5 {
        going.at = now;
        return None;
    }
    // It was over before anybody looked.
    let took = i64::try_from(whole((first + then) * 1000.0)).unwrap_or(0);
    going.at = (going.at + took).min(now);
    (going.still, going.moving) = (0.0, 0.0);
    going.stage = Stage::Done;
    let through = going.clone();
    ended(state, host, uuid, &through, now);
    Some(uid)
}
