//! Live migration between two hosts: the source sends a guest's memory over a socket to the destination, round by round,
//! at the link's rate in virtual time; the switch is a compare-and-set of the run lease on the volume.
//!
//! On the wire: a line of JSON (ticket, pages), then records of 16 bytes, a page and its version each; two page numbers
//! beyond all pages mean *end of a round* (answered, so that nothing is under way) and *switch* (answered with the time
//! for which the guest stood still).

use crate::{
    rooms::machines::guest::{Guest, hash},
    rooms::machines::memory::{PAGE, Pages, Writes, writes},
    world::World,
};
use serde_json::{Value, json};
use std::{
    collections::BTreeMap,
    io,
    sync::{
        Arc, Mutex, MutexGuard, PoisonError,
        atomic::{AtomicBool, Ordering},
    },
    time::{Duration, Instant},
};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt, BufReader},
    net::TcpStream,
    time::{sleep, timeout},
};

pub(crate) const END: u64 = u64::MAX;
pub(crate) const SWITCH: u64 = u64::MAX - 1;
/// What stands still in any case: devices, and telling the network. Virtual milliseconds.
const FIXED: i64 = 300;
/// How long the other side may be silent, in real time.
pub(crate) const SILENCE: Duration = Duration::from_secs(10);

/// What the source was asked to do.
#[derive(Debug, Clone, serde::Deserialize)]
pub(crate) struct Ask {
    /// Where the destination waits, and the word that it expects.
    pub(crate) to: String,
    pub(crate) ticket: String,
    pub(crate) host: String,
    pub(crate) network: String,
    /// Bytes a second.
    pub(crate) bandwidth: u64,
    pub(crate) target_ms: u64,
    pub(crate) max_rounds: usize,
    pub(crate) slow: bool,
    pub(crate) force: bool,
    /// The lease's generation after the switch.
    pub(crate) generation: u64,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Stage {
    Running,
    Done,
    Failed,
    Cancelled,
}

/// A migration as its source sees it.
#[derive(Debug, Clone)]
pub(crate) struct Move {
    pub(crate) fence: u64,
    pub(crate) key: String,
    pub(crate) stage: Stage,
    pub(crate) why: String,
    generation: u64,
    round: usize,
    /// Of this round.
    sent: u64,
    of: u64,
    slowed: u32,
    rounds: Vec<(u64, i64)>,
    total: u64,
    took: i64,
    stood_still: i64,
    cancel: Arc<AtomicBool>,
}

impl Move {
    pub(crate) fn told(&self) -> Value {
        let rounds: Vec<Value> = self
            .rounds
            .iter()
            .map(|(bytes, ms)| json!({"bytes": bytes, "ms": ms}))
            .collect();
        json!({"stage": self.stage, "why": self.why, "generation": self.generation, "round": self.round,
            "sent": self.sent, "of": self.of, "slowed": self.slowed, "rounds": rounds, "total": self.total,
            "took_ms": self.took, "stood_still_ms": self.stood_still})
    }
}

/// A machine that is awaited.
#[derive(Debug, Clone)]
struct Arrival {
    ticket: String,
    from: String,
    kept: u64,
    since: Instant,
    /// Its source has called.
    begun: bool,
}

/// How long a destination waits for a source to call.
const PATIENCE: Duration = Duration::from_secs(30);

impl Arrival {
    fn counts(&self) -> bool {
        self.begun || self.since.elapsed() < PATIENCE
    }
}

type At = (String, String);
/// Told before each round, with its number, and before the switch (0): a test breaks something there.
type Hook = Arc<dyn Fn(&World, usize) + Send + Sync>;

#[derive(Default)]
pub(crate) struct Moves {
    moves: Mutex<BTreeMap<At, Move>>,
    arrivals: Mutex<BTreeMap<At, Arrival>>,
    hook: Mutex<Option<Hook>>,
}

fn held<T>(of: &Mutex<T>) -> MutexGuard<'_, T> {
    of.lock().unwrap_or_else(PoisonError::into_inner)
}

