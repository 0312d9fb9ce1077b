//! Where the replica of a machine is, or comes to be.

use super::{Draft, Event, Step};
use crate::{
    estate::{Disk, End, FirmwareWish, Job, Machine, Memory, MachineState, Nic, Provisioning, Replica, Road, Twin, Volume},
    ids::{ClusterId, HostId, VolumeId, draw_uuid},
    rooms::{
        machines::{self, CreateMachines, NewDisk, NewNic},
        replicas::Onto,
    },
    units::Bytes,
};
use std::{collections::BTreeMap, sync::Arc};

/// What is needed to bring a replica up to date.
pub(super) struct Place {
    pub(super) replica: Arc<Machine>,
    pub(super) to: HostId,
    pub(super) volume: VolumeId,
    pub(super) disks: Vec<Onto>,
    /// The steps that make it, where it is not there yet.
    pub(super) made: Vec<usize>,
}

/// Room that is left on volumes, less what this run brings.
pub(crate) type Free = BTreeMap<VolumeId, Bytes>;

/// # Errors
/// Why it can't be replicated now, in words.
pub(super) fn of(draft: &mut Draft<'_>, (job, road): (&Job, Road<'_>), machine: &Arc<Machine>, bytes: Bytes, free: &mut Free) -> Result<Place, String> {
    let there = draft.estate().replica_over(road.pair.id, machine.uuid).cloned();
    let Some(replica) = there else { return made(draft, (job, road), machine, bytes, free) };
    let name = &replica.name;
    if replica.state == MachineState::Planned {
        return Err(format!("{name} is still being made."));
    }
    if replica.replica.as_ref().is_some_and(|r| r.astray) {
        return Err(format!("{name} is kept aside as it was when it was superseded, until somebody takes it up again or deletes it."));
    }
    let home = replica.disks.first().map(|d| d.volume).ok_or_else(|| format!("{name} has no disks."))?;
    let (volume, to) = taker(draft, road, machine, home)?;
    room(&volume, bytes, free)?;
    let disks = onto(draft, (job, machine), &replica, home);
    Ok(Place {
        to,
        volume: home,
        disks,
        replica,
        made: vec![],
    })
}

/// A carrier that reaches the volume; which one differs by machine, so that none has all the work.
fn taker(draft: &Draft<'_>, road: Road<'_>, machine: &Machine, volume: VolumeId) -> Result<(Arc<Volume>, HostId), String> {
    let estate = draft.estate();
    let site = road.to.site_name(estate);
    let Some(on) = estate.volumes.get(&volume) else { return Err(format!("The volume of its replica at {site} is gone.")) };
    let able = road.takers(estate, volume);
    let n = usize::try_from(machine.id.0).unwrap_or(0).checked_rem(able.len());
    let to = n.and_then(|n| able.get(n)).copied();
    let none = || format!("No host that carries at {site} reaches {} now.", on.name);
    Ok((on.clone(), to.ok_or_else(none)?))
}

fn room(volume: &Volume, bytes: Bytes, free: &mut Free) -> Result<(), String> {
    let left = free.entry(volume.id).or_insert_with(|| volume.free());
    if bytes > *left {
        return Err(format!("{} has {left} free; {bytes} would come.", volume.name));
    }
    *left = left.less(bytes);
    Ok(())
}

/// Its disks as they will be: those of the original, with what it has of them already. Disks that the original has no more stay.
fn onto(draft: &mut Draft<'_>, (job, machine): (&Job, &Machine), replica: &Machine, home: VolumeId) -> Vec<Onto> {
    let one = |draft: &mut Draft<'_>, d: &Disk| {
        let own = replica.replica.as_ref().and_then(|r| r.twin(d.key));
        let had = own.and_then(|own| replica.disk(own)).map(|(_, disk)| *disk);
        let new = had.is_none();
        let disk = had.unwrap_or_else(|| {
            let number = draft.number();
            Disk {
                key: draw_uuid(draft.run().0, number, draft.now.0.unsigned_abs()),
                size: d.size,
                provisioning: Provisioning::Thin,
                volume: home,
            }
        });
        // It grows with it, and never shrinks.
        let disk = Disk { size: disk.size.max(d.size), ..disk };
        Onto { original: d.key, disk, new }
    };
    job.disks(machine).map(|d| one(draft, d)).collect()
}

