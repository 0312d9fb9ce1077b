//! What a host reports, compared with what we hold: only differences become events.

mod disks;
mod records;
mod sharing;

pub use disks::{DiskReport, hardware};
pub use records::{RecordReport, left_over};
pub use sharing::{ShareReport, shares};

use crate::{
    epoch::Obeyed,
    estate::{
        Applied, AsOf, Attached, Boot, BootFrom, Condition, DiskState, Estate, Firmware, Grows,
        Host, HostNet, Keeper, LocalDisk, Machine, MachineState, Memory, Nic, Now, Pooled,
        Snapshots, Uplink, Wanted,
    },
    evidence::SeenVolume,
    ids::{ClusterId, HostId, ImageId, MachineId},
    limits::{self, Limit},
    moment::Moment,
    rooms::{Event, hosts, images, keepers, machines, networks, snapshots, storage},
    runs::{Object, Runs},
    units::Bytes,
    view::View,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};

/// A network card as the machine's record has it; the network by its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct NicReport {
    pub mac: String,
    pub network: Option<String>,
    pub addresses: Vec<IpAddr>,
}

/// What a machine's record says that it boots from; the image by what its volume calls it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct BootReport {
    pub image: Option<uuid::Uuid>,
    pub order: Vec<BootFrom>,
    pub once: Option<BootFrom>,
}

/// A machine as its host reports it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MachineReport {
    pub uuid: uuid::Uuid,
    pub name: String,
    pub state: MachineState,
    pub generation: u64,
    pub vcpus: u32,
    pub memory: Memory,
    pub video: Bytes,
    pub disks: Vec<DiskReport>,
    /// Identity of the volume that its record lies on.
    pub volume: String,
    pub nics: Vec<NicReport>,
    /// None: the agent says nothing of it.
    #[serde(default)]
    pub boot: Option<BootReport>,
    pub labels: BTreeMap<String, String>,
    pub tier: u8,
    pub apart: Option<String>,
    pub protected: bool,
    /// None: the agent says nothing of it.
    #[serde(default)]
    pub generation_id: Option<uuid::Uuid>,
    /// What its guest says came of its first boot; none: it has not said.
    pub first_boot: Option<Box<Applied>>,
    pub guest_key: Option<String>,
    pub note: String,
    pub virtual_hardware: u32,
    pub created: Moment,
    #[serde(default)]
    pub vcpus_max: u32,
    /// With what it runs; none: the agent doesn't say, or it is off.
    #[serde(default)]
    pub now: Option<Now>,
    #[serde(default)]
    pub grows: Option<Grows>,
    /// None: the agent says nothing of them.
    #[serde(default)]
    pub snapshots: Option<Box<Snapshots>>,
    /// None: the agent says nothing of it.
    #[serde(default)]
    pub firmware: Option<Box<Firmware>>,
    /// None: the agent says nothing of them.
    #[serde(default)]
    pub shares: Option<Vec<ShareReport>>,
}

/// A whole host at one point of its own sequence.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HostReport {
    pub boot: u64,
    pub seq: u64,
    /// Whose orders it last obeyed; none: nobody's yet, or its agent doesn't say.
    #[serde(default)]
    pub obeyed: Option<Obeyed>,
    pub software: String,
    /// Whether an armed watchdog resets it when its lease has run out.
    #[serde(default)]
    pub watchdog: bool,
    /// The keepers that it runs, by the cluster that each watches.
    #[serde(default)]
    pub keepers: BTreeMap<ClusterId, Keeper>,
    /// Its name as an initiator.
    pub initiator: String,
    pub uplinks: Vec<Uplink>,
    pub networks: BTreeMap<String, HostNet>,
    /// Machines that it ended since its boot because nobody would have reached them, or they could not go on: none of them stopped.
    #[serde(default)]
    pub ended: BTreeSet<uuid::Uuid>,
    /// Every machine that is not off here, and nothing else.
    pub machines: Vec<MachineReport>,
    pub volumes: Vec<SeenVolume>,
    /// Its own, beside the one that it starts from.
    #[serde(default)]
    pub disks: Vec<LocalDisk>,
}

