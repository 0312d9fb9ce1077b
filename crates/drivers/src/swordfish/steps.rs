//! Steps at an array: what is asked for is looked for first.

use super::{
    Keeper,
    client::gave_no_answer,
    made::{Initiator, Joined, Lun, Wanted},
};
use zastrugi_core::{
    estate::{Array, ArrayCondition, Backing, Controller, Estate, Provisioning, Volume},
    moment::Moment,
    rooms::{Event, storage},
    runs::{Fault, FaultKind},
    units::Bytes,
};

fn refused(said: impl Into<String>, remedy: &str) -> Fault {
    Fault::new(FaultKind::Refused, said, remedy)
}

impl Keeper<'_> {
    /// Signs in on every management address and reads what there is. One that is silent is noted; all silent is a
    /// fault, and so are addresses of different arrays.
    pub(crate) async fn read_all(&self, estate: &Estate, now: Moment) -> Result<Array, Fault> {
        let mut controllers = Vec::new();
        let mut known = None;
        let mut silence = None;
        for controller in &self.array.controllers {
            let asked = self.chassis(controller).await;
            let silent = match asked {
                Ok(chassis) => {
                    let first = known.get_or_insert(chassis);
                    let serial = &self.array.serial;
                    if !serial.is_empty() && *serial != first.serial_number {
                        let said = format!(
                            "{} says serial {}; {} has {serial}.",
                            controller.address, first.serial_number, self.array.name
                        );
                        return Err(refused(
                            said,
                            "Another array answers there. Correct the address.",
                        ));
                    }
                    None
                }
                Err(fault) if gave_no_answer(&fault) => {
                    let why = fault.said.trim_end_matches('.').to_owned();
                    silence = Some(fault);
                    Some(why)
                }
                Err(fault) => return Err(fault),
            };
            controllers.push(Controller {
                silent,
                ..controller.clone()
            });
        }
        let Some(chassis) = known else {
            return Err(silence.unwrap_or_else(|| self.odd("no address")));
        };
        let read = Array {
            controllers,
            maker: chassis.manufacturer,
            model: chassis.model,
            serial: chassis.serial_number,
            ..self.array.clone()
        };
        let live = Keeper {
            array: &read,
            ..*self
        };
        let (classes, served) = live.does(estate, now).await?;
        let (pools, fabric) = (live.pools(&classes).await?, live.fabric().await?);
        Ok(Array {
            served,
            pools,
            portals: fabric.portals,
            condition: ArrayCondition::Steady,
            ..read
        })
    }

    /// What a reading means; volumes of ours that are found there learn what they lie on.
    pub(crate) async fn seen(&self, estate: &Estate, now: Moment) -> Result<Vec<Event>, Fault> {
        let array = self.read_all(estate, now).await?;
        let live = Keeper {
            array: &array,
            ..*self
        };
        let mut events = vec![];
        let homeless = estate.volumes.values().any(|v| v.backing.is_none());
        if homeless {
            for lun in live.luns().await? {
                let ours = estate
                    .volume_with_uid(&lun.uid)
                    .filter(|v| v.backing.is_none());
                if let Some(volume) = ours.filter(|_| !lun.uid.is_empty()) {
                    events.push(Event::Storage(storage::Event::VolumeMade {
                        volume: volume.id,
                        uid: lun.uid,
                        backing: Backing {
                            array: array.id,
                            lun: lun.id,
                            pool: lun.pool,
                        },
                    }));
                }
            }
        }
        events.insert(
            0,
            Event::Storage(storage::Event::ArraySeen(Box::new(array))),
        );
        Ok(events)
    }

    pub(crate) async fn make_lun(
        &self,
        volume: &Volume,
        pool: &str,
        size: Bytes,
        provisioning: Provisioning,
    ) -> Result<Event, Fault> {
        let wanted = Lun {
            name: &volume.name,
            pool,
            size,
            provisioning,
        };
        let mut there = self.luns().await?.into_iter();
        let lun = match there.find(|l| l.name == volume.name) {
            // Ours, from an attempt whose answer was lost.
            Some(lun) if wanted.is(&lun) => lun,
            Some(_) => {
                let said = format!("{} has a volume {} already.", self.array.name, volume.name);
                return Err(refused(
                    said,
                    "Choose another name, or connect the existing one.",
                ));
            }
            None => self.make_once(&wanted).await?,
        };
        if lun.uid.is_empty() {
            return Err(self.odd("a volume without identity"));
        }
        Ok(Event::Storage(storage::Event::VolumeMade {
            volume: volume.id,
            uid: lun.uid,
            backing: Backing {
                array: self.array.id,
                lun: lun.id,
                pool: pool.to_owned(),
            },
        }))
    }

    pub(crate) async fn grow_lun(&self, volume: &Volume, size: Bytes) -> Result<(), Fault> {
        let lun = &backing(volume)?.lun;
        let there = self.luns().await?.into_iter().find(|l| l.id == *lun);
        match there {
            Some(now) if now.capacity >= size => Ok(()),
            Some(_) => self.grow(lun, size).await,
            None => Err(refused(
                format!("{} no longer has {}.", self.array.name, volume.name),
                "Look at the array.",
            )),
        }
    }

    /// Lets this initiator reach the volume; a repetition finds it there.
    pub(crate) async fn map(&self, volume: &Volume, initiator: &str) -> Result<(), Fault> {
        let lun = &backing(volume)?.lun;
        let id = self.once(&Initiator(initiator)).await?;
        let joined = Joined {
            lun,
            initiator: &id,
        };
        self.once(&joined).await
    }

    /// Finds it, or makes it. Somebody may be faster: then the array says no to us, and has it.
    async fn once<W: Wanted>(&self, wanted: &W) -> Result<W::Made, Fault> {
        if let Some(there) = wanted.look(self).await? {
            return Ok(there);
        }
        match self.make_once(wanted).await {
            Ok(made) => Ok(made),
            Err(fault) => wanted.look(self).await?.ok_or(fault),
        }
    }

    pub(crate) async fn unmap(&self, volume: &Volume, initiator: &str) -> Result<(), Fault> {
        self.withdraw(&backing(volume)?.lun, initiator).await
    }

    /// Looks that this initiator has no way to the volume.
    pub(crate) async fn reaches_nothing(
        &self,
        volume: &Volume,
        initiator: &str,
    ) -> Result<(), Fault> {
        let lun = &backing(volume)?.lun;
        let seen = self.luns().await?.into_iter().find(|l| l.id == *lun);
        match seen {
            Some(there) if there.initiators.iter().any(|i| i == initiator) => Err(refused(
                format!(
                    "{} says that {initiator} still reaches {}.",
                    self.array.name, volume.name
                ),
                "Take it away at the array.",
            )),
            Some(_) => Ok(()),
            None => Err(refused(
                format!("{} no longer has {}.", self.array.name, volume.name),
                "Look at the array.",
            )),
        }
    }

    /// Takes away that this initiator reaches a LUN; where it doesn't, nothing is done.
    pub(crate) async fn withdraw(&self, lun: &str, initiator: &str) -> Result<(), Fault> {
        let known = self.fabric().await?.initiators;
        let Some((id, _)) = known.into_iter().find(|(_, name)| name == initiator) else {
            return Ok(());
        };
        for mapping in self.mappings().await? {
            if mapping.lun == lun && mapping.initiator == id {
                self.disconnect(&mapping.id).await?;
            }
        }
        Ok(())
    }
}