impl Moves {
    pub(crate) fn of(&self, host: &str, uuid: &str) -> Option<Move> {
        held(&self.moves).get(&at(host, uuid)).cloned()
    }
    fn edit(&self, at: &At, edit: impl FnOnce(&mut Move)) {
        if let Some(found) = held(&self.moves).get_mut(at) {
            edit(found);
        }
    }
    pub(crate) fn cancel(&self, host: &str, uuid: &str) {
        if let Some(found) = held(&self.moves).get(&at(host, uuid)) {
            found.cancel.store(true, Ordering::Relaxed);
        }
    }
    /// Room that a host holds for what is on its way to it, without that of one machine.
    pub(crate) fn arriving(&self, host: &str, but: &str) -> u64 {
        let all = held(&self.arrivals);
        let here = all
            .iter()
            .filter(|((h, uuid), a)| h == host && uuid != but && a.counts());
        here.map(|(_, a)| a.kept).sum()
    }
    /// Awaits a machine; the same word for the same machine and source.
    pub(crate) fn await_machine(&self, host: &str, uuid: &str, from: &str, kept: u64) -> String {
        let mut all = held(&self.arrivals);
        let fresh = || Arrival {
            ticket: uuid::Uuid::new_v4().simple().to_string(),
            from: from.to_owned(),
            kept,
            since: Instant::now(),
            begun: false,
        };
        let slot = all.entry(at(host, uuid)).or_insert_with(fresh);
        if slot.from != from || !slot.counts() {
            *slot = fresh();
        }
        slot.ticket.clone()
    }
    pub(crate) fn forget(&self, host: &str, uuid: &str) {
        held(&self.arrivals).remove(&at(host, uuid));
    }
}

fn at(host: &str, uuid: &str) -> At {
    (host.to_owned(), uuid.to_owned())
}

impl World {
    /// Calls `hook` before each round of every migration, with the round's number, and with 0 before the switch.
    pub fn on_round(&self, hook: impl Fn(&World, usize) + Send + Sync + 'static) {
        *held(&self.moves.hook) = Some(Arc::new(hook));
    }
    fn round_begins(&self, round: usize) {
        let hook = held(&self.moves.hook).clone();
        if let Some(hook) = hook {
            hook(self, round);
        }
    }
    /// Where a machine runs, with whether it stands still: (host, generation, still).
    pub fn running(&self, machine: &str) -> Vec<(String, u64, bool)> {
        let state = self.lock();
        let mut found = Vec::new();
        for host in state.hosts.values() {
            for (uuid, guest) in &host.guests {
                let volume = state.volumes.get(&guest.volume);
                let named = volume.and_then(|v| v.records.get(uuid));
                if named.is_some_and(|r| r.name == machine) {
                    found.push((host.name.clone(), guest.generation, guest.frozen.is_some()));
                }
            }
        }
        found
    }
    /// How busy a machine is from now on, in hundredths: it writes to its memory accordingly.
    pub fn busy(&self, machine: &str, hundredths: u32) {
        let mut state = self.lock();
        let records = state
            .volumes
            .values_mut()
            .flat_map(|v| v.records.values_mut());
        for record in records.filter(|r| r.name == machine) {
            record.temper.busy = hundredths;
        }
    }
}

/// Begins to send; or answers what is on its way already for the same order.
pub(crate) fn begin(
    world: &Arc<World>,
    host: &str,
    uuid: &str,
    key: &str,
    fence: u64,
    ask: Ask,
) -> Move {
    let here = at(host, uuid);
    let mut moves = held(&world.moves.moves);
    if let Some(known) = moves.get(&here)
        && (known.stage == Stage::Running || known.fence == fence)
    {
        return known.clone();
    }
    let fresh = Move {
        fence,
        key: key.to_owned(),
        stage: Stage::Running,
        why: String::new(),
        generation: ask.generation,
        round: 1,
        sent: 0,
        of: 0,
        slowed: 0,
        rounds: vec![],
        total: 0,
        took: 0,
        stood_still: 0,
        cancel: Arc::default(),
    };
    moves.insert(here.clone(), fresh.clone());
    drop(moves);
    tokio::spawn(carry(world.clone(), here, ask, fresh.cancel.clone()));
    fresh
}

/// Why a migration ended without having happened.
enum Stop {
    /// The source itself is gone: nobody is left to say anything.
    Gone,
    Cancelled,
    Failed(String),
}

impl From<io::Error> for Stop {
    fn from(_: io::Error) -> Self {
        Stop::Failed("the destination was lost; the machine stays here".into())
    }
}

