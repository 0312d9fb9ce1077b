//! What an array does for what lies on it: its classes of service (Swordfish, SNIA), one for each pool.

use super::{array::Array, swordfish::ROOT};
use crate::world::World;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

/// Durations in ISO 8601.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Class {
    pub name: String,
    #[serde(default)]
    pub latency_us: Option<u32>,
    /// Drives that may die at once.
    #[serde(default)]
    pub spare: Option<u8>,
    #[serde(default)]
    pub snapshots: Option<Every>,
    /// Where it keeps a copy, and how old that may become.
    #[serde(default)]
    pub remote: Option<(String, String)>,
    /// What is made there is copied at one moment.
    #[serde(default)]
    pub group: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Every {
    pub every: String,
    pub keep: String,
}

pub(super) fn at(pool: &str) -> Value {
    json!({"@odata.id": format!("{ROOT}/StorageServices/1/ClassesOfService/{pool}")})
}

/// A class as Swordfish tells it; its identity is its pool's.
pub(super) fn told(array: &Array, pool: &str, class: &Class) -> Value {
    let mut lines = Vec::new();
    if let Some(s) = class.snapshots.as_ref().filter(|_| !array.lapsed) {
        lines.push(json!({"Name": "snapshots", "ReplicaType": "Snapshot", "RecoveryPointObjectiveTime": s.every,
            "MinLifetime": s.keep, "IsIsolated": false}));
    }
    if let Some((at, every)) = &class.remote {
        lines.push(json!({"Name": "copy", "ReplicaType": "Mirror", "RecoveryPointObjectiveTime": every, "IsIsolated": true,
            "ReplicaAccessLocation": {"PostalAddress": {"Building": at}}}));
    }
    json!({"@odata.id": at(pool)["@odata.id"], "@odata.type": "#ClassOfService.v1_2_0.ClassOfService", "Id": pool,
        "Name": class.name, "DataProtectionLinesOfService": lines,
        "DataStorageLinesOfService": [{"Name": "drives", "RecoverableCapacitySourceCount": class.spare}],
        "IOPerformanceLinesOfService": [{"Name": "speed", "AverageIOOperationLatencyMicroseconds": class.latency_us}]})
}

/// Takes over how snapshots are taken; none: there is no such class.
pub(super) fn write(array: &mut Array, pool: &str, ask: &Value) -> Option<Result<(), String>> {
    let class = array.classes.get_mut(pool)?;
    let lines = ask
        .get("DataProtectionLinesOfService")
        .and_then(Value::as_array);
    let line = lines.and_then(|l| l.iter().find(|l| l["ReplicaType"] == "Snapshot"));
    let Some(line) = line else {
        return Some(Err("Only how snapshots are taken can be written.".into()));
    };
    let said = |key: &str| line.get(key).and_then(Value::as_str).map(str::to_owned);
    let every = said("RecoveryPointObjectiveTime").filter(|e| e.starts_with('P'));
    let Some(every) = every else {
        return Some(Err("RecoveryPointObjectiveTime is no duration.".into()));
    };
    let keep = said("MinLifetime").or_else(|| class.snapshots.as_ref().map(|s| s.keep.clone()));
    class.snapshots = Some(Every {
        every,
        keep: keep.unwrap_or_else(|| "P1D".into()),
    });
    array.lapsed = false;
    Some(Ok(()))
}

/// What a volume in this pool links to.
pub(super) fn links(array: &Array, pool: &str) -> Value {
    let class = array.classes.get(pool);
    let group = class.and_then(|c| c.group.as_ref());
    let group = group
        .map(|g| json!({"@odata.id": format!("{ROOT}/StorageServices/1/ConsistencyGroups/{g}")}));
    json!({"ClassOfService": class.map(|_| at(pool)), "ConsistencyGroups": group.into_iter().collect::<Vec<_>>()})
}

impl World {
    /// Somebody switches the snapshots of an array off, or on again.
    pub fn lapse(&self, array: &str, off: bool) {
        let mut state = self.lock();
        if let Some(found) = state.arrays.get_mut(array) {
            found.lapsed = off;
        }
        self.save_array(&state, array);
    }

    /// From now on an array does this for what lies in a pool of it.
    pub fn class(&self, array: &str, pool: &str, class: Class) {
        let mut state = self.lock();
        if let Some(found) = state.arrays.get_mut(array) {
            found.classes.insert(pool.to_owned(), class);
        }
        self.save_array(&state, array);
    }
}
