//! Records on volumes: read, made a machine's, or taken away, by a host that mounts the volume.

use crate::{
    Drivers, Outcome, Turn,
    agent::Agent,
    perform::{done, premise, stamp},
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, Host, Volume},
    ids::{MachineId, VolumeId},
    observe::{RecordReport, adopt},
    rooms::{
        Event, hardware, machines,
        records::{Event as Told, Step},
    },
    runs::Fault,
};

fn at(estate: &Estate, volume: VolumeId) -> Result<&Volume, Fault> {
    let volume = estate.volumes.get(&volume);
    volume
        .map(|v| &**v)
        .ok_or_else(|| premise("The volume is gone."))
}

impl Drivers {
    /// All records that lie on a volume, as a host that mounts it reads them.
    ///
    /// # Errors
    /// [`Fault`] when the host can't be reached or refuses.
    pub async fn records_on(
        &self,
        host: &Host,
        volume: &Volume,
    ) -> Result<Vec<RecordReport>, Fault> {
        let key = self.key_of(host).await?;
        let all = self.agent(host, &key).records(&volume.uid).await?;
        let report = |m: crate::agent::Machine| RecordReport {
            runs_on: m.running_on.clone(),
            deleted: m.deleted,
            record: m.read(),
        };
        Ok(all.into_iter().map(report).collect())
    }

    pub(crate) async fn at_records(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, step.via())?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        match step {
            Step::Register {
                volume,
                record,
                machine,
                ..
            } => {
                registered(
                    &agent,
                    estate,
                    host,
                    (at(estate, *volume)?, *record, *machine),
                    turn,
                )
                .await
            }
            Step::Forget { volume, record, .. } => {
                let volume = at(estate, *volume)?;
                let name = name_of(volume, *record);
                let mut said = agent
                    .forget_record(stamp(turn), &volume.uid, record)
                    .await?;
                let left = said.unattached.take().map(|all| {
                    let all = Box::new(all.read());
                    let volume = volume.id;
                    Event::Hardware(hardware::Event::Unattached { volume, all })
                });
                let told = Event::Records(Told::Forgotten {
                    volume: volume.id,
                    record: *record,
                    name,
                });
                Ok(done(
                    left.into_iter().chain([told]).collect(),
                    "its disks are unattached",
                ))
            }
        }
    }
}

fn name_of(volume: &Volume, record: Uuid) -> String {
    let stray = volume.strays.all.get(&record);
    stray.map_or_else(|| "a machine".to_owned(), |s| s.name.clone())
}

/// The record is read again: what it says now is what counts.
async fn registered(
    agent: &Agent<'_>,
    estate: &Estate,
    host: &Host,
    (volume, record, machine): (&Volume, Uuid, Option<MachineId>),
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let all = agent.records(&volume.uid).await?;
    let Some(found) = all.into_iter().find(|m| m.uuid == record) else {
        return Err(premise("The record lies there no more."));
    };
    if let Some(on) = &found.running_on {
        return Err(premise(&format!("It runs at {on}.")));
    }
    let deleted = found.deleted.then_some(turn.now);
    let mut read = adopt(estate, host, &found.read(), turn.now);
    read.cluster = volume.cluster;
    read.deleted = deleted;
    read.disks.iter_mut().for_each(|d| d.volume = volume.id);
    let name = read.name.clone();
    let events = match machine {
        Some(known) => {
            read.id = known;
            vec![Event::Records(Told::Taken {
                machine: Box::new(read),
                at: turn.now,
            })]
        }
        None => vec![
            Event::Machines(machines::Event::Adopted(Box::new(read))),
            Event::Records(Told::Registered {
                volume: volume.id,
                record,
                name,
            }),
        ],
    };
    Ok(done(events, "a machine is held for it"))
}