/// A figure that a device tells of, as the rules reckon with it: sums of thousands of them have room.
pub fn figure(said: u64, limit: &Limit) -> u64 {
    said.min(u64::try_from(limit.most).unwrap_or(u64::MAX))
}

/// The same of a small one.
pub fn count(said: u32, limit: &Limit) -> u32 {
    said.min(u32::try_from(limit.most).unwrap_or(u32::MAX))
}

impl MachineReport {
    /// The machine as the rules reckon with it.
    #[must_use]
    pub fn bounded(mut self) -> Self {
        let memory = |b: Bytes| Bytes(figure(b.0, &limits::FIGURE_MEMORY));
        let Memory { kept, size, max } = self.memory;
        self.memory = Memory {
            kept: memory(kept),
            size: memory(size),
            max: memory(max),
        };
        self.video = memory(self.video);
        let cores = |n: u32| count(n, &limits::FIGURE_CORES);
        (self.vcpus, self.vcpus_max) = (cores(self.vcpus), cores(self.vcpus_max));
        self.now = self.now.map(|now| Now {
            vcpus: cores(now.vcpus),
            vcpus_max: cores(now.vcpus_max),
            memory: Memory {
                kept: memory(now.memory.kept),
                size: memory(now.memory.size),
                max: memory(now.memory.max),
            },
        });
        self.generation = figure(self.generation, &limits::FIGURE_COUNT);
        for disk in &mut self.disks {
            disk.size = Bytes(figure(disk.size.0, &limits::FIGURE_DISK));
        }
        self
    }
}

impl HostReport {
    /// The report as the rules reckon with it: an absurd figure counts as the most there may be.
    #[must_use]
    pub fn bounded(mut self) -> Self {
        self.machines = self
            .machines
            .into_iter()
            .map(MachineReport::bounded)
            .collect();
        for volume in &mut self.volumes {
            volume.capacity = Bytes(figure(volume.capacity.0, &limits::FIGURE_DISK));
            volume.used = Bytes(figure(volume.used.0, &limits::FIGURE_DISK));
        }
        for uplink in &mut self.uplinks {
            uplink.mbit = figure(uplink.mbit, &limits::FIGURE_RATE);
        }
        self
    }
}

/// What differs between the report and the estate. A report that is not newer than the last answers nothing; one that
/// changes nothing answers nothing.
pub fn compare(view: &View, host: HostId, report: &HostReport, now: Moment) -> Vec<Event> {
    let (estate, runs) = (&*view.estate, &*view.runs);
    let Some(held) = estate.hosts.get(&host) else {
        return Vec::new();
    };
    let newer = (report.boot, report.seq) > held.seen;
    if !newer || held.condition == Condition::Claiming {
        return Vec::new();
    }
    let restarted = report.boot != held.seen.0;
    let mut events = volumes(estate, report);
    events.extend(pools(estate, report));
    events.extend(disks::unattached(estate, report));
    events.extend(sharing::told(estate, report));
    events.extend(mounts(estate, held, report));
    events.extend(beneath(held, report));
    let as_of = AsOf {
        host,
        boot: report.boot,
        seq: report.seq,
    };
    let mut reported = BTreeSet::new();
    for machine in &report.machines {
        match estate.machine_with_uuid(&machine.uuid) {
            // A step was answered after the report had been sent.
            Some(ours) if ours.knows_better(as_of) => {
                reported.insert(ours.id);
            }
            Some(ours) => {
                reported.insert(ours.id);
                events.extend(differs(ours, as_of, machine));
                events.extend(moved_home(estate, ours, machine));
                events.extend(nics_differ(estate, ours, machine));
                events.extend(disks::differ(runs, ours, machine));
                events.extend(sharing::differ(estate, runs, ours, machine));
                events.extend(boot_differs(estate, runs, ours, machine));
                events.extend(snapshots_differ(runs, ours, machine));
                events.extend(now_differs(runs, ours, machine));
                events.extend(anew(ours, machine));
                events.extend(firmware(ours, machine));
                events.extend(first_boot(ours, machine));
            }
            None => {
                events.push(Event::Machines(machines::Event::Adopted(Box::new(adopt(
                    estate, held, machine, now,
                )))));
            }
        }
    }
    events.extend(
        estate
            .machines_on(host)
            .filter(|m| !reported.contains(&m.id) && !m.knows_better(as_of))
            .flat_map(|m| {
                let ended = report.ended.contains(&m.uuid);
                stopped(runs, m, as_of, (restarted || ended).then_some(now))
            }),
    );
    let stale = held.condition != Condition::Steady
        && !matches!(
            held.condition,
            Condition::Stranger { .. } | Condition::Hangs { .. }
        );
    if !events.is_empty() || stale || restarted || report.software != held.software {
        events.push(Event::Hosts(hosts::Event::Seen {
            host,
            boot: report.boot,
            seq: report.seq,
            software: report.software.clone(),
        }));
    }
    settle_adopted(estate, events)
}

