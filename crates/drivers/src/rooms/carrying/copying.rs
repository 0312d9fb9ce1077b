//! A snapshot of a machine carried into a store.

use super::{
    movers::{Brought, Carried, Look, Whither, over},
    pace::Paced,
};
use crate::{
    Drivers, Outcome, Turn,
    agent::Blocks,
    backup::{Copied, Extents, Progress, Source, SourceDisk, Store, StoreFault},
    perform::{done, premise, stamp},
    rooms::stores::{fault, store_of},
};
use futures::future::BoxFuture;
use std::{
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Consistent, CopyPlace, Estate, Firmware, Host, Machine, Series, Snapshot, StoredPoint,
        Whole,
    },
    ids::HostId,
    moment::{Moment, Span},
    rooms::{
        Event,
        carrying::{self, Step},
    },
    runs::Fault,
    units::Bytes,
};
use zastrugi_formats::backup::{Card, Consistency, Label, Machine as Kept, Named};

/// A host that doesn't answer is asked again this often, with a second between.
const TRIES: usize = 5;

/// What came of a copy.
pub(crate) struct Done {
    copied: Copied,
    consistent: Consistent,
    /// Of all disks.
    size: Bytes,
    /// Nobody could say what had changed.
    compared: bool,
}

/// The disks of a machine at its host, as a snapshot has them.
pub(crate) struct AtHost {
    pub(crate) drivers: Drivers,
    pub(crate) host: Arc<Host>,
    pub(crate) machine: Uuid,
    pub(crate) snapshot: Uuid,
    pub(crate) disks: Vec<Uuid>,
    /// No faster than that; none: as fast as it goes.
    pub(crate) paced: Vec<Paced>,
    /// What the host said last when it said no.
    pub(crate) last: Mutex<Option<Fault>>,
}

impl Extents for AtHost {
    fn read(
        &self,
        disk: usize,
        at: u64,
        length: u64,
    ) -> BoxFuture<'_, Result<Vec<u8>, StoreFault>> {
        Box::pin(self.extent(disk, at, length))
    }
}

impl AtHost {
    pub(crate) async fn extent(
        &self,
        disk: usize,
        at: u64,
        length: u64,
    ) -> Result<Vec<u8>, StoreFault> {
        let disk = self.disks.get(disk).copied().unwrap_or_default();
        for paced in &self.paced {
            paced.take(length).await;
        }
        let mut tried = 1;
        loop {
            let key = self.drivers.key_of(&self.host).await;
            let asked = match key {
                Ok(key) => {
                    let agent = self.drivers.agent(&self.host, &key);
                    agent
                        .extent(&self.machine, &self.snapshot, &disk, (at, length))
                        .await
                }
                Err(why) => Err(why),
            };
            match asked {
                Ok(bytes) => return Ok(bytes),
                Err(why) if why.passing() && tried < TRIES => {
                    tried += 1;
                    tokio::time::sleep(Duration::from_secs(1)).await;
                }
                Err(why) => {
                    let said = StoreFault::Source(why.said.clone());
                    *self.last.lock().unwrap_or_else(PoisonError::into_inner) = Some(why);
                    return Err(said);
                }
            }
        }
    }
}

/// Where the machine is now, or whoever reaches its volume.
fn at<'a>(estate: &'a Estate, machine: &Machine, via: HostId) -> Result<&'a Arc<Host>, Fault> {
    let own = machine.host.unwrap_or(via);
    estate
        .hosts
        .get(&own)
        .ok_or_else(|| premise("The host is gone."))
}

fn consistency(snapshot: &Snapshot) -> Consistency {
    match snapshot.consistent {
        Consistent::Off => Consistency::Off,
        Consistent::Quiet => Consistency::Quiet,
        Consistent::Crash | Consistent::Memory => Consistency::Crash,
    }
}

