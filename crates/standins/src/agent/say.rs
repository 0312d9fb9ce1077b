//! Values as they go over the wire.

use crate::{
    rooms::hosts::host::Host,
    rooms::machines::guest,
    rooms::machines::memory,
    rooms::storage::volume::{Record, Volume},
    world::State,
};
use serde_json::{Value, json};

pub(crate) fn greeting(state: &State, host: &Host) -> Value {
    let running: Vec<&str> = host
        .guests
        .iter()
        .filter_map(|(uuid, g)| {
            state
                .volumes
                .get(&g.volume)?
                .records
                .get(uuid)
                .map(|r| r.name.as_str())
        })
        .collect();
    json!({
        "protocol": 1, "name": host.name,
        "hardware": {
            "maker": host.maker, "model": host.model, "serial": host.serial,
            "cpu": {"maker": host.cpu.maker, "model": host.cpu.model, "level": host.cpu.level,
                    "sockets": host.cpu.sockets, "cores": host.cpu.cores, "threads": host.cpu.cores * 2,
                    "base_mhz": host.cpu.base_mhz},
            "memory_bytes": host.memory, "numa_nodes": host.cpu.sockets,
            "virtualization": host.virtualization, "virtual_hardware": 3
        },
        "software": host.software,
        "owner": host.owner.as_ref().map(|o| json!({"installation": o.installation, "name": o.name})),
        "machines": running,
        "bmc": host.bmc_address,
        "installed": installed(host)
    })
}

/// That it was installed from what somebody gave it, and how often it started on the way.
fn installed(host: &Host) -> Option<Value> {
    let pin = crate::server::pin_of(&host.identity.certificate)?;
    let proof = crate::rooms::installing::going::proof(&host.bare, &pin)?;
    Some(json!({"proof": proof, "starts": host.bare.starts}))
}

fn body(uuid: &str, volume: &str, record: &Record) -> Value {
    let (snapshots, rests_on) = crate::rooms::snapshots::told::snapshots(record);
    json!({
        "snapshots": snapshots, "rests_on": rests_on,
        "uuid": uuid, "volume": volume, "name": record.name, "generation": record.lease.generation, "vcpus": record.vcpus,
        "vcpus_max": record.vcpus_max.max(record.vcpus),
        "memory": {"kept": record.memory.kept, "size": record.memory.size, "max": record.memory.max},
        "video": record.video,
        "disks": record.disks.iter().map(|d| json!({"key": d.key, "size": d.size, "thick": d.thick})).collect::<Vec<_>>(),
        "nics": record.nics, "firmware": record.firmware_told(), "shares": record.shares, "boot": record.boot, "labels": record.labels, "tier": record.tier, "apart": record.apart,
        "protected": record.protected, "note": record.note, "virtual_hardware": record.virtual_hardware,
        "generation_id": record.generation_id, "guest_key": record.guest_key, "created_ms": record.created, "deleted": record.deleted
    })
}

/// A machine as this host sees it; `power` is `off` where it doesn't run here.
pub(crate) fn machine(state: &State, host: &Host, uuid: &str, now: i64) -> Option<Value> {
    let home = state.home(&host.name, uuid);
    let home = home.filter(|uid| host.mounted.contains(uid))?;
    let volume = state.volumes.get(&home)?;
    let record = volume.records.get(uuid)?;
    let mut said = body(uuid, &volume.uid, record);
    let phase = host
        .guests
        .get(uuid)
        .map_or("off", |g| g.phase(now, record.temper));
    let power = match phase {
        "off" => "off",
        "stopping" => "stopping",
        "paused" | "crashed" => "paused",
        _ => "on",
    };
    let why = host.guests.get(uuid).and_then(|g| g.paused.as_ref());
    said["power"] = power.into();
    said["phase"] = match phase {
        "crashed" => "its guest crashed",
        _ => why.map_or(phase, |(why, _)| why.as_str()),
    }
    .into();
    if let Some(running) = host.guests.get(uuid) {
        let size = running.now.unwrap_or_else(|| record.size());
        said["now"] = json!({"vcpus": size.vcpus, "vcpus_max": size.vcpus_max, "memory": {"kept": size.memory.kept,
            "size": size.memory.size, "max": size.memory.max}});
        let takes = phase == "up" && record.temper.agent && !record.temper.stiff;
        said["grows"] = json!({"memory": takes, "vcpus": takes});
    }
    let silent = |g: &guest::Guest| g.hung.is_some() || g.mute.is_some();
    let silent = host.guests.get(uuid).is_some_and(silent);
    if let Some(applied) = record.first_boot.as_ref().filter(|_| record.temper.agent) {
        said["first_boot"] =
            json!({"instance": applied.instance, "done": applied.done, "failed": applied.failed});
    }
    said["guest_answers"] = (phase == "up" && record.temper.agent && !silent).into();
    Some(said)
}

