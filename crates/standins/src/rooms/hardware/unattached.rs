//! Disks that no machine has: with what is on them, who had them, and since when.

use crate::rooms::{
    snapshots::blocks::{GRAIN, Written},
    storage::volume::Disk,
};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::BTreeMap;
use uuid::Uuid;

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Spare {
    pub(crate) disk: Disk,
    pub(crate) content: Written,
    /// The machine that had it last.
    pub(crate) had: String,
    /// Milliseconds since 1970.
    pub(crate) since: i64,
    pub(crate) deleted: Option<i64>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Unattached {
    /// Grows with every change.
    pub(crate) seq: u64,
    pub(crate) disks: BTreeMap<Uuid, Spare>,
}

impl Spare {
    pub(crate) fn takes(&self) -> u64 {
        match self.disk.thick {
            true => self.disk.size,
            false => self.content.len() * GRAIN,
        }
    }
}

impl Unattached {
    /// Nothing, as long as there never was one.
    pub(crate) fn told(&self) -> Option<Value> {
        let disk = |(key, d): (&Uuid, &Spare)| {
            let said = json!({"size": d.disk.size, "thick": d.disk.thick, "takes": d.takes(), "had": d.had,
                "since_ms": d.since, "deleted_ms": d.deleted});
            (key.to_string(), said)
        };
        let disks: serde_json::Map<String, Value> = self.disks.iter().map(disk).collect();
        (self.seq > 0).then(|| json!({"seq": self.seq, "disks": disks}))
    }

    pub(crate) fn put(&mut self, spare: Spare) {
        self.seq += 1;
        self.disks.insert(spare.disk.key, spare);
    }

    pub(crate) fn take(&mut self, key: Uuid) -> Option<Spare> {
        self.seq += 1;
        self.disks.remove(&key)
    }
}