/// The clusters for which a keeper on this host decides now, and did not when it was last heard.
fn began(held: &Host, report: &HostReport) -> Vec<ClusterId> {
    let decides =
        |of: &BTreeMap<ClusterId, Keeper>, c: &ClusterId| of.get(c).is_some_and(|k| k.keeps);
    let all = report.keepers.keys();
    all.filter(|c| decides(&report.keepers, c) && !decides(&held.keepers, c))
        .copied()
        .collect()
}

fn volumes(estate: &Estate, report: &HostReport) -> Vec<Event> {
    let changed = |seen: &SeenVolume| {
        let ours = estate.volume_with_uid(&seen.uid)?;
        let differs = ours.capacity != seen.capacity || ours.used != seen.used;
        differs.then_some(Event::Storage(storage::Event::VolumeSeen {
            volume: ours.id,
            capacity: seen.capacity,
            used: seen.used,
        }))
    };
    report.volumes.iter().filter_map(changed).collect()
}

/// What a host says of itself beside its machines and volumes.
fn beneath(held: &Host, report: &HostReport) -> Vec<Event> {
    let host = held.id;
    let mut events = Vec::new();
    if report.disks != held.disks {
        events.push(disks(held, report));
    }
    if report.watchdog != held.watchdog {
        let armed = report.watchdog;
        events.push(Event::Hosts(hosts::Event::Watchdog { host, armed }));
    }
    if report.keepers != held.keepers {
        events.push(Event::Keepers(keepers::Event::Seen {
            host,
            keepers: report.keepers.clone(),
            began: began(held, report),
        }));
    }
    if report.networks != held.networks || report.uplinks != held.uplinks {
        events.push(Event::Networks(networks::Event::OnHost {
            host,
            uplinks: report.uplinks.clone(),
            networks: report.networks.clone(),
        }));
    }
    events
}

/// A host's own disks, with those that died since it was last heard.
fn disks(held: &Host, report: &HostReport) -> Event {
    let lived = |name: &str| {
        held.disks
            .iter()
            .any(|d| d.name == name && d.state != DiskState::Dead)
    };
    let dead = report
        .disks
        .iter()
        .filter(|d| d.state == DiskState::Dead && lived(&d.name));
    Event::Storage(storage::Event::Disks {
        host: held.id,
        disks: report.disks.clone(),
        dead: dead.map(|d| d.name.clone()).collect(),
    })
}