/// What a point tells of a machine beside its disks.
pub fn kept(estate: &Estate, machine: &Machine) -> Kept {
    let card = |n: &zastrugi_core::estate::Nic| Card {
        mac: n.mac.clone(),
        network: n
            .network
            .and_then(|id| estate.networks.get(&id))
            .map_or_else(String::new, |n| n.name.clone()),
    };
    Kept {
        uuid: machine.uuid,
        name: machine.name.clone(),
        vcpus: machine.vcpus,
        memory: machine.memory.size.0,
        firmware: firmware(machine.firmware.as_deref()).into(),
        cards: machine.nics.iter().map(card).collect(),
        labels: machine
            .labels
            .iter()
            .map(|(k, v)| Label {
                key: k.clone(),
                value: v.clone(),
            })
            .collect(),
        note: machine.note.clone(),
    }
}

fn firmware(of: Option<&Firmware>) -> &'static str {
    match of {
        Some(firmware) if firmware.kind.is_uefi() => "uefi",
        Some(_) | None => "bios",
    }
}

fn millis(moment: Moment) -> u64 {
    u64::try_from(moment.0).unwrap_or(0)
}

/// The newest point of a series that was taken before this one.
fn parent(series: &Series, before: &Snapshot) -> Option<Named> {
    let older = series
        .points
        .iter()
        .rev()
        .find(|p| p.taken < before.taken)?;
    Some(Named {
        machine: series.machine,
        instant: millis(older.taken),
        session: older.session,
    })
}

impl Drivers {
    pub(super) async fn copy_to_store(
        &self,
        estate: &Estate,
        step: &Step,
        (machine, via, snapshot): (&Machine, HostId, Uuid),
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Copy {
            only, whole, job, ..
        } = step
        else {
            return Err(premise("It is no copy."));
        };
        let paced = self.paced(estate, (None, *job), turn);
        match self.movers.look(turn.key) {
            Look::Goes(said) => return Ok(Outcome::NotYet { said }),
            Look::Over(task) => return told(estate, step, over(task).await?),
            Look::None => {}
        }
        let taken = machine.snapshots.get(snapshot).cloned();
        let taken = taken.ok_or_else(|| premise("The state that was to be copied is gone."))?;
        let host = at(estate, machine, via)?.clone();
        self.allowed(&host.access.address)?;
        let store = store_of(estate, step.store())?;
        let series = estate.backups_at(machine, store.id).cloned();
        let parent = series.as_ref().and_then(|s| parent(s, &taken));
        let opened = self.open_store(store).await?;
        let key = self.key_of(&host).await?;
        self.agent(&host, &key)
            .mark(stamp(turn), &machine.uuid, &snapshot)
            .await?;
        let there = CopyPlace::Store(store.id);
        self.release_mark(estate, (machine, &host), there, turn)
            .await;
        let copy = Copy {
            drivers: self.clone(),
            host,
            store: opened,
            name: store.name.clone(),
            kept: kept(estate, machine),
            taken,
            parent,
            only: only.clone(),
            whole: *whole,
            paced,
        };
        self.movers
            .begin(turn.key, Whither::IntoStore, |p| copy.carry(p));
        Ok(Outcome::NotYet {
            said: "its host is asked what changed".into(),
        })
    }

    /// Nobody goes on with it. Where the store does not answer it stays, and a sweep voids it once its state is gone.
    async fn end_session(&self, estate: &Estate, step: &Step) {
        let Step::Copy {
            snapshot, store, ..
        } = step
        else {
            return;
        };
        if let Ok(store) = store_of(estate, *store)
            && let Ok(opened) = self.open_store(store).await
            && let Err(why) = opened.end_session(*snapshot).await
        {
            tracing::warn!(store = %store.name, %why, "a session that was given up is left there");
        }
    }

    /// What is on its way ends; what was there stays as it is. One that got there before it was told counts.
    pub(super) async fn give_up_copying(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        if let Look::Over(task) = self.movers.look(turn.key)
            && let Ok(brought) = over(task).await
        {
            return told(estate, step, brought);
        }
        self.movers.end(turn.key).await;
        self.end_session(estate, step).await;
        Ok(Outcome::NotYet {
            said: "no recovery point was made".into(),
        })
    }
}

/// All that one copy needs, for as long as it goes on.
struct Copy {
    drivers: Drivers,
    host: Arc<Host>,
    store: Store,
    name: String,
    kept: Kept,
    taken: Snapshot,
    parent: Option<Named>,
    /// Only these disks; none: all.
    only: Vec<Uuid>,
    /// Whatever is known of what changed.
    whole: bool,
    paced: Vec<Paced>,
}