impl Keeper<'_> {
    /// Deletes a LUN: only this one, and only if nobody reaches it. Gone already is fine.
    pub(crate) async fn delete(&self, lun: &str, uid: &str) -> Result<&'static str, Fault> {
        let there = self.luns().await?.into_iter().find(|l| l.id == lun);
        let Some(there) = there else {
            return Ok("it was gone");
        };
        if there.uid != uid {
            let said = format!("{} has another LUN of that number now.", self.array.name);
            return Err(refused(said, "Nothing was deleted. Look at the array."));
        }
        if let Some(who) = there.initiators.first() {
            let said = format!("{} can be reached by {who}.", there.name);
            return Err(refused(
                said,
                "Nothing was deleted. Take that reach away first.",
            ));
        }
        self.remove(lun).await?;
        Ok("deleted")
    }
}

fn backing(volume: &Volume) -> Result<&Backing, Fault> {
    volume.backing.as_ref().ok_or_else(|| {
        Fault::new(
            FaultKind::Premise,
            format!("{} lies on no array that is known.", volume.name),
            "Connect the array first.",
        )
    })
}

/// The same array, not answering.
pub(crate) fn lost(array: &Array, fault: &Fault, now: Moment) -> Array {
    Array {
        condition: ArrayCondition::Lost {
            since: now,
            why: fault.said.trim_end_matches('.').to_owned(),
        },
        ..array.clone()
    }
}
