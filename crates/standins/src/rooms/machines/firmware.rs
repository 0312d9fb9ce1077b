//! What a simulated machine boots with: firmware, and a chip that keeps the keys of its disks.

use crate::{
    rooms::storage::volume::{Disk, Record},
    world::{State, World},
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use uuid::Uuid;

/// The phase in which a guest stands that can't read its disk.
pub(crate) const LOCKED: &str = "waits for a recovery key";
/// Virtual milliseconds of firmware before it asks.
pub(crate) const ASKS_AFTER: i64 = 2_000;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Firmware {
    /// `uefi` or `bios`.
    pub(crate) kind: String,
    pub(crate) secure_boot: bool,
    pub(crate) chip: Option<Chip>,
}

impl Default for Firmware {
    fn default() -> Self {
        Wanted::default().made()
    }
}

/// The numbers of the keys that it keeps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Chip {
    pub(crate) id: Uuid,
    pub(crate) keys: Vec<u64>,
}

/// What is asked for a new machine.
#[derive(Debug, Clone, Default, Deserialize)]
pub(crate) struct Wanted {
    #[serde(default)]
    kind: Option<String>,
    #[serde(default)]
    secure_boot: bool,
    #[serde(default)]
    chip: bool,
}

impl Wanted {
    /// Every machine has a chip of its own.
    pub(crate) fn made(self) -> Firmware {
        Firmware {
            kind: self.kind.unwrap_or_else(|| "uefi".into()),
            secure_boot: self.secure_boot,
            chip: self.chip.then(|| Chip {
                id: Uuid::new_v4(),
                keys: vec![],
            }),
        }
    }
}

impl Record {
    pub(crate) fn firmware_told(&self) -> Value {
        let f = &self.firmware;
        let holds = |c: &Chip| {
            let key = |(n, d): (usize, &Disk)| {
                (d.lock != 0 && c.keys.contains(&d.lock))
                    .then(|| format!("the key of disk {}", n + 1))
            };
            self.disks
                .iter()
                .enumerate()
                .filter_map(key)
                .collect::<Vec<_>>()
        };
        let chip = f
            .chip
            .as_ref()
            .map(|c| json!({"id": c.id, "holds": holds(c)}));
        json!({"kind": f.kind, "secure_boot": f.secure_boot, "chip": chip})
    }
    /// Its first disk is encrypted, and its chip has not the key.
    pub(crate) fn is_locked(&self) -> bool {
        let lock = self.disks.first().map_or(0, |d| d.lock);
        let knows = self
            .firmware
            .chip
            .as_ref()
            .is_some_and(|c| c.keys.contains(&lock));
        lock != 0 && !knows
    }
    /// Somebody typed the recovery key: the chip keeps it from now on.
    pub(crate) fn unlock(&mut self) {
        let lock = self.disks.first().map_or(0, |d| d.lock);
        if let Some(chip) = &mut self.firmware.chip {
            chip.keys.push(lock);
        }
    }
    /// Its guest encrypts its first disk, and keeps the key in its chip; false where it has none.
    pub(crate) fn encrypt(&mut self, key: u64) -> bool {
        let (Some(disk), Some(chip)) = (self.disks.first_mut(), &mut self.firmware.chip) else {
            return false;
        };
        if disk.lock == 0 {
            disk.lock = key.max(1);
            chip.keys.push(disk.lock);
        }
        true
    }
    pub(crate) fn firmware_words(&self) -> String {
        let f = &self.firmware;
        let secure = if f.secure_boot { ", secure boot" } else { "" };
        let chip = match &f.chip {
            None => "no security chip".to_owned(),
            Some(c) => format!("security chip {}, {} keys", c.id, c.keys.len()),
        };
        let disk = match self.disks.first().map_or(0, |d| d.lock) {
            0 => "disk 1 is not encrypted",
            _ => "disk 1 is encrypted",
        };
        format!("{}{secure}; {chip}; {disk}\r\n", f.kind)
    }
}

impl World {
    /// The guest of this machine encrypts its first disk.
    pub fn encrypt(&self, machine: &str) -> bool {
        self.on_record(machine, |r| r.encrypt(7_919))
    }
    /// Somebody types the recovery key.
    pub fn unlock(&self, machine: &str) {
        self.on_record(machine, |r| {
            r.unlock();
            true
        });
    }
    /// The identity of its chip, and how many keys that keeps.
    pub fn chip(&self, machine: &str) -> Option<(Uuid, usize)> {
        let state = self.lock();
        let mut records = state.volumes.values().flat_map(|v| v.records.values());
        let chip = records.find(|r| r.name == machine)?.firmware.chip.clone()?;
        Some((chip.id, chip.keys.len()))
    }

    fn on_record(&self, machine: &str, change: impl FnOnce(&mut Record) -> bool) -> bool {
        let mut state = self.lock();
        let found = found(&state, machine);
        let Some((uid, uuid)) = found else {
            return false;
        };
        let record = state
            .volumes
            .get_mut(&uid)
            .and_then(|v| v.records.get_mut(&uuid));
        let done = record.is_some_and(change);
        self.save_volume(&state, &uid);
        done
    }
}

fn found(state: &State, machine: &str) -> Option<(String, String)> {
    state.volumes.values().find_map(|v| {
        let (uuid, _) = v.records.iter().find(|(_, r)| r.name == machine)?;
        Some((v.uid.clone(), uuid.clone()))
    })
}
