//! Measurements: what hosts and machines use. Replaced whole, never through the journal.

use crate::{
    ids::{HostId, MachineId},
    moment::Moment,
    units::{Bytes, Mhz, Rate},
};
use imbl::OrdMap;
use serde::{Deserialize, Serialize};

/// What one machine used in the latest sample.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct MachineLoad {
    pub cpu: Mhz,
    /// Memory touched lately.
    pub active: Bytes,
    /// None where the host doesn't measure it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub writes: Option<Writes>,
    /// Likewise.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub disk: Option<DiskUse>,
}

/// What a machine's disks hold, and how fast it writes to them.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct DiskUse {
    pub used: Bytes,
    pub writes: Rate,
}

/// How a machine writes to its memory: what a live migration follows from.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Writes {
    pub dirty: Rate,
    /// Pages ever touched since it was powered on, caches too.
    pub touched: Bytes,
    /// The part that it writes again and again.
    pub working_set: Bytes,
}

/// The latest sample of a host with everything on it: one packed row.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostLoad {
    pub at: Moment,
    pub cpu: Mhz,
    pub active: Bytes,
    pub machines: Vec<(MachineId, MachineLoad)>,
}

/// Latest and typical measurements of the whole estate.
#[derive(Debug, Clone, Default)]
pub struct Loads {
    pub hosts: OrdMap<HostId, HostLoad>,
    pub machines: OrdMap<MachineId, MachineLoad>,
    /// Whose sample told of each machine last: after a move the old host no longer speaks for it.
    told_by: OrdMap<MachineId, HostId>,
    /// The 95th percentile over at least 24 hours, where there is that much history.
    pub typical: OrdMap<MachineId, MachineLoad>,
}

impl Loads {
    pub fn take(&mut self, host: HostId, sample: HostLoad) {
        if let Some(before) = self.hosts.get(&host) {
            if before.at > sample.at {
                return;
            }
            for (machine, _) in before.machines.clone() {
                if self.told_by.get(&machine) == Some(&host) {
                    self.machines.remove(&machine);
                    self.told_by.remove(&machine);
                }
            }
        }
        for (machine, load) in &sample.machines {
            self.machines.insert(*machine, *load);
            self.told_by.insert(*machine, host);
        }
        self.hosts.insert(host, sample);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_a_move_the_old_host_takes_nothing_away() {
        let load = MachineLoad {
            cpu: Mhz(1),
            active: Bytes(1),
            writes: None,
            disk: None,
        };
        let sample = |at: i64, machines: &[u64]| HostLoad {
            at: Moment(at),
            cpu: Mhz(1),
            active: Bytes(1),
            machines: machines.iter().map(|m| (MachineId(*m), load)).collect(),
        };
        let (a, b) = (HostId(1), HostId(2));
        let mut loads = Loads::default();
        loads.take(a, sample(1, &[7, 8]));
        loads.take(b, sample(2, &[7]));
        loads.take(a, sample(3, &[8]));
        assert!(
            loads.machines.contains_key(&MachineId(7)),
            "b tells of it now"
        );
        loads.take(b, sample(4, &[]));
        assert!(!loads.machines.contains_key(&MachineId(7)), "it is off");
        assert!(loads.machines.contains_key(&MachineId(8)));
    }
}
