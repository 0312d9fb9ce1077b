//! A simple shared volume: machine records, and the run lease of each machine with its generation. A write under a
//! lower generation, or by a host that isn't the lease's holder, is refused and recorded.

use crate::rooms::{
    machines::{first_boot::Applied, guest::Guest, seed::Seed},
    networks::network::Nic,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Volume {
    pub(crate) uid: String,
    pub(crate) name: String,
    pub(crate) capacity: u64,
    /// What is beneath it, where no array is.
    #[serde(default)]
    pub(crate) pool: Option<super::pool::Pool>,
    /// It is thin on something that is full: nothing more is taken, whatever it has free.
    #[serde(default)]
    pub(crate) stuffed: bool,
    /// What it was formatted with; none when blank.
    #[serde(default)]
    pub(crate) signature: Option<String>,
    /// Identifier and name of the installation that owns it, and the cluster it was given to.
    #[serde(default)]
    pub(crate) owner: Option<(String, String, String)>,
    /// How often each host renewed its own lease here; who can't write can't renew.
    #[serde(default)]
    pub(crate) renewals: BTreeMap<String, u64>,
    /// What each wrote beside it, and what stands there for it: to end all that it runs, under a number.
    #[serde(default)]
    pub(crate) words: BTreeMap<String, LeaseWord>,
    #[serde(default)]
    pub(crate) told: BTreeMap<String, u64>,
    /// What keepers agree by.
    #[serde(default)]
    pub(crate) agreement: crate::rooms::keepers::agreement::Agreement,
    pub(crate) records: BTreeMap<String, Record>,
    /// Versions of templates.
    #[serde(default)]
    pub(crate) templates: BTreeMap<String, crate::rooms::templates::Frozen>,
    /// Disks that no machine has.
    #[serde(default)]
    pub(crate) unattached: crate::rooms::hardware::unattached::Unattached,
    /// Disks that several machines have.
    #[serde(default)]
    pub(crate) shared: crate::rooms::sharing::disk::SharedDisks,
    /// Disks that are brought here, and nobody's yet.
    #[serde(default)]
    pub(crate) deliveries: crate::rooms::delivering::Deliveries,
    /// Room held for disks that are being copied here, by machine.
    #[serde(skip)]
    pub(crate) incoming: BTreeMap<String, u64>,
    #[serde(default)]
    pub(crate) images: BTreeMap<String, Image>,
    /// What must never happen, in words, when it happened all the same.
    pub(crate) violations: Vec<String>,
    /// Who gave orders about what is on it.
    #[serde(default)]
    pub(crate) seen: crate::agent::Seen,
    /// Highest fence per object.
    pub(crate) fences: BTreeMap<String, u64>,
}

/// What a host writes beside its lease.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct LeaseWord {
    /// None of the uplinks of its guests has a link.
    pub(crate) unlinked: bool,
    /// The number under which it was told to end what it ran, and did.
    pub(crate) ended: u64,
}

/// A file that machines boot from; its bytes lie beside.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Image {
    pub(crate) name: String,
    /// Held in full from the beginning.
    pub(crate) size: u64,
    /// Once it is whole.
    pub(crate) sha256: Option<String>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct ImageAt {
    pub(crate) volume: String,
    pub(crate) id: String,
}

/// What a machine boots from: `disk`, `image` or `network`, the first that is there.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Boot {
    #[serde(default)]
    pub(crate) image: Option<ImageAt>,
    pub(crate) order: Vec<String>,
    #[serde(default)]
    pub(crate) once: Option<String>,
}

impl Default for Boot {
    fn default() -> Self {
        Boot {
            image: None,
            order: ["disk", "image", "network"].map(str::to_owned).to_vec(),
            once: None,
        }
    }
}

/// The signature of our own format.
pub(crate) const OURS: &str = "zastrugi 1";

/// Who may write a machine's disks.
#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Lease {
    pub(crate) generation: u64,
    pub(crate) holder: Option<String>,
}

