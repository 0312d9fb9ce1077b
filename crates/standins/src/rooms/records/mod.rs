//! Records of machines as they lie on volumes: which of them is a machine's, where there are several, and what takes one away.

pub(crate) mod calls;

use crate::{
    rooms::{
        packages::pack::hex,
        storage::volume::{Record, Volume},
    },
    world::{State, World},
};
use sha2::{Digest, Sha256};
use uuid::Uuid;

impl Volume {
    /// SHA-256 of the identities of its records, in order: another one whenever a record comes or goes.
    pub(crate) fn records_sum(&self) -> String {
        let mut sum = Sha256::new();
        for uuid in self.records.keys() {
            sum.update(uuid.as_bytes());
        }
        hex(sum)
    }
}

impl State {
    /// The volume of the record by which a machine runs; off, the one that this host sees, else any.
    pub(crate) fn home(&self, host: &str, uuid: &str) -> Option<String> {
        let mut guests = self.hosts.values().filter_map(|h| h.guests.get(uuid));
        let runs = guests.next().map(|g| g.volume.clone());
        runs.or_else(|| self.seen_by(host, uuid).next().cloned())
            .or_else(|| {
                let mut all = self.volumes.iter();
                let found = all.find(|(_, v)| v.records.contains_key(uuid));
                found.map(|(uid, _)| uid.clone())
            })
    }

    /// The volumes that this host mounts on which a record of the machine lies.
    fn seen_by<'a>(&'a self, host: &str, uuid: &'a str) -> impl Iterator<Item = &'a String> {
        let mounted = self.hosts.get(host).map(|h| &h.mounted);
        let lies = |uid: &&String| {
            let volume = self.volumes.get(*uid);
            volume.is_some_and(|v| v.records.contains_key(uuid))
        };
        mounted.into_iter().flatten().filter(lies)
    }

    /// Off, with a record on more than one volume: which one is meant nobody can tell.
    pub(crate) fn is_twice(&self, host: &str, uuid: &str) -> bool {
        let on = self.hosts.values().any(|h| h.guests.contains_key(uuid));
        !on && self.seen_by(host, uuid).count() > 1
    }
}

impl World {
    /// Lays a copy of a machine's record on another volume, as somebody does who brings an old copy of that back: with `name`,
    /// it is another machine's; else it is the same one's. False where there is no such machine or volume.
    pub fn lays(&self, machine: &str, onto: &str, name: Option<&str>) -> bool {
        let mut state = self.lock();
        let mut all = state.volumes.values().flat_map(|v| &v.records);
        let found = all.find(|(_, r)| r.name == machine && !r.deleted);
        let Some((uuid, mut record)) = found.map(|(u, r)| (u.clone(), r.clone())) else {
            return false;
        };
        record.lease.holder = None;
        record.lease.generation = record.lease.generation.saturating_sub(1);
        let uuid = match name {
            Some(name) => {
                another(&mut record, name);
                Uuid::new_v4().to_string()
            }
            None => uuid,
        };
        let mut volumes = state.volumes.values_mut();
        let Some(volume) = volumes.find(|v| v.name == onto) else {
            return false;
        };
        volume.records.insert(uuid, record);
        let uid = volume.uid.clone();
        self.save_volume(&state, &uid);
        true
    }

    /// The volumes on which a record of this name lies.
    pub fn lies_on(&self, machine: &str) -> Vec<String> {
        let state = self.lock();
        let lies = |v: &&Volume| v.records.values().any(|r| r.name == machine);
        let found = state.volumes.values().filter(lies);
        found.map(|v| v.name.clone()).collect()
    }
}

fn another(record: &mut Record, name: &str) {
    name.clone_into(&mut record.name);
    for disk in &mut record.disks {
        disk.key = Uuid::new_v4();
    }
    for nic in &mut record.nics {
        let id = Uuid::new_v4();
        let [a, b, c, ..] = *id.as_bytes();
        nic.mac = format!("02:5a:5c:{a:02x}:{b:02x}:{c:02x}");
        nic.addresses.clear();
    }
    record.generation_id = Uuid::new_v4();
    record.shares.clear();
}
