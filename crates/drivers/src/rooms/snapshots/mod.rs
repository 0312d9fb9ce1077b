//! Snapshots at the host that runs the machine, or at one that reaches its volume.

mod together;

use crate::{
    Drivers, Outcome, Turn,
    agent::{Agent, SnapshotWish as Wish, WireTaken},
    fault::words,
    perform::{done, premise, stamp},
};
use zastrugi_core::{
    estate::{Estate, Machine},
    evidence::Answer,
    ids::{HostId, MachineId},
    rooms::{
        Event,
        snapshots::{self, Quiet, Step},
    },
    runs::{Fault, FaultKind},
};

impl Drivers {
    pub(crate) async fn at_snapshot(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if let Step::Together { .. } = step {
            return self.at_one_instant(estate, step, turn).await;
        }
        let on = step.on().first().copied();
        let (machine, via) = on.ok_or_else(|| premise("It is of no machine."))?;
        let machine = estate.machines.get(&machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let host = self.host_of(estate, at_home(machine, via))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        match step {
            Step::Take { .. } => take(&agent, machine, step, turn).await,
            Step::Together { .. } => Err(premise("It is of several machines.")),
            Step::Back { to, .. } => {
                agent.back(stamp(turn), &machine.uuid, to).await?;
                let back = snapshots::Event::Back {
                    machine: machine.id,
                    to: *to,
                };
                Ok(done(vec![Event::Snapshots(back)], "it went back"))
            }
            Step::Forget { snapshots, .. } => {
                let told = agent
                    .forget_snapshots(stamp(turn), &machine.uuid, snapshots)
                    .await?;
                match told.stage.as_str() {
                    "done" => {
                        let (copied, took, still) = told.measured();
                        let said = format!("{copied} copied in {took}");
                        let gone = snapshots::Event::Forgotten {
                            machine: machine.id,
                            snapshots: snapshots.clone(),
                            copied,
                            took,
                            still,
                        };
                        Ok(done(vec![Event::Snapshots(gone)], said))
                    }
                    "failed" => Err(failed(machine, &told.why)),
                    _ => Ok(Outcome::NotYet { said: told.said() }),
                }
            }
        }
    }

    /// Memory that is being written for a snapshot that nobody wants ends; what is being folded goes on, its names are gone.
    pub(crate) async fn give_up_snapshot(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if let Step::Together { members, .. } = step {
            return self.none_of_them(estate, members, turn).await;
        }
        let Step::Take {
            machine,
            snapshot,
            via,
            ..
        } = step
        else {
            return self.at_snapshot(estate, step, turn).await;
        };
        let machine = estate.machines.get(machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let host = self.host_of(estate, at_home(machine, *via))?;
        if machine.snapshots.get(*snapshot).is_some() {
            return self.at_snapshot(estate, step, turn).await;
        }
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        agent
            .forget_snapshots(stamp(turn), &machine.uuid, &[*snapshot])
            .await?;
        let said = "no snapshot was taken".into();
        Ok(Outcome::NotYet { said })
    }

    pub(crate) async fn layers_of(
        &self,
        estate: &Estate,
        machine: MachineId,
    ) -> Result<Answer, Fault> {
        let machine = estate.machines.get(&machine);
        let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
        let own = machine.host.and_then(|h| estate.hosts.get(&h));
        let any = || {
            let mut all = machine.cluster.map(|c| estate.hosts_in(c))?;
            all.find(|h| h.accepts_work())
        };
        let host = own.or_else(any);
        let host = host.ok_or_else(|| premise("No host that reaches its volume answers."))?;
        let key = self.key_of(host).await?;
        let said = self.agent(host, &key).layers(&machine.uuid).await?;
        match said.read() {
            Ok(chain) => Ok(Answer::Layers(Box::new(chain))),
            Err(why) => Ok(Answer::Silent { why }),
        }
    }
}

/// Where it runs by now: it may have moved since the step was planned. One that is off is asked about where it was meant to be.
pub(super) fn at_home(machine: &Machine, via: HostId) -> HostId {
    machine.host.unwrap_or(via)
}

/// Quietly where that is wished; where the guest can't, as it was said beforehand.
async fn take(
    agent: &Agent<'_>,
    machine: &Machine,
    step: &Step,
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let Step::Take {
        snapshot,
        name,
        note,
        quiet,
        memory,
        ends,
        ..
    } = step
    else {
        return Err(premise("This is no snapshot."));
    };
    let ask = async |quiet: bool| {
        let wish = Wish {
            name,
            note,
            quiet,
            memory: *memory,
            frozen: None,
        };
        agent
            .snapshot(stamp(turn), &machine.uuid, snapshot, &wish)
            .await
    };
    let mut told: WireTaken = ask(*quiet != Quiet::No).await?;
    let mut loud = String::new();
    if told.stage == "failed" && told.code == "guest" {
        let why = words(&told.why);
        if *quiet == Quiet::Only {
            let said = format!("{}: {why}", machine.name);
            let remedy =
                "No snapshot was taken. Look at its guest agent, or take one as after a power cut.";
            return Err(Fault::new(FaultKind::Refused, said, remedy));
        }
        loud = format!(" ({why})");
        told = ask(false).await?;
    }
    match told.stage.as_str() {
        "done" => {
            let parent = machine.snapshots.rests_on;
            let taken = told.snapshot((*snapshot, name, note), *ends, parent, machine.disks.len());
            let said = format!("{}{loud}", taken.consistent.word());
            let event = snapshots::Event::Taken {
                machine: machine.id,
                snapshot: Box::new(taken),
                still: told.still(),
            };
            Ok(done(vec![Event::Snapshots(event)], said))
        }
        "failed" => Err(failed(machine, &told.why)),
        _ => Ok(Outcome::NotYet { said: told.said() }),
    }
}

fn failed(machine: &Machine, why: &str) -> Fault {
    let said = format!("{}: {}.", machine.name, words(why));
    let remedy = "Its disks are as they were. Mend what is said, then retry.";
    Fault::new(FaultKind::Refused, said, remedy)
}