/// A machine's record, as it stands on the volume.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Record {
    pub(crate) name: String,
    pub(crate) vcpus: u32,
    /// What it can be given while it runs; less than it has: no more.
    #[serde(default)]
    pub(crate) vcpus_max: u32,
    pub(crate) memory: Memory,
    pub(crate) video: u64,
    pub(crate) disks: Vec<Disk>,
    pub(crate) nics: Vec<Nic>,
    #[serde(default)]
    pub(crate) boot: Boot,
    /// The seed that the guest reads at its first boot, as it was delivered.
    #[serde(default)]
    pub(crate) seed: Option<Seed>,
    /// What came of it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) first_boot: Option<Box<Applied>>,
    #[serde(default)]
    pub(crate) labels: BTreeMap<String, String>,
    #[serde(default)]
    pub(crate) tier: u8,
    #[serde(default)]
    pub(crate) apart: Option<String>,
    #[serde(default)]
    pub(crate) protected: bool,
    #[serde(default)]
    pub(crate) note: String,
    #[serde(default)]
    pub(crate) virtual_hardware: u32,
    /// Another one whenever its guest is not what it was.
    #[serde(default)]
    pub(crate) generation_id: uuid::Uuid,
    /// SHA-256 of the guest's public key.
    #[serde(default)]
    pub(crate) guest_key: String,
    /// Milliseconds since 1970.
    #[serde(default)]
    pub(crate) created: i64,
    #[serde(default)]
    pub(crate) deleted: bool,
    #[serde(default)]
    pub(crate) lease: Lease,
    #[serde(default)]
    pub(crate) temper: Temper,
    /// Its disks as layers, while it has snapshots.
    #[serde(default)]
    pub(crate) chain: Option<Box<crate::rooms::snapshots::chain::Chain>>,
    /// What its making came to, where it was made as a copy.
    #[serde(default)]
    pub(crate) copied: Option<serde_json::Value>,
    /// What came of giving it disks of its own.
    #[serde(default)]
    pub(crate) whole: Option<serde_json::Value>,
    /// The order by which a disk was last written from a file, and what it came to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) filled: Option<(String, serde_json::Value)>,
    /// What it boots with, and the chip that keeps its guest's secrets.
    #[serde(default)]
    pub(crate) firmware: crate::rooms::machines::firmware::Firmware,
    /// Disks that other machines have too.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub(crate) shares: Vec<crate::rooms::sharing::disk::Share>,
}

/// With what a machine runs.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Size {
    pub(crate) vcpus: u32,
    pub(crate) vcpus_max: u32,
    pub(crate) memory: Memory,
}

#[derive(Debug, Clone, Copy, Default, Serialize, Deserialize)]
pub(crate) struct Memory {
    pub(crate) kept: u64,
    pub(crate) size: u64,
    pub(crate) max: u64,
}

#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Disk {
    /// Its own, wherever it goes.
    #[serde(default)]
    pub(crate) key: uuid::Uuid,
    pub(crate) size: u64,
    pub(crate) thick: bool,
    /// Bytes written so far; a thin disk takes no more room than that.
    #[serde(default)]
    pub(crate) written: u64,
    /// The number of the key that its guest encrypted it with; 0: it is not encrypted.
    #[serde(default)]
    pub(crate) lock: u64,
}

/// How the simulated guest behaves.
#[derive(Debug, Clone, Copy, Serialize, Deserialize)]
pub(crate) struct Temper {
    pub(crate) busy: u32,
    pub(crate) agent: bool,
    pub(crate) stubborn: bool,
    /// Its file systems are slow to stand still.
    #[serde(default)]
    pub(crate) slow: bool,
    /// It takes neither memory nor vCPUs while it runs.
    #[serde(default)]
    pub(crate) stiff: bool,
}

impl Default for Temper {
    fn default() -> Self {
        Temper {
            busy: 15,
            agent: true,
            stubborn: false,
            slow: false,
            stiff: false,
        }
    }
}

impl Record {
    /// With what it starts next.
    pub(crate) fn size(&self) -> Size {
        Size {
            vcpus: self.vcpus,
            vcpus_max: self.vcpus_max.max(self.vcpus),
            memory: self.memory,
        }
    }
}