async fn carry(world: Arc<World>, here: At, ask: Ask, cancel: Arc<AtomicBool>) {
    let began = world.now();
    let outcome = send(&world, &here, &ask, &cancel).await;
    let took = world.now() - began;
    let holder = world.thaw_or_leave(&here.0, &here.1);
    let moved = holder == (Some(ask.host.clone()), ask.generation);
    // Neither here nor there: it was stopped, or this host lost its power in the middle.
    let lost = !moved && holder.0.as_deref() != Some(here.0.as_str());
    if lost || matches!(outcome, Err(Stop::Gone)) {
        held(&world.moves.moves).remove(&here);
        return;
    }
    world.moves.edit(&here, |m| {
        m.took = took;
        match outcome {
            // The answer may have been lost; the lease says what happened.
            _ if moved => m.stage = Stage::Done,
            Ok(()) | Err(Stop::Gone) => {}
            Err(Stop::Cancelled) => {
                m.stage = Stage::Cancelled;
                "cancelled; the machine stays here".clone_into(&mut m.why);
            }
            Err(Stop::Failed(why)) => {
                m.stage = Stage::Failed;
                m.why = why;
            }
        }
    });
    if moved {
        let key = world.moves.of(&here.0, &here.1).map(|m| m.key);
        world.count_effect(&here, &key.unwrap_or_default());
    }
}

/// The sending side of one migration.
struct Sender<'a> {
    world: &'a World,
    here: &'a At,
    ask: &'a Ask,
    cancel: &'a AtomicBool,
    stream: BufReader<TcpStream>,
    pages: Pages,
    writes: Writes,
    /// What the line really carries, in bytes a virtual second.
    line: f64,
    slowed: u32,
    frozen: bool,
    last: i64,
}

async fn send(world: &World, here: &At, ask: &Ask, cancel: &AtomicBool) -> Result<(), Stop> {
    let record = world.record_of(&here.1).ok_or(Stop::Gone)?;
    let writes = writes(&record, false);
    let pages = Pages::new(&here.1, writes);
    let connect = timeout(SILENCE, TcpStream::connect(&ask.to)).await;
    let mut stream = connect.map_err(|_| io::Error::other("silent"))??;
    stream.set_nodelay(true)?;
    let hello = json!({"ticket": ask.ticket, "machine": here.1, "pages": pages.len(), "generation": ask.generation});
    stream.write_all(format!("{hello}\n").as_bytes()).await?;
    // No line carries quite what it is said to.
    let loss = (hash(&here.1) ^ world.now().unsigned_abs()) % 50;
    let mut sender = Sender {
        world,
        here,
        ask,
        cancel,
        stream: BufReader::new(stream),
        line: ask.bandwidth as f64 * (1000 - loss) as f64 / 1000.0,
        pages,
        writes,
        slowed: 0,
        frozen: false,
        last: world.now(),
    };
    sender.rounds().await
}

