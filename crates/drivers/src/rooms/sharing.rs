//! Shared disks: on their volume, and at the host of each machine that has them.

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, Changed, NewShared},
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
        match step {
            Step::Make { .. } | Step::End { .. } => on_volume(&agent, estate, step, turn).await,
            Step::Give { .. } | Step::Take { .. } => on_machine(&agent, estate, step, turn).await,
        }
    }
}

fn name(estate: &Estate, disk: Uuid) -> String {
    let known = estate.shared_disk(disk);
    known.map_or_else(|| disk.to_string(), |(_, d)| d.name.clone())
}

async fn on_volume(
    agent: &Agent<'_>,
    estate: &Estate,
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
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
            let told = Told::Made {
                volume: volume.id,
                disk: *disk,
                name: name.clone(),
            };
            Ok(settled(volume, said, told))
        }
        Step::End { volume, disk, .. } => {
            let volume = volume_of(estate, *volume)?;
            let said = agent.end_shared(stamp(turn), &volume.uid, disk).await?;
            let told = Told::Ended {
                volume: volume.id,
                disk: *disk,
                name: name(estate, *disk),
            };
            Ok(settled(volume, said, told))
        }
        Step::Give { .. } | Step::Take { .. } => Err(premise("That is done at a machine.")),
    }
}

async fn on_machine(
    agent: &Agent<'_>,
    estate: &Estate,
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let (machine, volume, disk) = match step {
        Step::Give {
            machine,
            volume,
            disk,
            ..
        }
        | Step::Take {
            machine,
            volume,
            disk,
            ..
        } => (
            machine_of(estate, *machine)?,
            volume_of(estate, *volume)?,
            *disk,
        ),
        Step::Make { .. } | Step::End { .. } => return Err(premise("That is done on a volume.")),
    };
    let (said, what) = if let Step::Give { slot, .. } = step {
        let said = agent
            .give_shared(stamp(turn), &machine.uuid, &volume.uid, &disk, *slot)
            .await?;
        (said, Done::Given)
    } else {
        let said = agent.take_shared(stamp(turn), &machine.uuid, &disk).await?;
        (said, Done::Taken)
    };
    let name = name(estate, disk);
    Ok(changed(
        estate,
        step.via(),
        (machine, volume),
        said,
        (what, disk, name),
    ))
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
