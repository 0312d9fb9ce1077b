//! Replicas brought up to date: a mover reads at a host of one site what changed, and writes it at a host of the other, where it
//! becomes the next point at once.

mod comparing;
mod settling;
mod shipping;

use crate::{
    Drivers, Outcome, Turn,
    agent::{FollowedDisk, Following},
    perform::{done, premise, stamp},
    rooms::carrying::{Carried, Look, Shipped, over},
};
use zastrugi_core::{
    estate::{Consistent, Disk, Estate, Machine, Snapshot, StoredPoint, Twin, Whole},
    ids::MachineId,
    rooms::{
        Event,
        replicas::{self, Followed, Onto, Step},
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
    pub(crate) async fn at_replica(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Rest { .. } => return settling::rests(step),
            Step::Over { .. } => return settling::crossed(step, turn),
            Step::Regard { .. } => return settling::regarded(estate, step),
            Step::Settle(settle) => return self.settle(estate, settle, turn).await,
            Step::Follow { .. } | Step::Compare { .. } => {}
        }
        match self.movers.look(turn.key) {
            Look::Goes(said) => {
                // A cap that somebody changed meanwhile counts from here on.
                if let Step::Follow { way, job, .. } = step {
                    self.paced(estate, (Some(*way), *job), turn);
                }
                Ok(Outcome::NotYet { said })
            }
            Look::Over(task) => match over(task).await {
                Ok(Carried::Shipped(shipped)) => self.taken_in(estate, step, shipped, turn).await,
                Ok(Carried::Equal(extents, all)) => comparing::equal(step, (extents, all), turn),
                Ok(
                    Carried::There(_) | Carried::Brought(_) | Carried::Swept(_) | Carried::Read(_),
                ) => Err(premise("Nothing was brought over.")),
                // What may pass goes on where it was; of all else nothing is left to be forgotten.
                Err(why) => {
                    if !why.passing() {
                        drop(self.drop_shipped(estate, step, turn).await);
                    }
                    Err(why)
                }
            },
            Look::None if matches!(step, Step::Compare { .. }) => self.compare(estate, step, turn),
            Look::None => self.ship(estate, step, turn).await,
        }
    }

    /// What is on its way ends, and nothing of it is left; the replica holds what it held.
    pub(crate) async fn give_up_replica(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Follow { .. } => {
                self.movers.end(turn.key).await;
                self.drop_shipped(estate, step, turn).await?;
                let said = "the replica holds what it held before".into();
                Ok(Outcome::NotYet { said })
            }
            Step::Compare { .. } => {
                self.movers.end(turn.key).await;
                let said = "nobody is asked any more".into();
                Ok(Outcome::NotYet { said })
            }
            Step::Rest { .. } | Step::Over { .. } | Step::Regard { .. } | Step::Settle(_) => {
                self.at_replica(estate, step, turn).await
            }
        }
    }

    async fn drop_shipped(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<(), Fault> {
        let Step::Follow {
            to,
            volume,
            delivery,
            ..
        } = step
        else {
            return Ok(());
        };
        self.end_delivery(estate, (*to, *volume, *delivery), turn)
            .await
    }

    /// What lies at the far end becomes the next point of the replica.
    async fn taken_in(
        &self,
        estate: &Estate,
        step: &Step,
        shipped: Shipped,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Follow {
            machine,
            snapshot,
            replica,
            to,
            volume,
            delivery,
            disks,
            ..
        } = step
        else {
            return Err(premise("Nothing was to be brought over."));
        };
        let (original, own) = (at(estate, *machine)?, at(estate, *replica)?);
        let taken = original.snapshots.get(*snapshot);
        let taken = taken.ok_or_else(|| premise("The state that was replicated is gone."))?;
        let on = estate.volumes.get(volume);
        let on = on.ok_or_else(|| premise("The volume is gone."))?;
        let host = self.host_of(estate, *to)?;
        let key = self.key_of(host).await?;
        let consistent = consistency(taken);
        let name = taken.taken.stamp();
        let ask = Following {
            volume: &on.uid,
            delivery: *delivery,
            base: own.follows().map(|p| p.session),
            point: *snapshot,
            name: &name,
            taken_ms: taken.taken.0,
            quiet: consistent == Consistent::Quiet,
            off: consistent == Consistent::Off,
            disks: disks
                .iter()
                .map(|d| FollowedDisk {
                    from: d.original,
                    onto: d.disk.key,
                    size: d.disk.size.0,
                })
                .collect(),
        };
        self.agent(host, &key)
            .follow(stamp(turn), &own.uuid, &ask)
            .await?;
        let (has, twins) = after(own, disks);
        let point = point(step, own, (taken, consistent), (shipped, turn))
            .ok_or_else(|| premise("Nothing was to be brought over."))?;
        let said = format!("{} there in {}", point.read, point.took);
        let followed = Followed {
            machine: own.id,
            original: original.id,
            name: original.name.clone(),
            snapshot: Snapshot {
                uuid: *snapshot,
                name: name.clone(),
                note: String::new(),
                taken: taken.taken,
                parent: own.follows().map(|p| p.session),
                consistent,
                memory: None,
                disks: Some(has.len()),
                ends: None,
            },
            disks: has,
            twins,
            point,
            compared: shipped.compared,
        };
        let event = replicas::Event::Followed(Box::new(followed));
        Ok(done(vec![Event::Replicas(event)], said))
    }
}

/// What it has of its original from now on.
fn point(
    step: &Step,
    own: &Machine,
    (taken, consistent): (&Snapshot, Consistent),
    (shipped, turn): (Shipped, Turn<'_>),
) -> Option<StoredPoint> {
    let Step::Follow {
        snapshot,
        disks,
        job,
        whole,
        group,
        ..
    } = step
    else {
        return None;
    };
    Some(StoredPoint {
        session: *snapshot,
        taken: taken.taken,
        consistent,
        size: disks.iter().map(|d| d.disk.size).sum(),
        read: shipped.bytes,
        stored: shipped.packed,
        took: turn.waited,
        job: *job,
        locked: None,
        ends: None,
        group: *group,
        whole: Whole::of(taken.taken, *whole || shipped.compared, own.follows()),
        equal: None,
        proof: None,
    })
}

/// The disks that the replica has then, and whose they are; those of which the original has none any more stay.
fn after(own: &Machine, disks: &[Onto]) -> (Vec<Disk>, Vec<Twin>) {
    let mut has = own.disks.clone();
    let mut twins = own
        .replica
        .as_ref()
        .map(|r| r.disks.clone())
        .unwrap_or_default();
    for onto in disks {
        match has.iter_mut().find(|d| d.key == onto.disk.key) {
            Some(disk) => *disk = onto.disk,
            None => has.push(onto.disk),
        }
        if !twins.iter().any(|t| t.original == onto.original) {
            twins.push(Twin {
                original: onto.original,
                own: onto.disk.key,
            });
        }
    }
    (has, twins)
}

/// Memory does not go over.
fn consistency(snapshot: &Snapshot) -> Consistent {
    match snapshot.consistent {
        Consistent::Off => Consistent::Off,
        Consistent::Quiet => Consistent::Quiet,
        Consistent::Crash | Consistent::Memory => Consistent::Crash,
    }
}
