//! How the devices of a scenario are made the first time: hosts with certificates, arrays with volumes, switches with a
//! port for each host, machines with their records.

use crate::{
    rooms::hosts::host::{Cpu, Host, Identity},
    rooms::machines::firmware::Chip,
    rooms::machines::guest::{Guest, hash},
    rooms::networks::network::{Nic, Port, Switch, Uplink},
    rooms::sharing::disk::{Share, SharedDisk},
    rooms::snapshots::blocks::Written,
    rooms::storage::array::{Array, ArrayKind, Controller, Lun, Portal},
    rooms::storage::volume::{Boot, Disk, Lease, Memory, OURS, Record, Temper, Volume},
    rooms::timing::ADRIFT_MS,
    scenario::{Scenario, ScenarioArray, ScenarioHost, ScenarioMachine, ScenarioSwitch},
    world::State,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    io,
};

const GIB: u64 = 1 << 30;

pub(crate) fn identity(name: &str) -> io::Result<Identity> {
    let made = || {
        let key = rcgen::KeyPair::generate()?;
        let certificate =
            rcgen::CertificateParams::new(vec![name.to_owned()])?.self_signed(&key)?;
        Ok::<_, rcgen::Error>(Identity {
            certificate: certificate.pem(),
            key: key.serialize_pem(),
        })
    };
    made().map_err(io::Error::other)
}

/// A host's name as an initiator (RFC 3720, section 3.2.6.3.1).
pub(crate) fn iqn(host: &str) -> String {
    format!("iqn.2026-01.net.example.skarholm:{host}")
}

pub(crate) fn make_arrays(state: &mut State, scenario: &Scenario, net: &str) -> io::Result<()> {
    let all: u64 = scenario.volumes.iter().map(|v| v.capacity_gib).sum();
    let shelf = ScenarioArray {
        name: "shelf".into(),
        kind: ArrayKind::Block,
        addresses: vec!["250.1".into(), "250.2".into()],
        portals: vec!["250.11".into(), "250.12".into()],
        pools: BTreeMap::from([("main".into(), all + 10_000)]),
        classes: BTreeMap::new(),
    };
    let alone = [shelf];
    let arrays = if scenario.arrays.is_empty() {
        &alone[..]
    } else {
        &scenario.arrays
    };
    for array in arrays {
        let made = make_array(array, net)?;
        state.arrays.insert(array.name.clone(), made);
    }
    for volume in &scenario.volumes {
        let signature = match volume.signature.as_deref() {
            None => Some(OURS.to_owned()),
            Some("blank") => None,
            Some(other) => Some(other.to_owned()),
        };
        let capacity = volume.capacity_gib * GIB;
        let made = Volume {
            uid: volume.uid.clone(),
            name: volume.name.clone(),
            capacity,
            signature,
            ..Volume::default()
        };
        state.volumes.insert(volume.uid.clone(), made);
        let name = if volume.array.is_empty() {
            &arrays[0].name
        } else {
            &volume.array
        };
        if let Some(array) = state.arrays.get_mut(name) {
            let pool = if volume.pool.is_empty() {
                array.pools.keys().next().cloned().unwrap_or_default()
            } else {
                volume.pool.clone()
            };
            let id = array.number();
            let lun = Lun {
                name: volume.name.clone(),
                uid: volume.uid.clone(),
                pool,
                capacity,
                thin: true,
                description: String::new(),
            };
            array.luns.insert(id, lun);
        }
    }
    Ok(())
}