/// What volumes of hosts' own disks are made of and how whole they are; what was said earlier than what we hold is none.
fn pools(estate: &Estate, report: &HostReport) -> Vec<Event> {
    let changed = |seen: &SeenVolume| {
        let (pool, ours) = (seen.pool.as_ref()?, estate.volume_with_uid(&seen.uid)?);
        let by_serial = |serial: &String| {
            estate
                .hosts
                .values()
                .find(|h| h.hardware.serial == *serial)
                .map(|h| h.id)
        };
        let members = pool
            .members
            .iter()
            .filter_map(|(serial, share)| Some((by_serial(serial)?, share.clone())));
        let pooled = Pooled {
            copies: pool.copies,
            wait: pool.wait,
            members: members.collect(),
            health: pool.health,
        };
        let held = ours.pooled.as_ref();
        let news = held.is_none_or(|h| pooled.health.seq >= h.health.seq && !pooled.says_as(h));
        let turn = storage::PoolTurn::between(held.map(|h| &**h), &pooled);
        let (volume, pooled) = (ours.id, Box::new(pooled));
        news.then_some(Event::Storage(storage::Event::PoolSeen {
            volume,
            pooled,
            turn,
        }))
    };
    report.volumes.iter().filter_map(changed).collect()
}

fn mounts(estate: &Estate, host: &Host, report: &HostReport) -> Option<Event> {
    let mut mounts = BTreeMap::new();
    for seen in &report.volumes {
        if let Some(volume) = estate.volume_with_uid(&seen.uid) {
            mounts.insert(volume.id, seen.paths.clone());
        }
    }
    let same = mounts == host.mounts && report.initiator == host.initiator;
    (!same).then(|| {
        Event::Storage(storage::Event::Mounts {
            host: host.id,
            initiator: report.initiator.clone(),
            mounts,
        })
    })
}

/// A machine whose record was found on another volume than we hold, or on one that we hardly know yet.
fn moved_home(estate: &Estate, ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let volume = estate.volume_with_uid(&seen.volume)?.id;
    let same = ours.disks.iter().all(|d| d.volume == volume);
    (!same).then_some(Event::Machines(machines::Event::Home {
        machine: ours.id,
        volume,
    }))
}

/// The cards of a machine, with the networks of its cluster found by name.
fn nics(estate: &Estate, cluster: Option<ClusterId>, seen: &[NicReport]) -> Vec<Nic> {
    let networks = cluster.map(|c| estate.networks_of(c)).unwrap_or_default();
    let known = |name: &String| networks.iter().find(|n| n.name == *name).map(|n| n.id);
    seen.iter()
        .map(|n| Nic {
            mac: n.mac.clone(),
            network: n.network.as_ref().and_then(known),
            addresses: n.addresses.clone(),
        })
        .collect()
}

fn nics_differ(estate: &Estate, ours: &Machine, seen: &MachineReport) -> Option<Event> {
    if seen.nics.is_empty() {
        return None;
    }
    let nics = nics(estate, ours.cluster, &seen.nics);
    (nics != ours.nics).then_some(Event::Machines(machines::Event::Nics {
        machine: ours.id,
        nics,
    }))
}

/// What it boots from, with the image found by what its volume calls it.
fn boot(estate: &Estate, seen: &BootReport) -> Boot {
    let image = seen.image.and_then(|uuid| estate.image_with_uuid(&uuid));
    Boot {
        attached: image.map(|i| Attached {
            image: i.id,
            volume: i.volume,
        }),
        order: seen.order.clone(),
        once: seen.once,
    }
}

/// A machine that boots otherwise than we hold, unless a run is about to write just that.
fn boot_differs(
    estate: &Estate,
    runs: &Runs,
    ours: &Machine,
    seen: &MachineReport,
) -> Option<Event> {
    let boot = boot(estate, seen.boot.as_ref()?);
    let differs = boot != ours.boot && seen.generation >= ours.generation;
    (differs && !runs.will_change(Object::Machine(ours.id))).then_some(Event::Machines(
        machines::Event::Boot {
            machine: ours.id,
            boot,
        },
    ))
}

