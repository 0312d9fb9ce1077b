//! Shared disks: on their volume, and at the host of each machine that has them.

use crate::{
    Drivers, Outcome, Turn,
    agent::{Changed, NewShared},
    perform::{done, premise, stamp},
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Machine, Volume},
    ids::{HostId, MachineId, VolumeId},
    observe,
    rooms::{
        Event, hardware,
        sharing::{Done, Event as Told, Step},
    },
    runs::Fault,
};

impl Drivers {
    pub(crate) async fn at_sharing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let name = |disk: &Uuid| {
            estate
                .shared_disk(*disk)
                .map_or_else(|| disk.to_string(), |(_, d)| d.name.clone())
        };
        match step {
            Step::Make {
                volume,
                disk,
                name,
                size,
                provisioning,
                slot,
                kept,
                ..
            } => {
                let volume = volume_of(estate, *volume)?;
                let new = NewShared {
                    name,
                    size: *size,
                    provisioning: *provisioning,
                    slot: *slot,
                    kept: *kept,
                };
                let said = agent
                    .make_shared(stamp(turn), &volume.uid, disk, &new)
                    .await?;
                Ok(settled(
                    volume,
                    said,
                    Told::Made {
                        volume: volume.id,
                        disk: *disk,
                        name: name.clone(),
                    },
                ))
            }
            Step::End { volume, disk, .. } => {
                let volume = volume_of(estate, *volume)?;
                let said = agent.end_shared(stamp(turn), &volume.uid, disk).await?;
                Ok(settled(
                    volume,
                    said,
                    Told::Ended {
                        volume: volume.id,
                        disk: *disk,
                        name: name(disk),
                    },
                ))
            }
            Step::Give {
                machine,
                volume,
                disk,
                slot,
                ..
            } => {
                let (machine, volume) =
                    (machine_of(estate, *machine)?, volume_of(estate, *volume)?);
                let said = agent
                    .give_shared(stamp(turn), &machine.uuid, &volume.uid, disk, *slot)
                    .await?;
                Ok(changed(
                    estate,
                    host.id,
                    (machine, volume),
                    said,
                    (Done::Given, *disk, name(disk)),
                ))
            }
            Step::Take {
                machine,
                volume,
                disk,
                ..
            } => {
                let (machine, volume) =
                    (machine_of(estate, *machine)?, volume_of(estate, *volume)?);
                let said = agent.take_shared(stamp(turn), &machine.uuid, disk).await?;
                Ok(changed(
                    estate,
                    host.id,
                    (machine, volume),
                    said,
                    (Done::Taken, *disk, name(disk)),
                ))
            }
        }
    }
}

fn machine_of(estate: &Estate, id: MachineId) -> Result<&Machine, Fault> {
    let found = estate.machines.get(&id);
    found
        .map(|m| &**m)
        .ok_or_else(|| premise("The machine is gone."))
}

fn volume_of(estate: &Estate, id: VolumeId) -> Result<&Volume, Fault> {
    let found = estate.volumes.get(&id);
    found
        .map(|v| &**v)
        .ok_or_else(|| premise("The volume is gone."))
}

/// What lies on the volume afterwards.
fn left(volume: VolumeId, said: &mut Changed) -> Vec<Event> {
    let shared = said.shared.take().map(|all| {
        let all = Box::new(all.read());
        Event::Sharing(Told::Told { volume, all })
    });
    let unattached = said.unattached.take().map(|all| {
        let all = Box::new(all.read());
        Event::Hardware(hardware::Event::Unattached { volume, all })
    });
    shared.into_iter().chain(unattached).collect()
}

fn settled(volume: &Volume, mut said: Changed, told: Told) -> Outcome {
    let left = left(volume.id, &mut said);
    done(
        std::iter::once(Event::Sharing(told)).chain(left).collect(),
        "done",
    )
}

fn changed(
    estate: &Estate,
    via: HostId,
    (ours, volume): (&Machine, &Volume),
    mut said: Changed,
    (what, disk, name): (Done, Uuid, String),
) -> Outcome {
    let left = left(volume.id, &mut said);
    let told = said.machine.map(|seen| {
        let as_of = seen.as_of.map(|a| a.at(via));
        let shares = observe::shares(estate, seen.read().shares.as_deref().unwrap_or_default());
        Event::Sharing(Told::Changed {
            machine: ours.id,
            shares,
            // Off, it says nothing of its host.
            as_of: as_of.filter(|_| !ours.is_off()),
            done: what,
            disk,
            name,
        })
    });
    done(told.into_iter().chain(left).collect(), "done")
}