pub(crate) fn make_array(array: &ScenarioArray, net: &str) -> io::Result<Array> {
    let controller = |last: &String| {
        Ok(Controller {
            address: format!("{net}.{last}:8443"),
            identity: identity(&array.name)?,
            up: true,
        })
    };
    let port = match array.kind {
        ArrayKind::Block => 3260,
        ArrayKind::File => 2049,
    };
    Ok(Array {
        name: array.name.clone(),
        kind: array.kind,
        serial: format!("TS{:010X}", hash(&array.name) & 0xff_ffff_ffff),
        controllers: array
            .addresses
            .iter()
            .map(controller)
            .collect::<io::Result<_>>()?,
        password: "first-light".into(),
        portals: array
            .portals
            .iter()
            .map(|last| Portal {
                address: format!("{net}.{last}:{port}"),
                up: true,
            })
            .collect(),
        pools: array
            .pools
            .iter()
            .map(|(n, g)| (n.clone(), g * GIB))
            .collect(),
        luns: BTreeMap::new(),
        initiators: BTreeMap::new(),
        connections: BTreeMap::new(),
        effects: BTreeMap::new(),
        classes: array.classes.clone(),
        next: 0,
        slow: 0,
        lapsed: false,
    })
}

/// Lets an initiator reach a volume, as it was before anybody came.
pub(crate) fn offer(state: &mut State, iqn: &str, uid: &str) {
    for array in state.arrays.values_mut() {
        if let Some(id) = array.lun_with(uid).map(|(id, _)| id.clone()) {
            array.map(&id, iqn);
        }
    }
}

/// A host that something is offered to is logged in on all portals of that array.
pub(crate) fn log_in_everywhere(state: &mut State, host: &str) {
    let State { hosts, arrays, .. } = state;
    let Some(host) = hosts.get_mut(host) else {
        return;
    };
    for array in arrays.values() {
        if array.luns.keys().any(|lun| array.maps(lun, &host.iqn)) {
            host.logins
                .extend(array.portals.iter().map(|p| p.address.clone()));
        }
    }
}

pub(crate) fn make_host(host: &ScenarioHost, net: &str) -> io::Result<Host> {
    let (third, fourth) = host.address.split_once('.').unwrap_or((&host.address, "1"));
    let controllers: u32 = third.parse::<u32>().unwrap_or(1) + 100;
    Ok(Host {
        name: host.name.clone(),
        address: format!("{net}.{third}.{fourth}:7443"),
        bmc_address: format!("{net}.{controllers}.{fourth}:8443"),
        maker: host.maker.clone(),
        model: host.model.clone(),
        serial: format!("SN{:010X}", hash(&host.name) & 0xff_ffff_ffff),
        cpu: Cpu {
            maker: host.cpu_maker.clone(),
            model: host.cpu_model.clone(),
            level: host.cpu_level.clone(),
            sockets: host.sockets,
            cores: host.cores,
            base_mhz: host.base_mhz,
        },
        memory: host.memory_gib * GIB,
        local: crate::rooms::storage::pools::disks(host),
        software: host.software.clone(),
        virtualization: host.virtualization,
        // A clock that nobody ever set.
        clock_offset_ms: match host.bare {
            true => ADRIFT_MS,
            false => host.clock_offset_ms,
        },
        time: vec![],
        iqn: iqn(&host.name),
        uplinks: Vec::new(),
        unoffered: false,
        ended: BTreeMap::new(),
        fell: BTreeSet::new(),
        networks: BTreeMap::new(),
        logins: BTreeSet::new(),
        cut: BTreeSet::new(),
        identity: identity(&host.name)?,
        bmc_identity: identity(&format!("{}-bmc", host.name))?,
        password: "first-light".into(),
        wrong_passwords: 0,
        claimed_with: None,
        owner: None,
        bmc_password: "first-light".into(),
        power: !host.bare,
        bare: crate::rooms::installing::bare::Bare {
            empty: host.bare,
            leftovers: host.leftovers.clone(),
            quirk: host.quirk,
            ..Default::default()
        },
        hung: false,
        stalled: false,
        watchdog: true,
        lease: Default::default(),
        deceit: Default::default(),
        bmc_sessions: Default::default(),
        bmc_told: vec![],
        keepers: Default::default(),
        keepers_run: Default::default(),
        bmc_silent: false,
        boot: 1,
        cluster: None,
        mounted: host.volumes.iter().cloned().collect(),
        guests: BTreeMap::new(),
        answers: BTreeMap::new(),
        effects: BTreeMap::new(),
        fence: 0,
        fences: BTreeMap::new(),
        seen: Default::default(),
        console: Default::default(),
        kept: Default::default(),
    })
}