impl Sender<'_> {
    async fn rounds(&mut self) -> Result<(), Stop> {
        let target = self.ask.target_ms as f64 / 1000.0;
        for round in 1.. {
            self.world.round_begins(round);
            let bytes = self.round(round).await?;
            let left = self.pages.dirty_bytes();
            if left as f64 / self.line <= target {
                break;
            }
            // Hardly less than before is no way to get there.
            let stuck = left / 9 >= bytes / 10;
            let hopeless = match self.ask.slow {
                true => self.slowed >= 70 && left >= bytes,
                false => stuck,
            };
            if round >= self.ask.max_rounds || hopeless {
                if self.ask.force {
                    break;
                }
                let words = if hopeless {
                    "it writes faster than the line carries"
                } else {
                    "it did not get there in so many rounds"
                };
                return Err(Stop::Failed(format!("{words}; it stays here")));
            }
            if stuck {
                self.slowed = (self.slowed + 10).min(70);
                let slowed = self.slowed;
                self.world.moves.edit(self.here, |m| m.slowed = slowed);
            }
        }
        self.switch().await
    }

    /// Sends what is dirty now; answers how much that was.
    async fn round(&mut self, round: usize) -> Result<u64, Stop> {
        let began = self.world.now();
        let pages = self.pages.take();
        let bytes = u64::try_from(pages.len()).unwrap_or(0) * PAGE;
        self.world
            .moves
            .edit(self.here, |m| (m.round, m.sent, m.of) = (round, 0, bytes));
        self.pace(&pages).await?;
        self.record(END, 0).await?;
        self.answered().await?;
        let now = self.world.now();
        self.write_until(now);
        let ms = now - began;
        self.world.moves.edit(self.here, |m| {
            m.total += bytes;
            if !self.frozen {
                m.rounds.push((bytes, ms));
            }
        });
        Ok(bytes)
    }

    /// At the line's rate, while the guest goes on writing.
    async fn pace(&mut self, pages: &[usize]) -> Result<(), Stop> {
        let mut sent = 0;
        let mut budget = 0.0;
        let mut clock = self.world.now();
        while sent < pages.len() {
            let now = self.world.now();
            budget += self.line * (now - clock) as f64 / 1000.0;
            clock = now;
            self.write_until(now);
            let mut frames = Vec::new();
            while budget >= PAGE as f64 && sent < pages.len() {
                budget -= PAGE as f64;
                let page = pages[sent];
                frames.extend(u64::try_from(page).unwrap_or(0).to_le_bytes());
                frames.extend(u64::from(self.pages.version(page)).to_le_bytes());
                sent += 1;
            }
            let done = u64::try_from(sent).unwrap_or(0) * PAGE;
            self.world.moves.edit(self.here, |m| m.sent = done);
            self.stream.get_mut().write_all(&frames).await?;
            self.look_around()?;
            sleep(Duration::from_millis(1)).await;
        }
        Ok(())
    }

    /// What the guest wrote since it was last looked at, also while an answer was awaited.
    fn write_until(&mut self, now: i64) {
        if !self.frozen {
            let passed = (now - self.last) as f64 / 1000.0;
            self.pages.write(self.dirty_now(now) * passed);
        }
        self.last = now;
    }

    /// Bytes a second that the guest writes now: its rate with gusts, less what it is slowed by.
    fn dirty_now(&self, now: i64) -> f64 {
        let gust =
            90 + (hash(&self.here.1) ^ (now.unsigned_abs() / 500)).wrapping_mul(0x9e37_79b9) % 21;
        let command = if self.world.is_writing(&self.here.0, &self.here.1) {
            self.writes.hot / 20
        } else {
            0
        };
        (self.writes.dirty + command) as f64 * gust as f64 / 100.0 * f64::from(100 - self.slowed)
            / 100.0
    }

    fn look_around(&self) -> Result<(), Stop> {
        if !self.world.is_on(&self.here.0) || !self.world.runs(&self.here.0, &self.here.1) {
            return Err(Stop::Gone);
        }
        if self.cancel.load(Ordering::Relaxed) && !self.frozen {
            return Err(Stop::Cancelled);
        }
        let network = &self.ask.network;
        let through = self
            .world
            .lock()
            .mtu_between(&self.here.0, &self.ask.host, network);
        if through.is_none() {
            let why = format!("{network} no longer connects the two hosts; the machine stays here");
            return Err(Stop::Failed(why));
        }
        Ok(())
    }

    async fn record(&mut self, page: u64, value: u64) -> Result<(), Stop> {
        let mut frame = page.to_le_bytes().to_vec();
        frame.extend(value.to_le_bytes());
        Ok(self.stream.get_mut().write_all(&frame).await?)
    }

    async fn answered(&mut self) -> Result<(), Stop> {
        let mut byte = [0];
        let read = timeout(SILENCE, self.stream.read_exact(&mut byte)).await;
        read.map_err(|_| io::Error::other("silent"))??;
        match byte[0] {
            1 => Ok(()),
            _ => Err(Stop::Failed(
                "the destination refused it; the machine stays here".into(),
            )),
        }
    }

    /// The guest stands still, the rest is sent, and the lease changes hands.
    async fn switch(&mut self) -> Result<(), Stop> {
        let began = self.world.now();
        self.world.freeze(&self.here.0, &self.here.1, began);
        self.frozen = true;
        self.world.round_begins(0);
        self.look_around()?;
        let round = self
            .world
            .moves
            .of(&self.here.0, &self.here.1)
            .map_or(0, |m| m.round);
        self.round(round).await?;
        while self.world.now() - began < FIXED {
            sleep(Duration::from_millis(1)).await;
            self.look_around()?;
        }
        let digest = self.pages.digest();
        self.record(SWITCH, digest).await?;
        // Until the answer is here it may have been going on there for a while.
        let still = self.world.now() - began;
        self.world.moves.edit(self.here, |m| m.stood_still = still);
        self.answered().await?;
        let mut ms = [0; 8];
        let read = timeout(SILENCE, self.stream.read_exact(&mut ms)).await;
        read.map_err(|_| io::Error::other("silent"))??;
        let still = i64::from_le_bytes(ms);
        self.world.moves.edit(self.here, |m| m.stood_still = still);
        Ok(())
    }
}

