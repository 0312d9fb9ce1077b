//! Disks and cards, at the host that runs the machine or at one that reaches its volume.

use crate::{
    Drivers, Outcome, Turn,
    agent::{self, Agent, Changed},
    perform::{done, premise, stamp},
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Machine, Volume},
    ids::{HostId, MachineId, VolumeId},
    observe,
    rooms::{
        Event,
        hardware::{Card, Done, Event as Told, Step},
    },
    runs::Fault,
};

impl Drivers {
    pub(crate) async fn at_hardware(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let at = At {
            estate,
            via: host.id,
        };
        match step {
            Step::Add { machine, disk, .. } => {
                let machine = at.machine(*machine)?;
                let said = agent.add_disk(stamp(turn), &machine.uuid, disk).await?;
                Ok(at.changed(machine, None, said, Done::Added(disk.size)))
            }
            Step::Detach {
                machine,
                volume,
                disk,
                delete,
                ..
            } => {
                let machine = at.machine(*machine)?;
                let said = agent
                    .detach(stamp(turn), &machine.uuid, disk, *delete)
                    .await?;
                let what = if *delete {
                    Done::Deleted
                } else {
                    Done::Detached
                };
                Ok(at.changed(machine, Some(*volume), said, what))
            }
            Step::Attach {
                machine,
                volume,
                disk,
                ..
            } => {
                let machine = at.machine(*machine)?;
                let said = agent.attach(stamp(turn), &machine.uuid, disk).await?;
                Ok(at.changed(machine, Some(*volume), said, Done::Attached(*disk)))
            }
            Step::Cards { machine, cards, .. } => {
                let machine = at.machine(*machine)?;
                let said = write(&agent, estate, machine, cards, turn).await?;
                Ok(at.changed(machine, None, said, Done::Cards))
            }
            Step::Mark {
                volume,
                disk,
                deleted,
                ..
            } => {
                let volume = at.volume(*volume)?;
                let said = agent
                    .mark_disk(stamp(turn), &volume.uid, disk, *deleted)
                    .await?;
                let told = Told::Marked {
                    volume: volume.id,
                    had: had(volume, disk),
                    deleted: *deleted,
                };
                Ok(settled(volume, said, told))
            }
            Step::Purge { volume, disk, .. } => {
                let volume = at.volume(*volume)?;
                let said = agent.purge_disk(stamp(turn), &volume.uid, disk).await?;
                let told = Told::Purged {
                    volume: volume.id,
                    had: had(volume, disk),
                };
                Ok(settled(volume, said, told))
            }
        }
    }
}

async fn write(
    agent: &Agent<'_>,
    estate: &Estate,
    machine: &Machine,
    cards: &[Card],
    turn: Turn<'_>,
) -> Result<Changed, Fault> {
    let named = |c: &Card| {
        let network = c.network.and_then(|id| estate.networks.get(&id));
        network.map(|n| n.name.clone())
    };
    let card = |c: &Card| agent::Card {
        mac: c.mac.clone(),
        network: named(c),
        addresses: None,
    };
    let all: Vec<agent::Card> = cards.iter().map(card).collect();
    agent.cards(stamp(turn), &machine.uuid, &all).await
}

fn had(volume: &Volume, disk: &Uuid) -> String {
    let spare = volume.unattached.disks.get(disk);
    spare.map_or_else(|| "nobody".to_owned(), |d| d.had.clone())
}

/// What the volume has that no machine has, afterwards.
fn left(volume: VolumeId, said: &mut Changed) -> Option<Event> {
    let all = said.unattached.take()?;
    let all = Box::new(all.read());
    Some(Event::Hardware(Told::Unattached { volume, all }))
}

fn settled(volume: &Volume, mut said: Changed, told: Told) -> Outcome {
    let left = left(volume.id, &mut said);
    let events = std::iter::once(Event::Hardware(told)).chain(left);
    done(events.collect(), "done")
}

/// Where it is done.
struct At<'a> {
    estate: &'a Estate,
    via: HostId,
}

impl<'a> At<'a> {
    fn machine(&self, id: MachineId) -> Result<&'a Machine, Fault> {
        let found = self.estate.machines.get(&id);
        found
            .map(|m| &**m)
            .ok_or_else(|| premise("The machine is gone."))
    }
    fn volume(&self, id: VolumeId) -> Result<&'a Volume, Fault> {
        let found = self.estate.volumes.get(&id);
        found
            .map(|v| &**v)
            .ok_or_else(|| premise("The volume is gone."))
    }
    fn changed(
        &self,
        ours: &Machine,
        volume: Option<VolumeId>,
        mut said: Changed,
        what: Done,
    ) -> Outcome {
        let left = volume.and_then(|v| left(v, &mut said));
        let told = said.machine.map(|seen| {
            let as_of = seen.as_of.map(|a| a.at(self.via));
            let (disks, nics) = observe::hardware(self.estate, ours, &seen.read());
            Event::Hardware(Told::Changed {
                machine: ours.id,
                disks,
                nics,
                // Off, it says nothing of its host.
                as_of: as_of.filter(|_| !ours.is_off()),
                done: what,
            })
        });
        // Told before the disk is unattached no more, so that it has a name.
        done(told.into_iter().chain(left).collect(), "done")
    }
}