pub(crate) fn place(state: &mut State, machine: &ScenarioMachine, now: i64) {
    let named = |v: &Volume| v.records.values().any(|r| r.name == machine.name);
    // Machines of the same name, under different managers, are not the same.
    let seed = match state.volumes.values().any(named) {
        true => hash(&format!("{} on {}", machine.name, machine.volume)),
        false => hash(&machine.name),
    };
    let uuid = uuid::Builder::from_random_bytes(
        ((u128::from(seed) << 64) | u128::from(hash(&seed.to_string()))).to_be_bytes(),
    )
    .into_uuid()
    .to_string();
    let size = machine.memory_gib * GIB;
    let b = seed.to_be_bytes();
    let mut record = Record {
        name: machine.name.clone(),
        vcpus: machine.vcpus,
        vcpus_max: machine.vcpus * 2,
        memory: Memory {
            kept: machine.kept_gib.map_or(size, |g| g * GIB),
            size,
            max: size,
        },
        video: 16 << 20,
        disks: disks(machine, seed),
        nics: vec![Nic {
            mac: format!("02:5a:{:02x}:{:02x}:{:02x}:{:02x}", b[2], b[3], b[4], b[5]),
            network: machine.network.clone(),
            addresses: machine.address.clone().into_iter().collect(),
        }],
        boot: Boot::default(),
        seed: None,
        first_boot: None,
        filled: None,
        labels: machine.labels.clone(),
        tier: machine.tier,
        apart: machine.apart.clone(),
        protected: machine.protected,
        note: machine.note.clone(),
        virtual_hardware: 3,
        generation_id: disk_key(seed, 0),
        guest_key: format!(
            "{:016x}{:016x}{:016x}{:016x}",
            seed,
            !seed,
            seed.rotate_left(9),
            seed.rotate_left(23)
        ),
        created: now - i64::from(machine.age_days) * 86_400_000,
        deleted: false,
        lease: Lease {
            generation: u64::from(machine.host.is_some()),
            holder: machine.host.clone(),
        },
        temper: Temper {
            busy: machine.busy,
            agent: machine.agent,
            stubborn: machine.stubborn,
            slow: machine.slow,
            stiff: false,
        },
        chain: None,
        copied: None,
        whole: None,
        shares: vec![],
        firmware: Default::default(),
    };
    given(state, machine, &mut record, seed);
    let record = crate::rooms::snapshots::with(record, &machine.snapshots, seed, now);
    if let Some(volume) = state.volumes.get_mut(&machine.volume) {
        volume.records.insert(uuid.clone(), record);
    }
    if let Some(host) = machine.host.as_ref().and_then(|h| state.hosts.get_mut(h)) {
        let started = now - i64::from(machine.age_days) * 86_400_000;
        host.guests.insert(
            uuid,
            Guest::started(machine.volume.clone(), 1, started, "disk".into()),
        );
    }
}