impl Volume {
    /// A guest that is up and was not told yet reads its seed; whether it did.
    pub(crate) fn boots_first(&mut self, uuid: &str, guest: &Guest, now: i64) -> bool {
        let Some(record) = self.records.get_mut(uuid) else {
            return false;
        };
        let again = record
            .first_boot
            .as_ref()
            .is_none_or(|a| a.instance != uuid);
        let due = again && record.seed.is_some() && guest.phase(now, record.temper) == "up";
        if let Some(seed) = record.seed.as_ref().filter(|_| due) {
            record.first_boot = Some(Box::new(Applied::by(seed, uuid)));
        }
        due
    }

    pub(crate) fn used(&self) -> u64 {
        self.holds().values().sum()
    }

    /// Bytes of whatever lies on it, by what it is of.
    pub(crate) fn holds(&self) -> BTreeMap<String, u64> {
        let images = self.images.iter().map(|(id, i)| (id, i.size));
        let machines = self.records.iter().map(|(id, r)| {
            let disks = crate::rooms::moving::copying::takes(r);
            let swap = if r.lease.holder.is_some() {
                r.memory.size.saturating_sub(r.memory.kept)
            } else {
                0
            };
            (id, disks + swap)
        });
        let coming = self.incoming.iter().map(|(id, bytes)| (id, *bytes));
        let spare = self.unattached.disks.iter();
        let spare: Vec<_> = spare.map(|(key, d)| (key.to_string(), d.takes())).collect();
        let spare = spare.iter().map(|(key, bytes)| (key, *bytes));
        let shared = self.shared.disks.iter();
        let shared: Vec<_> = shared
            .map(|(key, d)| (key.to_string(), d.takes()))
            .collect();
        let spare = spare.chain(shared.iter().map(|(key, bytes)| (key, *bytes)));
        let versions = self.templates.iter().map(|(id, t)| (id, t.takes()));
        let brought = self.deliveries.iter().map(|(id, d)| (id, d.takes()));
        let coming = coming.chain(brought);
        let all_of_it = images.chain(machines).chain(coming).chain(spare);
        let mut all = BTreeMap::new();
        for (id, bytes) in all_of_it.chain(versions) {
            *all.entry(id.clone()).or_insert(0) += bytes;
        }
        all
    }

    /// Ends the lease of a holder that was proved off, if it is still at the generation that it was proved off with: had
    /// anybody started the machine since, it would be higher.
    pub(crate) fn end_lease(&mut self, uuid: &str, holder: &str, generation: u64) {
        if let Some(record) = self.records.get_mut(uuid)
            && record.lease.holder.as_deref() == Some(holder)
            && record.lease.generation == generation
        {
            record.lease.holder = None;
        }
    }

    /// Takes the run lease for `host` with a higher generation than before.
    pub(crate) fn take_lease(
        &mut self,
        uuid: &str,
        host: &str,
        generation: u64,
    ) -> Result<(), String> {
        let Some(record) = self.records.get_mut(uuid) else {
            return Err("there is no such machine".into());
        };
        if let Some(holder) = &record.lease.holder {
            return Err(format!(
                "{holder} holds the run lease of {} (generation {})",
                record.name, record.lease.generation
            ));
        }
        if generation <= record.lease.generation {
            return Err(format!(
                "the run lease of {} is at generation {}; {generation} is not higher",
                record.name, record.lease.generation
            ));
        }
        record.lease = Lease {
            generation,
            holder: Some(host.to_owned()),
        };
        Ok(())
    }

    /// Gives the lease back, if it is this host's.
    pub(crate) fn drop_lease(&mut self, uuid: &str, host: &str) {
        if let Some(record) = self.records.get_mut(uuid)
            && record.lease.holder.as_deref() == Some(host)
        {
            record.lease.holder = None;
        }
    }