impl Copy {
    /// Boxed: the compiler does not see of the whole that it can be sent.
    fn blocks(&self) -> BoxFuture<'_, Result<Vec<Blocks>, Fault>> {
        Box::pin(async {
            let key = self.drivers.key_of(&self.host).await?;
            let agent = self.drivers.agent(&self.host, &key);
            let since = self.parent.map(|p| p.session);
            let said = agent
                .blocks(&self.kept.uuid, &self.taken.uuid, since)
                .await?;
            said.read()
                .map_err(|why| crate::fault::garbled(&self.host.name, &why))
        })
    }

    async fn carry(self, progress: Arc<Progress>) -> Brought {
        let mut blocks = self.blocks().await?;
        blocks.retain(|b| self.only.is_empty() || self.only.contains(&b.key));
        let unknown = |b: &Blocks| b.changed.is_none();
        let compared = self.parent.is_some() && blocks.iter().any(unknown);
        if self.whole {
            blocks.iter_mut().for_each(|b| b.changed = None);
        }
        let consistent = match self.taken.consistent {
            // Memory is not copied.
            Consistent::Memory | Consistent::Crash => Consistent::Crash,
            Consistent::Off => Consistent::Off,
            Consistent::Quiet => Consistent::Quiet,
        };
        let extents = AtHost {
            drivers: self.drivers.clone(),
            host: self.host.clone(),
            machine: self.kept.uuid,
            snapshot: self.taken.uuid,
            disks: blocks.iter().map(|b| b.key).collect(),
            last: Mutex::default(),
            paced: self.paced,
        };
        let disks = blocks.into_iter().map(|b| SourceDisk {
            key: b.key,
            size: b.size,
            held: b.held,
            changed: b.changed,
        });
        let source = Source {
            session: self.taken.uuid,
            instant: millis(self.taken.taken),
            consistency: consistency(&self.taken),
            machine: self.kept,
            disks: disks.collect(),
            parent: self.parent,
        };
        match self.store.copy(&source, &extents, &progress).await {
            Ok(copied) => Ok(Carried::There(Box::new(Done {
                copied,
                consistent,
                size: Bytes(source.disks.iter().map(|d| d.size).sum()),
                compared,
            }))),
            Err(StoreFault::Source(said)) => {
                let last = extents
                    .last
                    .lock()
                    .unwrap_or_else(PoisonError::into_inner)
                    .take();
                Err(last.unwrap_or_else(|| fault(&self.name, &StoreFault::Source(said))))
            }
            Err(why) => Err(fault(&self.name, &why)),
        }
    }
}

fn told(estate: &Estate, step: &Step, brought: Carried) -> Result<Outcome, Fault> {
    let (
        Step::Copy {
            machine,
            store,
            series,
            job,
            ends,
            whole,
            group,
            ..
        },
        Carried::There(brought),
    ) = (step, brought)
    else {
        return Err(premise("It was no copy."));
    };
    let machine = estate.machines.get(machine);
    let machine = machine.ok_or_else(|| premise("The machine is gone."))?;
    let Done {
        copied,
        consistent,
        size,
        compared,
    } = *brought;
    let m = copied.measured;
    let moment = |at: u64| Moment(i64::try_from(at).unwrap_or(i64::MAX));
    let taken = moment(copied.named.instant);
    let before = estate.backups_at(machine, *store);
    let before = before.and_then(|s| s.points.iter().rfind(|p| p.taken < taken));
    let point = StoredPoint {
        session: copied.named.session,
        taken,
        consistent,
        size,
        read: Bytes(m.read),
        stored: Bytes(m.stored),
        took: Span(m.took),
        job: *job,
        locked: copied.locked.map(moment),
        ends: *ends,
        group: *group,
        whole: Whole::of(taken, *whole || compared, before),
        equal: None,
        proof: None,
    };
    let said = format!(
        "{} read in {}, {} new in the store",
        point.read, point.took, point.stored
    );
    let event = carrying::Event::Copied {
        machine: machine.id,
        uuid: machine.uuid,
        name: machine.name.clone(),
        store: *store,
        series: *series,
        point: Box::new(point),
        compared,
    };
    Ok(done(vec![Event::Carrying(event)], said))
}
