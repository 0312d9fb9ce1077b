//! Arrays and filers: pools, volumes on them, who may reach them, and by which portals. What a host really sees of a
//! volume is decided here, from the array's mapping, the host's logins and the state of each path.

use crate::{rooms::hosts::host::Identity, world::State};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ArrayKind {
    /// LUNs by iSCSI.
    Block,
    /// Exports by NFS.
    File,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Array {
    pub(crate) name: String,
    pub(crate) kind: ArrayKind,
    pub(crate) serial: String,
    /// `ip:port` of each management controller, with its certificate and whether it answers.
    pub(crate) controllers: Vec<Controller>,
    pub(crate) password: String,
    pub(crate) portals: Vec<Portal>,
    pub(crate) pools: BTreeMap<String, u64>,
    pub(crate) luns: BTreeMap<String, Lun>,
    /// Number → IQN, or a client's name where files are exported.
    pub(crate) initiators: BTreeMap<String, String>,
    pub(crate) connections: BTreeMap<String, Connection>,
    pub(crate) effects: BTreeMap<String, u32>,
    pub(crate) next: u64,
    /// What it is asked, and what is written to it, takes so many milliseconds longer.
    #[serde(default)]
    pub(crate) slow: u64,
    /// What it does for what is made in a pool.
    #[serde(default)]
    pub(crate) classes: BTreeMap<String, super::classes::Class>,
    /// Somebody switched its snapshots off.
    #[serde(default)]
    pub(crate) lapsed: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Controller {
    pub(crate) address: String,
    pub(crate) identity: Identity,
    pub(crate) up: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Portal {
    pub(crate) address: String,
    pub(crate) up: bool,
}

/// A volume of the array; what is on it stands in [`crate::rooms::storage::volume::Volume`] under the same identity.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Lun {
    pub(crate) name: String,
    pub(crate) uid: String,
    pub(crate) pool: String,
    pub(crate) capacity: u64,
    pub(crate) thin: bool,
    pub(crate) description: String,
}

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Connection {
    pub(crate) lun: String,
    pub(crate) initiator: String,
}

/// One way from a host to a volume.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Path {
    pub(crate) portal: String,
    pub(crate) uplink: String,
    pub(crate) up: bool,
}

impl Array {
    pub(crate) fn number(&mut self) -> String {
        self.next += 1;
        self.next.to_string()
    }
    pub(crate) fn lun_with(&self, uid: &str) -> Option<(&String, &Lun)> {
        self.luns.iter().find(|(_, l)| l.uid == uid)
    }
    /// The initiators that reach the volume of this name.
    pub(crate) fn reached_by(&self, name: &str) -> Vec<String> {
        let luns = self.luns.iter().filter(|(_, l)| l.name == name);
        let luns: Vec<&String> = luns.map(|(id, _)| id).collect();
        let all = self.connections.values().filter(|c| luns.contains(&&c.lun));
        let names = all.filter_map(|c| self.initiators.get(&c.initiator));
        names.cloned().collect()
    }
    /// May this initiator reach the volume?
    pub(crate) fn maps(&self, lun: &str, initiator: &str) -> bool {
        self.connections.values().any(|c| {
            c.lun == lun
                && self
                    .initiators
                    .get(&c.initiator)
                    .is_some_and(|i| i == initiator)
        })
    }
    pub(crate) fn map(&mut self, lun: &str, initiator: &str) {
        if self.maps(lun, initiator) {
            return;
        }
        let known = self
            .initiators
            .iter()
            .find(|(_, name)| *name == initiator)
            .map(|(id, _)| id.clone());
        let id = known.unwrap_or_else(|| {
            let id = self.number();
            self.initiators.insert(id.clone(), initiator.to_owned());
            id
        });
        let number = self.number();
        self.connections.insert(
            number,
            Connection {
                lun: lun.to_owned(),
                initiator: id,
            },
        );
    }
}

impl State {
    pub(crate) fn array_with(&self, uid: &str) -> Option<&Array> {
        self.arrays.values().find(|a| a.lun_with(uid).is_some())
    }

    /// Every path that the host logged in on and on which the array offers it the volume.
    pub(crate) fn paths(&self, host: &str, uid: &str) -> Vec<Path> {
        if let Some(up) = self.pool_serves(host, uid) {
            return vec![Path {
                portal: "own disks".into(),
                uplink: "storage-1".into(),
                up,
            }];
        }
        let (Some(host), Some(array)) = (self.hosts.get(host), self.array_with(uid)) else {
            return Vec::new();
        };
        let mapped = array
            .lun_with(uid)
            .is_some_and(|(id, _)| array.maps(id, &host.iqn));
        if !mapped {
            return Vec::new();
        }
        let portals = array.portals.iter().enumerate();
        portals
            .filter(|(_, p)| host.logins.contains(&p.address))
            .map(|(i, p)| Path {
                portal: p.address.clone(),
                uplink: format!("storage-{}", i + 1),
                up: p.up && !host.cut.contains(&p.address),
            })
            .collect()
    }
    pub(crate) fn reaches(&self, host: &str, uid: &str) -> bool {
        self.paths(host, uid).iter().any(|p| p.up)
    }

    /// Everything that arrays offer this host on paths that it is logged in on.
    pub(crate) fn devices(&self, host: &str) -> Vec<String> {
        let pooled = self.volumes.values().filter(|v| v.pool.is_some());
        let all: BTreeSet<&String> = self
            .arrays
            .values()
            .flat_map(|a| a.luns.values().map(|l| &l.uid))
            .chain(pooled.map(|v| &v.uid))
            .collect();
        all.into_iter()
            .filter(|uid| self.reaches(host, uid))
            .cloned()
            .collect()
    }

    /// What is written in a pool: thin volumes by what is on them, thick ones whole.
    pub(crate) fn pool_used(&self, array: &Array, pool: &str) -> u64 {
        let on_it = |lun: &Lun| {
            if lun.thin {
                self.volumes
                    .get(&lun.uid)
                    .map_or(0, crate::rooms::storage::volume::Volume::used)
            } else {
                lun.capacity
            }
        };
        array
            .luns
            .values()
            .filter(|l| l.pool == pool)
            .map(on_it)
            .sum()
    }
}

#[cfg(test)]
mod tests {
    use crate::{scenario::Scenario, world::World};

    const TEXT: &str = r#"{"hosts": [
        {"name": "h1", "address": "1.11", "maker": "B", "model": "R", "cpu_maker": "K", "cpu_model": "K", "cpu_level": "v3",
         "sockets": 1, "cores": 8, "base_mhz": 2000, "memory_gib": 64, "software": "1", "volumes": ["vol-a"]},
        {"name": "h2", "address": "1.12", "maker": "B", "model": "R", "cpu_maker": "K", "cpu_model": "K", "cpu_level": "v3",
         "sockets": 1, "cores": 8, "base_mhz": 2000, "memory_gib": 64, "software": "1", "volumes": []}],
        "volumes": [{"uid": "vol-a", "name": "slab", "capacity_gib": 100}, {"uid": "vol-b", "name": "spare", "capacity_gib": 100, "signature": "blank"}],
        "machines": [{"name": "m", "volume": "vol-a", "host": "h1", "vcpus": 1, "memory_gib": 4, "disks_gib": [40]}]}"#;

    fn world() -> (World, tempfile::TempDir) {
        let dir = tempfile::tempdir().unwrap();
        let scenario: Scenario = serde_json::from_str(TEXT).unwrap();
        let world = World::open(dir.path(), &scenario, "127.9", 1.0).unwrap();
        (world, dir)
    }

    fn up(world: &World, host: &str, uid: &str) -> Vec<bool> {
        let paths = world.lock().paths(host, uid);
        paths.into_iter().map(|p| p.up).collect()
    }

    #[test]
    fn a_host_sees_only_what_it_is_offered_and_logged_in_for() {
        let (world, _dir) = world();
        assert_eq!(up(&world, "h1", "vol-a"), [true, true]);
        assert_eq!(up(&world, "h2", "vol-a"), [false; 0], "not offered");
        let iqn = world.lock().hosts["h2"].iqn.clone();
        world.offer_to("vol-a", &iqn);
        assert_eq!(
            up(&world, "h2", "vol-a"),
            [false; 0],
            "offered, and nowhere logged in"
        );
        assert_eq!(world.lock().devices("h1"), ["vol-a"]);
    }

    #[test]
    fn a_portal_may_be_dead_for_all_or_for_one() {
        let (world, _dir) = world();
        world.portal("shelf", 1, Some("h1"), false);
        assert_eq!(up(&world, "h1", "vol-a"), [false, true]);
        world.portal("shelf", 2, None, false);
        assert!(!world.lock().reaches("h1", "vol-a"));
        world.portal("shelf", 2, None, true);
        world.portal("shelf", 1, Some("h1"), true);
        assert_eq!(up(&world, "h1", "vol-a"), [true, true]);
    }

    #[test]
    fn a_guest_without_path_halts_and_its_clock_stands_still() {
        let (world, _dir) = world();
        let paused = || {
            let state = world.lock();
            let guest = state.hosts["h1"].guests.values().next().unwrap();
            guest.paused.as_ref().map(|(why, _)| why.clone())
        };
        world.settle("h1");
        assert_eq!(paused(), None);
        world.forget("h1", "vol-a");
        world
            .lock()
            .hosts
            .get_mut("h1")
            .unwrap()
            .mounted
            .insert("vol-a".into());
        world.settle("h1");
        assert_eq!(paused().as_deref(), Some("no path to slab"));
        let iqn = world.lock().hosts["h1"].iqn.clone();
        world.offer_to("vol-a", &iqn);
        world.settle("h1");
        assert_eq!(paused(), None);
        assert_eq!(world.violations(), Vec::<String>::new());
    }

    #[test]
    fn a_full_volume_halts_the_writer_and_nothing_is_written_beyond() {
        let (world, _dir) = world();
        let used = || world.lock().volumes["vol-a"].used();
        let before = used();
        world.write("m", 1 << 30);
        assert_eq!(used(), before + (1 << 30));
        world.write("m", 200 << 30);
        assert_eq!(used(), before + (1 << 30), "it waits");
        assert!(
            world.lock().hosts["h1"]
                .guests
                .values()
                .all(|g| g.paused.is_some())
        );
    }

    #[test]
    fn a_pool_holds_what_is_written_and_thick_volumes_whole() {
        let (world, _dir) = world();
        let mut state = world.lock();
        let written = state.volumes["vol-a"].used();
        let shelf = state.arrays["shelf"].clone();
        assert_eq!(state.pool_used(&shelf, "main"), written);
        for lun in state.arrays.get_mut("shelf").unwrap().luns.values_mut() {
            lun.thin = lun.uid != "vol-b";
        }
        let shelf = state.arrays["shelf"].clone();
        assert_eq!(state.pool_used(&shelf, "main"), written + (100 << 30));
        assert_eq!(state.pool_used(&shelf, "other"), 0);
    }

    #[test]
    fn a_mapping_is_there_once_however_often_it_is_made() {
        let (world, _dir) = world();
        for _ in 0..3 {
            world.offer_to("vol-b", "iqn.2019-05.net.example:x");
        }
        assert_eq!(
            world.offers("shelf"),
            [("slab".to_owned(), 1), ("spare".to_owned(), 1)]
        );
    }
}