/// With what it runs, unless a run is about to change that.
fn now_differs(runs: &Runs, ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let (now, grows) = (seen.now?, seen.grows.unwrap_or_default());
    let differs = ours.runs_with() != now || ours.grows != grows;
    let (machine, now) = (ours.id, Box::new(now));
    (differs && !runs.will_change(Object::Machine(machine))).then_some(Event::Machines(
        machines::Event::Runs {
            machine,
            now,
            grows,
        },
    ))
}

/// Its guest says what came of its first boot.
fn first_boot(ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let (told, applied) = (ours.first_boot.as_ref()?, seen.first_boot.as_ref()?);
    let news = seen.generation >= ours.generation && told.applied.as_ref() != Some(&**applied);
    news.then(|| {
        Event::Machines(machines::Event::Applied {
            machine: ours.id,
            applied: applied.clone(),
        })
    })
}

/// What it boots with, and what its chip holds, is otherwise than we hold.
fn firmware(ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let told = seen.firmware.as_ref()?;
    let differs = ours.firmware.as_ref() != Some(told) && seen.generation >= ours.generation;
    differs.then(|| {
        Event::Machines(machines::Event::Firmware {
            machine: ours.id,
            firmware: told.clone(),
        })
    })
}

/// Its guest was told that it is not what it was.
fn anew(ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let told = seen.generation_id?;
    let differs = ours.generation_id != Some(told) && seen.generation >= ours.generation;
    differs.then_some(Event::Machines(machines::Event::Anew {
        machine: ours.id,
        generation_id: told,
    }))
}

/// Snapshots other than those that we hold, unless a run is about to change them. Until when each is kept only we know.
fn snapshots_differ(runs: &Runs, ours: &Machine, seen: &MachineReport) -> Option<Event> {
    let seen = seen.snapshots.as_ref()?;
    let mut there = seen.clone();
    for snapshot in &mut there.all {
        if let Some(known) = ours.snapshots.get(snapshot.uuid) {
            snapshot.ends = known.ends;
            snapshot.note.clone_from(&known.note);
        }
    }
    let differs = *there != *ours.snapshots && !runs.will_change(Object::Machine(ours.id));
    differs.then_some(Event::Snapshots(snapshots::Event::Seen {
        machine: ours.id,
        snapshots: there,
    }))
}

/// Where a machine runs is decided by the generation of its run lease, never by arrival order.
fn differs(ours: &Machine, as_of: AsOf, seen: &MachineReport) -> Option<Event> {
    let host = as_of.host;
    if seen.generation < ours.generation {
        return None;
    }
    let same =
        ours.state == seen.state && ours.host == Some(host) && ours.generation == seen.generation;
    (!same).then(|| {
        Event::Machines(machines::Event::Seen {
            machine: ours.id,
            state: seen.state.clone(),
            host: Some(host),
            generation: seen.generation,
            as_of: Some(as_of),
        })
    })
}

/// A machine that we hold on this host and that the host doesn't name is off, unless it is only arriving. `fell`: when
/// its host was first seen after it went down, or said that it ended it; else whoever uses the machine stopped it from inside, and it shall be off.
fn stopped(runs: &Runs, machine: &Machine, as_of: AsOf, fell: Option<Moment>) -> Vec<Event> {
    // A planned one was never seen, and one that is off can't stop.
    if machine.is_off() || runs.holds(Object::Machine(machine.id)) {
        return vec![];
    }
    let id = machine.id;
    let off = machines::Event::Seen {
        machine: id,
        state: MachineState::Off,
        host: None,
        generation: machine.generation,
        as_of: Some(as_of),
    };
    let events = match (fell, machine.wanted) {
        (Some(at), Wanted::On) => vec![machines::Event::Fell {
            machine: id,
            host: as_of.host,
            at,
        }],
        (None, Wanted::On) => vec![
            off,
            machines::Event::Wanted {
                machine: id,
                wanted: Wanted::Off,
                host: None,
            },
        ],
        (_, Wanted::Off) => vec![off],
    };
    events.into_iter().map(Event::Machines).collect()
}