/// A replica that is made first, off, with empty disks.
fn made(draft: &mut Draft<'_>, (job, road): (&Job, Road<'_>), machine: &Arc<Machine>, bytes: Bytes, free: &mut Free) -> Result<Place, String> {
    let estate = draft.estate();
    let site = road.to.site_name(estate);
    let cluster = machine.cluster.and_then(|c| road.to.clusters.get(&c)).copied();
    let cluster = cluster.ok_or_else(|| format!("The pair says no cluster at {site} for it."))?;
    let mut part = draft.beside::<machines::Step>(draft.view);
    machines::create(&mut part, &wanted(draft, (job, road), machine, cluster));
    if let Some(why) = part.findings().iter().find(|f| f.stops()) {
        return Err(format!("No replica can be made at {site}: {}", why.text));
    }
    let planned = part.intents().find_map(|e| {
        let machines::Event::Planned(planned) = e else { return None };
        Some((**planned).clone())
    });
    let Some(mut planned) = planned else { return Err(format!("No replica can be made at {site}.")) };
    let home = planned.disks.first().map(|d| d.volume).unwrap_or(VolumeId(0));
    let (volume, to) = taker(draft, road, machine, home)?;
    room(&volume, bytes, free)?;
    become_replica(&mut planned, (job, road), machine);
    let onto = job.disks(machine).zip(&planned.disks);
    let disks = onto.map(|(d, own)| Onto { original: d.key, disk: *own, new: false }).collect();
    part.leave_out(|f| f.stops());
    let replica = planned.clone();
    let marks = move |event: machines::Event| {
        let is_its = matches!(event, machines::Event::Planned(_));
        Event::Machine(if is_its { machines::Event::Planned(Box::new(planned.clone())) } else { event })
    };
    let made = draft.take_in(part, &[], |f| f, (Step::Machine, marks)).collect();
    Ok(Place {
        replica: Arc::new(replica),
        to,
        volume: home,
        disks,
        made,
    })
}

fn become_replica(planned: &mut Machine, (job, road): (&Job, Road<'_>), machine: &Machine) {
    for (own, original) in planned.nics.iter_mut().zip(&machine.nics) {
        own.network = original.network.and_then(|n| road.to.networks.get(&n)).copied();
        own.addresses = vec![];
    }
    let twin = |(original, own): (&Disk, &Disk)| Twin { original: original.key, own: own.key };
    planned.replica = Some(Box::new(Replica {
        of: machine.uuid,
        name: machine.name.clone(),
        pair: road.pair.id,
        astray: false,
        disks: job.disks(machine).zip(&planned.disks).map(twin).collect(),
        points: vec![],
    }));
    planned.restarts = false;
}

/// On the volume that the pair says, else where the same is offered.
fn wanted(draft: &Draft<'_>, (job, road): (&Job, Road<'_>), machine: &Machine, cluster: ClusterId) -> CreateMachines {
    let estate = draft.estate();
    let own = machine.disks.first().and_then(|d| estate.volumes.get(&d.volume));
    let mapped = own.and_then(|v| road.to.volumes.get(&v.id)).copied();
    let qualities = own.filter(|_| mapped.is_none()).map(|v| v.qualities.clone());
    let disk = |d: &Disk| NewDisk { size: d.size, provisioning: Provisioning::Thin };
    let size = machine.memory.size;
    CreateMachines {
        pattern: name(draft, machine, road.to).into(),
        count: 1,
        cluster: Some(cluster),
        qualities: qualities.unwrap_or_default(),
        pledge: None,
        volume: mapped,
        host: None,
        vcpus: machine.vcpus,
        memory: Memory { kept: machine.memory.kept, size, max: machine.memory.max },
        disks: job.disks(machine).map(disk).collect(),
        nics: machine.nics.iter().map(|_: &Nic| NewNic { network: None, address: None }).collect(),
        copied: None,
        taken: None,
        firmware: FirmwareWish { kind: machine.firmware.as_ref().map(|f| f.kind), chip: None },
        image: None,
        first_boot: None,
        document: None,
        labels: Default::default(),
        tier: 4,
        protected: false,
        apart: false,
        note: format!("It follows {}.", machine.name).as_str().into(),
        start: false,
    }
}

/// `ledger-hilltop`, or with a number that is not taken.
fn name(draft: &Draft<'_>, machine: &Machine, to: &End) -> String {
    let estate = draft.estate();
    names(machine, &to.site_name(estate)).find(|n| estate.machine_named(n).is_none()).unwrap_or_default()
}

/// `ledger-hilltop`, and the same with numbers: what is of a machine at a site.
pub(crate) fn names(machine: &Machine, site: &str) -> impl Iterator<Item = String> + use<> {
    let site: String = site.to_lowercase().chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).collect();
    let site = site.trim_matches('-');
    let site = if site.is_empty() { "replica" } else { site };
    let of: String = machine.name.chars().take(40).collect();
    let site: String = site.chars().take(16).collect();
    let usual = format!("{of}-{site}");
    std::iter::once(usual).chain((2u32..).map(move |n| format!("{of}-{site}-{n}")))
}