    /// Compare and set: from one host to the other, if the first holds it at the generation before.
    pub(crate) fn pass_lease(&mut self, uuid: &str, from: &str, to: &str, generation: u64) -> bool {
        let Some(record) = self.records.get_mut(uuid) else {
            return false;
        };
        let lease = &mut record.lease;
        if lease.holder.as_deref() != Some(from) || lease.generation + 1 != generation {
            return false;
        }
        *lease = Lease {
            generation,
            holder: Some(to.to_owned()),
        };
        true
    }

    pub(crate) fn free(&self) -> u64 {
        self.capacity.saturating_sub(self.used())
    }

    /// A guest writes: allowed only under the lease's generation, by its holder.
    pub(crate) fn write(&mut self, uuid: &str, host: &str, generation: u64, bytes: u64) {
        let Some(record) = self.records.get_mut(uuid) else {
            return;
        };
        if record.lease.holder.as_deref() != Some(host) || record.lease.generation != generation {
            let holder = record
                .lease
                .holder
                .clone()
                .unwrap_or_else(|| "nobody".into());
            self.violations.push(format!(
                "{host} wrote to {} under generation {generation}; {holder} holds it at {}",
                record.name, record.lease.generation
            ));
            return;
        }
        if let (Some(chain), Some(disk)) = (record.chain.as_mut(), record.disks.first()) {
            return chain.grows(bytes, disk.size);
        }
        if let Some(disk) = record.disks.first_mut() {
            disk.written = disk.written.saturating_add(bytes).min(disk.size);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn volume() -> Volume {
        let record = Record {
            name: "a".into(),
            vcpus: 1,
            vcpus_max: 0,
            memory: Memory {
                kept: 1,
                size: 3,
                max: 3,
            },
            video: 0,
            disks: vec![Disk {
                key: uuid::Uuid::nil(),
                size: 100,
                thick: false,
                written: 0,
                lock: 0,
            }],
            nics: vec![],
            boot: Boot::default(),
            seed: None,
            first_boot: None,
            filled: None,
            labels: BTreeMap::new(),
            tier: 1,
            apart: None,
            protected: false,
            note: String::new(),
            virtual_hardware: 1,
            generation_id: uuid::Uuid::nil(),
            guest_key: String::new(),
            created: 0,
            deleted: false,
            lease: Lease::default(),
            temper: Temper::default(),
            chain: None,
            copied: None,
            whole: None,
            shares: vec![],
            firmware: Default::default(),
        };
        Volume {
            records: BTreeMap::from([("u".into(), record)]),
            ..Volume::default()
        }
    }

    #[test]
    fn a_second_host_never_gets_the_lease_while_the_first_holds_it() {
        let mut v = volume();
        v.take_lease("u", "h1", 1).unwrap();
        assert!(v.take_lease("u", "h2", 2).is_err());
        v.drop_lease("u", "h2");
        assert!(
            v.take_lease("u", "h2", 2).is_err(),
            "it is not h2's to give"
        );
        v.drop_lease("u", "h1");
        assert!(
            v.take_lease("u", "h2", 1).is_err(),
            "a generation is never used twice"
        );
        v.take_lease("u", "h2", 2).unwrap();
    }

    #[test]
    fn a_lease_is_passed_on_once_and_only_by_its_holder() {
        let mut v = volume();
        v.take_lease("u", "h1", 1).unwrap();
        assert!(!v.pass_lease("u", "h2", "h3", 2), "not its holder");
        assert!(!v.pass_lease("u", "h1", "h2", 3), "not the next generation");
        assert!(v.pass_lease("u", "h1", "h2", 2));
        assert!(!v.pass_lease("u", "h1", "h3", 3), "it is h2's now");
    }

    #[test]
    fn a_write_without_the_lease_is_recorded_as_a_violation() {
        let mut v = volume();
        v.take_lease("u", "h1", 1).unwrap();
        v.write("u", "h1", 1, 10);
        assert!(v.violations.is_empty());
        assert_eq!(v.used(), 12, "10 written and 2 of swap");
        v.write("u", "h2", 1, 10);
        v.write("u", "h1", 0, 10);
        assert_eq!(v.violations.len(), 2);
    }
}
