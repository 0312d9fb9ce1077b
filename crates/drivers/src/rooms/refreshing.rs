//! A disk copied from one machine to another, at the host of the one that gets it.

use super::templates::failed;
use crate::{
    Drivers, Outcome, Turn,
    perform::{done, premise, stamp},
};
use serde_json::json;
use zastrugi_core::{
    estate::{Estate, Machine, Provisioning},
    ids::MachineId,
    observe,
    rooms::{
        Event,
        refreshing::{Event as Told, Step},
    },
    runs::Fault,
};

fn at(estate: &Estate, machine: MachineId) -> Result<&Machine, Fault> {
    let machine = estate.machines.get(&machine);
    machine
        .map(|m| &**m)
        .ok_or_else(|| premise("The machine is gone."))
}

impl Drivers {
    pub(crate) async fn at_refreshing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Copy {
            machine,
            via,
            disk,
            new,
            from,
            snapshot,
            place,
            ..
        } = step;
        let host = self.host_of(estate, *via)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let (machine, from) = (at(estate, *machine)?, at(estate, *from)?);
        let body = json!({"from": {"machine": from.uuid, "snapshot": snapshot}, "disk": place, "new": new,
            "size": disk.size.0, "thick": disk.provisioning == Provisioning::Thick});
        let said = agent
            .copy_disk(stamp(turn), (&machine.uuid, &disk.key), body)
            .await?;
        match said.stage.as_str() {
            "done" => {}
            "failed" => return Err(failed(&machine.name, &said)),
            _ => return Ok(Outcome::NotYet { said: said.said() }),
        }
        let seen = agent.machine(&machine.uuid).await?;
        let as_of = seen.as_of.map(|a| a.at(host.id));
        let (disks, _) = observe::hardware(estate, machine, &seen.read());
        let number = disks
            .iter()
            .position(|d| d.key == disk.key)
            .map_or(0, |n| n + 1);
        let told = Told::Copied {
            machine: machine.id,
            disks,
            // Off, it says nothing of its host.
            as_of: as_of.filter(|_| !machine.is_off()),
            number,
            new: *new,
            from: from.id,
            copied: said.copied(),
            took: said.took(),
        };
        Ok(done(
            vec![Event::Refreshing(told)],
            format!("{} copied in {}", said.copied(), said.took()),
        ))
    }

    /// What is being copied ends; what the machine had stays.
    pub(crate) async fn give_up_refreshing(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Copy {
            machine, via, disk, ..
        } = step;
        let host = self.host_of(estate, *via)?;
        let key = self.key_of(host).await?;
        let machine = at(estate, *machine)?;
        let agent = self.agent(host, &key);
        agent
            .end_copy_of_disk(stamp(turn), (&machine.uuid, &disk.key))
            .await?;
        let said = "what it had is as it was".into();
        Ok(Outcome::NotYet { said })
    }
}
