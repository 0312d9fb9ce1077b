//! Snapshots: disks as chains of layers with real bitmaps, taken, folded together, and gone back to.

pub(crate) mod blocks;
pub(crate) mod calls;
pub(crate) mod chain;
pub(crate) mod going;
pub(crate) mod still;
pub(crate) mod told;

use crate::{rooms::storage::volume::Record, scenario::ScenarioSnapshot, world::World};
use chain::{Chain, Snapshot};

/// A machine of which snapshots were taken long ago; what its guest wrote since lies in their layers.
pub(crate) fn with(mut record: Record, taken: &[ScenarioSnapshot], seed: u64, now: i64) -> Record {
    if taken.is_empty() {
        return record;
    }
    let mut chain = Chain::of(&record.disks, seed, now);
    let rate = crate::rooms::moving::copying::writes(&record, false);
    let mut days = taken.iter().map(|t| t.days).max().unwrap_or(0);
    // So much of what it writes is new to the layer; the rest it writes again and again.
    let since = |chain: &mut Chain, from: u32, to: u32| {
        let seconds = u64::from(from.saturating_sub(to)) * 86_400;
        chain.writes(rate * seconds / 100, now);
    };
    for snapshot in taken {
        since(&mut chain, days, snapshot.days);
        days = snapshot.days;
        if snapshot.back {
            chain.go_back(&id(seed, &snapshot.name));
            continue;
        }
        let kept = Snapshot {
            layer: 0,
            name: snapshot.name.clone(),
            note: snapshot.note.clone(),
            taken: now - i64::from(snapshot.days) * 86_400_000,
            quiet: false,
            off: false,
            memory: None,
            still: 0,
        };
        chain.take(&id(seed, &snapshot.name), kept);
    }
    since(&mut chain, days, 0);
    record.chain = Some(Box::new(chain));
    record
}

fn id(seed: u64, name: &str) -> String {
    let drawn = (u128::from(seed) << 64) | u128::from(self::seed(name));
    uuid::Builder::from_random_bytes(drawn.to_be_bytes())
        .into_uuid()
        .to_string()
}

/// Where a guest begins to write, from who it is.
pub(crate) fn seed(uuid: &str) -> u64 {
    crate::rooms::machines::guest::hash(uuid)
}

impl World {
    /// For whom the file systems of this guest stand still now; none: for nobody.
    pub fn stands_still(&self, machine: &str) -> Option<String> {
        let now = self.now();
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| &v.records);
        let (uuid, _) = records.find(|(_, r)| r.name == machine)?;
        let guest = state.hosts.values().find_map(|h| h.guests.get(uuid))?;
        let still = guest.still.as_ref().filter(|s| now < s.until)?;
        Some(still.id.clone())
    }

    /// The file systems of this guest take 20 s to stand still, or no longer.
    pub fn slow_guest(&self, machine: &str, slow: bool) {
        let mut state = self.lock();
        let records = state
            .volumes
            .values_mut()
            .flat_map(|v| v.records.values_mut());
        for record in records.filter(|r| r.name == machine) {
            record.temper.slow = slow;
        }
    }

    /// This guest takes neither memory nor vCPUs while it runs, or it does.
    pub fn stiff_guest(&self, machine: &str, stiff: bool) {
        let mut state = self.lock();
        let records = state
            .volumes
            .values_mut()
            .flat_map(|v| v.records.values_mut());
        for record in records.filter(|r| r.name == machine) {
            record.temper.stiff = stiff;
        }
    }

    /// What the disks of this machine hold, or held when a snapshot was taken: equal words, equal bytes.
    pub fn content(&self, machine: &str, snapshot: Option<&str>) -> Option<String> {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| &v.records);
        let (uuid, record) = records.find(|(_, r)| r.name == machine)?;
        let alone = || Box::new(Chain::of(&record.disks, seed(uuid), 0));
        let chain = record.chain.clone().unwrap_or_else(alone);
        let layer = match snapshot {
            Some(name) => chain.snapshots.values().find(|s| s.name == name)?.layer,
            None => chain.current,
        };
        let said = chain.seen_from(layer).into_iter();
        Some(
            said.map(|disk| blocks::words(&disk))
                .collect::<Vec<_>>()
                .join("|"),
        )
    }

    /// By what the guest of a machine knows whether it is what it was.
    pub fn generation_id(&self, machine: &str) -> Option<uuid::Uuid> {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        records.find(|r| r.name == machine).map(|r| r.generation_id)
    }

    /// Bytes that the last folding of this machine's layers copied.
    pub fn folded(&self, machine: &str) -> Option<u64> {
        let state = self.lock();
        let named = |uuid: &String| {
            let mut all = state.volumes.values();
            all.any(|v| v.records.get(uuid).is_some_and(|r| r.name == machine))
        };
        let mut all = state.going.iter();
        all.find(|((_, uuid), _)| named(uuid))
            .map(|(_, going)| going.copied())
    }

    /// Sizes of a machine's disks, bytes.
    pub fn disks(&self, machine: &str) -> Vec<u64> {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        let found = records.find(|r| r.name == machine);
        found.map_or_else(Vec::new, |r| r.disks.iter().map(|d| d.size).collect())
    }

    /// vCPUs and bytes of memory that a machine that is on runs with.
    pub fn runs_with(&self, machine: &str) -> Option<(u32, u64)> {
        let state = self.lock();
        state.hosts.values().find_map(|host| {
            host.guests.iter().find_map(|(uuid, guest)| {
                let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
                let size = guest.now.unwrap_or_else(|| record.size());
                (record.name == machine).then_some((size.vcpus, size.memory.size))
            })
        })
    }

    /// What the guest of a machine that is on does.
    pub fn phase(&self, machine: &str) -> Option<String> {
        let (now, state) = (self.now(), self.lock());
        state.hosts.values().find_map(|host| {
            host.guests.iter().find_map(|(uuid, guest)| {
                let record = state.volumes.get(&guest.volume)?.records.get(uuid)?;
                (record.name == machine).then(|| guest.phase(now, record.temper).to_owned())
            })
        })
    }
}