/// Every host's two uplinks lead to the two switches of its site.
pub(crate) fn make_switches(state: &mut State, scenario: &Scenario, net: &str) -> io::Result<()> {
    let third = |address: &str| address.split('.').next().unwrap_or("1").to_owned();
    let plain: Vec<ScenarioSwitch> = scenario
        .hosts
        .iter()
        .map(|h| third(&h.address))
        .collect::<BTreeSet<_>>()
        .into_iter()
        .flat_map(|site| {
            [1, 2].map(|n| ScenarioSwitch {
                name: format!("switch-{site}-{n}"),
                address: format!("{site}.{}", 220 + n),
                uplink: n,
                also: None,
                vlans: (2..=400).collect(),
                mtu: 9216,
                mistakes: vec![],
            })
        })
        .collect();
    let switches = if scenario.switches.is_empty() {
        &plain
    } else {
        &scenario.switches
    };
    for made in switches {
        let site = third(&made.address);
        let mut ports = BTreeMap::new();
        for (i, host) in scenario.hosts.iter().enumerate() {
            if third(&host.address) != site {
                continue;
            }
            for (n, leads) in made.uplinks().enumerate() {
                let (name, uplink) = (
                    format!("eth{:03}", n * 100 + i + 1),
                    format!("uplink-{leads}"),
                );
                let mistake = made.mistakes.iter().find(|m| m.host == host.name);
                let without = mistake.map(|m| m.without.as_slice()).unwrap_or_default();
                let tagged = made.vlans.iter().filter(|v| !without.contains(v)).copied();
                let port = Port {
                    up: true,
                    mtu: mistake.and_then(|m| m.mtu).unwrap_or(made.mtu),
                    untagged: 1,
                    tagged: tagged.collect(),
                    neighbour: (host.name.clone(), uplink.clone()),
                };
                if let Some(host) = state.hosts.get_mut(&host.name) {
                    let b = hash(&format!("{}{uplink}", host.name)).to_be_bytes();
                    host.uplinks.push(Uplink {
                        name: uplink,
                        mac: format!(
                            "06:{:02x}:{:02x}:{:02x}:{:02x}:{:02x}",
                            b[0], b[1], b[2], b[3], b[4]
                        ),
                        mbit: 25_000,
                        up: true,
                        switch: made.name.clone(),
                        port: name.clone(),
                    });
                }
                ports.insert(name, port);
            }
        }
        let switch = Switch {
            name: made.name.clone(),
            address: format!("{net}.{}:8443", made.address),
            identity: identity(&made.name)?,
            password: "first-light".into(),
            up: true,
            ports,
        };
        state.switches.insert(made.name.clone(), switch);
    }
    for host in state.hosts.values_mut() {
        host.uplinks.sort_by(|a, b| a.name.cmp(&b.name));
    }
    Ok(())
}

/// Its chip with the key of its disk, and the disks that it shares.
fn given(state: &mut State, machine: &ScenarioMachine, record: &mut Record, seed: u64) {
    if machine.sealed {
        record.firmware.secure_boot = true;
        record.firmware.chip = Some(Chip {
            id: disk_key(seed, 99),
            keys: vec![],
        });
        record.encrypt(seed);
    }
    let shares = machine.shares_gib.iter().zip(0..);
    for ((name, gib), unit) in shares {
        record
            .shares
            .push(share(state, &machine.volume, (name, *gib), unit));
    }
}

/// How a machine has a disk that others have too; the disk is made for the first of them.
fn share(state: &mut State, volume: &str, (name, gib): (&str, u64), unit: u8) -> Share {
    let key = disk_key(hash(name), 0);
    if let Some(volume) = state.volumes.get_mut(volume) {
        let plain = Disk {
            key,
            size: gib * GIB,
            thick: false,
            written: 0,
            lock: 0,
        };
        let made = || SharedDisk::new(plain, Written::default(), name.to_owned(), (1, unit));
        volume.shared.disks.entry(key).or_insert_with(made);
        volume.shared.seq += 1;
    }
    Share {
        volume: volume.to_owned(),
        disk: key,
        controller: 1,
        unit,
        mode: Share::mode(true).to_owned(),
    }
}

/// The identity of a machine's disk.
fn disk_key(seed: u64, number: u64) -> uuid::Uuid {
    let drawn = (u128::from(seed) << 64) | u128::from(seed ^ number.wrapping_mul(0x9e37_79b9));
    uuid::Builder::from_random_bytes(drawn.to_be_bytes()).into_uuid()
}

/// Its disks, a third to two thirds full where nothing else is said.
fn disks(machine: &ScenarioMachine, seed: u64) -> Vec<Disk> {
    let disk = |(g, n): (&u64, u64)| Disk {
        key: disk_key(seed, n),
        size: g * GIB,
        thick: false,
        written: machine
            .written_mib
            .map_or(g * GIB / 100 * (30 + seed % 40), |mib| {
                (mib << 20).min(g * GIB)
            }),
        lock: 0,
    };
    machine.disks_gib.iter().zip(1u64..).map(disk).collect()
}