impl World {
    pub(crate) fn awaits(&self, host: &str, uuid: &str, hello: &Value) -> bool {
        let lives = self.is_on(host);
        let mut all = held(&self.moves.arrivals);
        let Some(expected) = all.get_mut(&at(host, uuid)) else {
            return false;
        };
        expected.begun = hello["ticket"] == expected.ticket;
        lives && expected.begun
    }
    fn record_of(&self, uuid: &str) -> Option<crate::rooms::storage::volume::Record> {
        let state = self.lock();
        state
            .volumes
            .values()
            .find_map(|v| v.records.get(uuid))
            .cloned()
    }
    fn runs(&self, host: &str, uuid: &str) -> bool {
        let state = self.lock();
        state
            .hosts
            .get(host)
            .is_some_and(|h| h.guests.contains_key(uuid))
    }
    fn is_writing(&self, host: &str, uuid: &str) -> bool {
        let state = self.lock();
        let guest = state.hosts.get(host).and_then(|h| h.guests.get(uuid));
        guest.is_some_and(|g| g.console.writes())
    }
    fn freeze(&self, host: &str, uuid: &str, now: i64) {
        let mut state = self.lock();
        if let Some(guest) = state
            .hosts
            .get_mut(host)
            .and_then(|h| h.guests.get_mut(uuid))
        {
            guest.frozen = Some(now);
        }
    }
    /// After a migration: the guest goes on here if this host has its lease still, and is no longer here if not. Answers
    /// who has the lease, and at which generation.
    fn thaw_or_leave(&self, host: &str, uuid: &str) -> (Option<String>, u64) {
        let now = self.now();
        let mut state = self.lock();
        let record = state.volumes.values().find_map(|v| v.records.get(uuid));
        let lease = record.map_or((None, 0), |r| (r.lease.holder.clone(), r.lease.generation));
        if let Some(guests) = state.hosts.get_mut(host).map(|h| &mut h.guests) {
            if lease.0.as_deref() != Some(host) {
                guests.remove(uuid);
            } else if let Some(guest) = guests.get_mut(uuid) {
                guest.thaw(now);
            }
        }
        self.save_host(&state, host);
        lease
    }
    /// The compare-and-set: the lease goes from its holder to `host` if its generation is the one before, and the guest
    /// goes on there. Answers for how long it stood still, in its milliseconds.
    pub(crate) fn take_over(&self, host: &str, uuid: &str, generation: u64) -> Option<i64> {
        let from = held(&self.moves.arrivals)
            .get(&at(host, uuid))
            .map(|a| a.from.clone());
        let (from, now) = (from?, self.now());
        let mut state = self.lock();
        let reaches = {
            let guest = state.hosts.get(&from).and_then(|h| h.guests.get(uuid));
            guest
                .map(|g| g.volume.clone())
                .filter(|v| state.reaches(host, v))
        };
        let uid = reaches?;
        // One that goes on at its source is nobody's to take: the source has given the move up.
        let still = state
            .hosts
            .get(&from)
            .and_then(|h| h.guests.get(uuid))
            .filter(|g| g.frozen.is_some())
            .cloned();
        still.as_ref()?;
        let volume = state.volumes.get_mut(&uid)?;
        if !volume.pass_lease(uuid, &from, host, generation) {
            return None;
        }
        let since = still.as_ref().and_then(|g| g.frozen);
        if let (Some(mut guest), Some(there)) = (still, state.hosts.get_mut(host)) {
            guest.thaw(now);
            guest.generation = generation;
            there.fell.remove(uuid);
            there.guests.insert(uuid.to_owned(), guest);
        }
        self.save_volume(&state, &uid);
        self.save_host(&state, host);
        Some(since.map_or(0, |since| now - since))
    }
    pub(crate) fn violate(&self, uuid: &str, words: &str) {
        let mut state = self.lock();
        for volume in state
            .volumes
            .values_mut()
            .filter(|v| v.records.contains_key(uuid))
        {
            volume.violations.push(format!("{uuid}: {words}"));
        }
    }
    fn count_effect(&self, (host, uuid): &At, key: &str) {
        let mut state = self.lock();
        state.about_to(uuid);
        state.did_what(host, &format!("moved {uuid}"));
        if let Some(host) = state.hosts.get_mut(host) {
            *host.effects.entry(key.to_owned()).or_insert(0) += 1;
        }
    }
}

impl Guest {
    /// It goes on: the time for which it stood still has not passed for it.
    pub(crate) fn thaw(&mut self, now: i64) {
        if let Some(since) = self.frozen.take() {
            self.started += now - since;
        }
    }
}
