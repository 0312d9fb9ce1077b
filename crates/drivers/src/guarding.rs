//! What whoever guards a cluster asks of devices: a host's power read, a host switched off, a machine started under a
//! generation of its own. Nothing is decided here.

use crate::{
    Drivers, Turn,
    perform::{premise, stamp},
    redfish::Switch,
    rooms::machines::{home, seen},
};
use serde_json::Value;
use zastrugi_core::{
    estate::{Estate, Host, MachineState},
    guard::Power,
    ids::{HostId, MachineId, VolumeId},
    rooms::Event,
    runs::Fault,
};

/// Hosts that are asked to write beside another one's lease.
const TELLERS: usize = 3;

/// A start as a guard orders it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct GuardedStart {
    pub machine: MachineId,
    pub host: HostId,
    /// The boot of the host that it is meant for.
    pub boot: u64,
    /// Of the run lease.
    pub generation: u64,
    /// Who may hold the run lease at which generation, and is proved off.
    pub fenced: Vec<(HostId, u64)>,
}

impl Drivers {
    /// What a host's controller says of its power; a silence is an answer too.
    pub async fn read_power(&self, host: &Host) -> Power {
        let asked = async { self.controller(host).await?.system().await };
        match asked.await {
            Ok(system) => {
                let serial = system.serial_number;
                match system.power_state.as_str() {
                    "Off" => Power::Off { serial },
                    "On" => Power::On { serial },
                    // On its way from one to the other: neither is so.
                    "" => Power::Silent {
                        why: "it does not say whether it is on".into(),
                    },
                    other => Power::Silent {
                        why: format!("it says {other}"),
                    },
                }
            }
            Err(fault) => Power::Silent {
                why: fault.said.trim_end_matches('.').to_owned(),
            },
        }
    }

    /// Tells a host's controller to switch it off, once; whether it did is read.
    ///
    /// # Errors
    /// [`Fault`] when it refuses or gives no answer.
    pub async fn switch_off(&self, host: &Host) -> Result<(), Fault> {
        self.controller(host).await?.reset(Switch::Off).await
    }

    /// Everything that a host's controller leads to, with what it says: for looking at a service that nobody here wrote.
    ///
    /// # Errors
    /// [`Fault`] where a link leads nowhere, or the controller gives no answer.
    pub async fn walk_controller(
        &self,
        host: &Host,
        most: usize,
    ) -> Result<Vec<(String, Value)>, Fault> {
        self.controller(host).await?.walk(most).await
    }

    /// Every array beneath a host's volumes takes away what it reaches there, and is read again to see that it did. Done again,
    /// it changes nothing.
    ///
    /// # Errors
    /// [`Fault`] where one of them refuses, gives no answer, or can't be told at all.
    pub async fn shut_out(&self, estate: &Estate, host: &Host, key: &str) -> Result<(), Fault> {
        let beneath = estate.arrays_beneath(host);
        let beneath = beneath
            .ok_or_else(|| premise("Not every volume of it lies on an array that can be told."))?;
        let told = beneath.iter().map(|(volume, array)| async {
            let volume = estate
                .volumes
                .get(volume)
                .ok_or_else(|| premise("The volume is gone."))?;
            let password = self.password_of(array).await?;
            let keeper = self.keeper(array, &password, key);
            keeper.unmap(volume, &host.initiator).await?;
            keeper.reaches_nothing(volume, &host.initiator).await
        });
        futures::future::try_join_all(told).await.map(|_| ())
    }

    /// Restarts a guest that hangs, where it is: its host keeps its last picture, ends it and starts it under the next generation,
    /// as one. Answers that, and what is seen.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn reset_guarded(
        &self,
        estate: &Estate,
        order: &GuardedStart,
        turn: Turn<'_>,
    ) -> Result<(u64, Event), Fault> {
        let host = self.host_of(estate, order.host)?;
        let machine = estate.machines.get(&order.machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let again = agent.power_again(stamp(turn), &machine.uuid, order.generation, order.boot);
        let said = again.await?;
        let had = said.generation.unwrap_or(order.generation);
        let starting = MachineState::Starting("firmware".into());
        Ok((had, seen(machine, host, starting, (had, said.as_of))))
    }

    /// Has another host of its cluster write beside a host's lease that it shall end what it runs, under a number. Done again, it
    /// changes nothing.
    ///
    /// # Errors
    /// [`Fault`] of the last that was asked, where none wrote it.
    pub async fn tell_by_lease(
        &self,
        estate: &Estate,
        host: &Host,
        volume: VolumeId,
        number: u64,
    ) -> Result<(), Fault> {
        let found = estate.volumes.get(&volume);
        let found = found.ok_or_else(|| premise("The volume is gone."))?;
        let near = host.cluster.into_iter().flat_map(|c| estate.hosts_in(c));
        let near = near.filter(|h| h.id != host.id && h.reports() && h.paths_up(volume) > 0);
        let mut last = premise("No other host reaches that volume.");
        for other in near.take(TELLERS) {
            let key = self.key_of(other).await?;
            let agent = self.agent(other, &key);
            let serial = &host.hardware.serial;
            match agent.tell_by_lease(&found.uid, serial, number).await {
                Ok(()) => return Ok(()),
                Err(fault) => last = fault,
            }
        }
        Err(last)
    }

    /// Ends a machine that stands still because its host doesn't reach its volume. When this is answered it will write no more.
    ///
    /// # Errors
    /// [`Fault`] with the host's words, also where the machine can go on.
    pub async fn end_guarded(
        &self,
        estate: &Estate,
        order: &GuardedStart,
        turn: Turn<'_>,
    ) -> Result<(), Fault> {
        let host = self.host_of(estate, order.host)?;
        let machine = estate.machines.get(&order.machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        agent
            .power_end(stamp(turn), &machine.uuid, order.generation, order.boot)
            .await
    }

    /// Starts a machine, if its run lease is free or held by a host that is proved off. Answers the generation under which it
    /// runs, and what is seen of it.
    ///
    /// # Errors
    /// [`Fault`] with the host's words.
    pub async fn start_guarded(
        &self,
        estate: &Estate,
        order: &GuardedStart,
        turn: Turn<'_>,
    ) -> Result<(u64, Event), Fault> {
        let host = self.host_of(estate, order.host)?;
        let machine = estate.machines.get(&order.machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let key = self.key_of(host).await?;
        let serials = order.fenced.iter().filter_map(|(id, generation)| {
            let holder = estate.hosts.get(id)?;
            Some((holder.hardware.serial.as_str(), *generation))
        });
        let proved: Vec<_> = serials.collect();
        let agent = self.agent(host, &key);
        let on = agent.power_on(
            stamp(turn),
            (&machine.uuid, home(estate, machine)),
            order.generation,
            &proved,
            Some(order.boot),
        );
        let said = on.await?;
        let had = said.generation.unwrap_or(order.generation);
        let starting = MachineState::Starting("firmware".into());
        Ok((had, seen(machine, host, starting, (had, said.as_of))))
    }
}