/// A machine that was there before us, with everything that its host knows of it.
pub fn adopt(estate: &Estate, host: &Host, seen: &MachineReport, now: Moment) -> Machine {
    let off = seen.state == MachineState::Off;
    // Not connected yet: known when it is.
    let volume = estate
        .volume_with_uid(&seen.volume)
        .map_or(crate::ids::VolumeId(0), |v| v.id);
    let mut found = Machine {
        pledged: None,
        id: UNNUMBERED,
        uuid: seen.uuid,
        name: seen.name.clone(),
        cluster: host.cluster,
        host: (!off).then_some(host.id),
        arriving: None,
        moved: None,
        snapshots: seen.snapshots.clone().unwrap_or_default(),
        parent: None,
        made_from: String::new(),
        must: vec![],
        proves: None,
        replica: None,
        crossed: None,
        was: vec![],
        points: vec![],
        first_boot: None,
        properties: Default::default(),
        firmware: seen.firmware.clone(),
        of_pool: None,
        console_lock: None,
        shares: sharing::shares(estate, seen.shares.as_deref().unwrap_or_default()),
        vcpus_max: seen.vcpus_max,
        now: None,
        grows: seen.grows.unwrap_or_default(),
        state: seen.state.clone(),
        wanted: if off { Wanted::Off } else { Wanted::On },
        vcpus: seen.vcpus,
        memory: seen.memory,
        video: seen.video,
        disks: disks::of(&seen.disks, volume),
        nics: nics(estate, host.cluster, &seen.nics),
        boot: seen
            .boot
            .as_ref()
            .map_or_else(Boot::default, |b| boot(estate, b)),
        labels: seen.labels.clone(),
        tier: seen.tier,
        restarts: true,
        after: None,
        carries: false,
        protected: seen.protected,
        apart: seen.apart.clone(),
        generation: seen.generation,
        as_of: None,
        generation_id: seen.generation_id,
        guest_key: seen.guest_key.clone(),
        deleted: None,
        note: seen.note.clone(),
        found_as: None,
        entered: None,
        fell: None,
        virtual_hardware: seen.virtual_hardware,
        created: if seen.created.0 > 0 {
            seen.created
        } else {
            now
        },
    };
    found.runs(seen.now.filter(|_| !off));
    found
}

/// What a found machine is numbered until [`settle_adopted`] numbers it.
const UNNUMBERED: MachineId = MachineId(0);

/// Gives machines that a device found (number 0) their numbers, and leaves out those that are known already.
pub fn settle_adopted(estate: &Estate, events: Vec<Event>) -> Vec<Event> {
    let mut next = estate.next.max(1);
    let mut names = BTreeSet::new();
    let mut settled = Vec::with_capacity(events.len());
    for event in events {
        match event {
            Event::Images(images::Event::Adopted(mut image)) => {
                if estate.image_with_uuid(&image.uuid).is_some() {
                    continue;
                }
                image.id = ImageId(next);
                next += 1;
                if estate.image_named(&image.name).is_some() {
                    image.name = format!("{} {}", image.name, image.id.0);
                }
                settled.push(Event::Images(images::Event::Adopted(image)));
            }
            Event::Machines(machines::Event::Adopted(mut machine)) => {
                if estate.machine_with_uuid(&machine.uuid).is_some() {
                    continue;
                }
                machine.id = MachineId(next);
                next += 1;
                if !names.insert(machine.name.clone())
                    || estate.machine_named(&machine.name).is_some()
                {
                    let found = machine.name.clone();
                    machine.name = format!("{found}-{}", machine.id.0);
                    machine.found_as = Some(found);
                }
                settled.push(Event::Machines(machines::Event::Adopted(machine)));
            }
            other => settled.push(other),
        }
    }
    settled
}