/// The same, with where in the host's sequence it is so: reports from before say nothing of it any more.
pub(crate) fn machine_now(state: &State, host: &Host, uuid: &str, now: i64) -> Option<Value> {
    let mut said = machine(state, host, uuid, now)?;
    said["as_of"] = json!({"boot": host.boot, "seq": crate::world::tick()});
    Some(said)
}

pub(crate) fn report(state: &State, host: &Host, now: i64) -> Value {
    let machines: Vec<Value> = host
        .guests
        .keys()
        .filter_map(|uuid| machine(state, host, uuid, now))
        .collect();
    let volumes: Vec<Value> = host
        .mounted
        .iter()
        .filter_map(|uid| state.volumes.get(uid))
        .map(|v| {
            json!({"uid": v.uid, "name": v.name, "capacity": v.capacity, "used": v.used(), "pool": state.pool_of(&v.uid, now),
                "unattached": v.unattached.told(), "records": v.records_sum(), "shared": v.shared.told(),
                "leases": reads(state, host, v),
                "lease_words": state.reaches(&host.name, &v.uid)
                    .then(|| crate::rooms::hosts::leases::words_on_volume(state, &v.uid)),
                "paths": crate::rooms::storage::calls::paths(state, &host.name, &v.uid)})
        })
        .collect();
    let (mut cpu, mut active) = (0, 0);
    let mut loads = serde_json::Map::new();
    for (uuid, running) in &host.guests {
        let Some(record) = state
            .volumes
            .get(&running.volume)
            .and_then(|v| v.records.get(uuid))
        else {
            continue;
        };
        let phase = running.phase(now, record.temper);
        let (mhz, bytes) = guest::load(record, uuid, phase, host.cpu.base_mhz, now);
        cpu += mhz;
        active += bytes;
        let writes = memory::writes(record, running.console.writes());
        let used: u64 = match &record.chain {
            Some(chain) => chain.bytes(),
            None => record.disks.iter().map(|d| d.written.min(d.size)).sum(),
        };
        // Measured within a tenth.
        let off = 950 + guest::hash(uuid) % 100;
        let (beats, moved) = running.pulse(now, record.temper).unzip();
        loads.insert(
            uuid.clone(),
            json!({"up_ms": now - running.started, "beats": beats, "moved": moved, "cpu_mhz": mhz, "active": bytes, "writes": {"dirty": writes.dirty / 1000 * off,
                "touched": writes.touched, "working_set": writes.hot},
                "disks": {"used": used, "writes": crate::rooms::moving::copying::writes(record, running.console.writes())}}),
        );
    }
    json!({"seen": host.seen, "watchdog": {"armed": host.watchdog && host.cluster.is_some()},
        "boot": host.boot, "seq": crate::world::tick(), "software": host.software, "initiator": host.iqn,
        "ended": host.fell, "uplinks": host.uplinks, "networks": host.networks,
        "disks": crate::rooms::storage::pools::own_disks(&host.local),
        "keepers": host.keepers_run.iter().map(|(c, keeps)| json!({"cluster": c, "keeps": keeps})).collect::<Vec<_>>(),
        "machines": machines, "volumes": volumes, "screens": screens(host),
        "load": {"cpu_mhz": cpu, "active": active, "machines": loads}
    })
}

/// The leases on a volume, if the host reaches it.
fn reads(state: &State, host: &Host, volume: &Volume) -> Option<Value> {
    let reached = state.reaches(&host.name, &volume.uid);
    reached.then(|| crate::rooms::hosts::leases::on_volume(state, &volume.uid))
}

/// The pictures of screens that were kept.
fn screens(host: &Host) -> Vec<Value> {
    let all = host.kept.iter();
    all.map(|(uuid, k)| json!({"uuid": uuid, "number": k.number, "why": k.why}))
        .collect()
}

/// The whole images of a volume.
pub(crate) fn images(volume: &Volume) -> Vec<Value> {
    let all = volume.images.iter();
    all.filter_map(|(id, i)| {
        let sum = i.sha256.as_ref()?;
        Some(json!({"id": id, "name": i.name, "size": i.size, "sha256": sum}))
    })
    .collect()
}

pub(crate) fn records(volume: &Volume) -> Vec<Value> {
    volume
        .records
        .iter()
        .map(|(uuid, record)| {
            let mut said = body(uuid, &volume.uid, record);
            said["running_on"] = record.lease.holder.clone().into();
            said
        })
        .collect()
}
