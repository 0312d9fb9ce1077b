//! Disks of a recovery point brought from its store to a volume, where they lie as a delivery until they become disks of a machine.

use super::movers::{Brought, Carried, Look, Whither, over};
use crate::{
    Drivers, Outcome, Turn,
    agent::{Delivered, Placing, limited},
    backup::{Progress, Store, StoreFault},
    perform::{done, premise, stamp},
    rooms::stores::fault,
};
use futures::future::BoxFuture;
use std::{
    sync::{Arc, Mutex, PoisonError, atomic::Ordering},
    time::Duration,
};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Estate, FirmwareKind, Host, Kept, KeptDisk, Machine, PointAt, Provisioning},
    evidence::Answer,
    ids::{HostId, VolumeId},
    observe,
    rooms::{
        Event,
        carrying::{self, Step},
    },
    runs::{Fault, FaultKind},
    units::Bytes,
};
use zastrugi_formats::backup::{Disk, GRAIN, Manifest, Named};

/// A host that doesn't answer is told again this often, with a second between.
const TRIES: usize = 5;
/// What lies at the far end is looked through this often, until nothing is missing.
const LOOKS: usize = 3;
/// Pages of disks that are so large are not counted for a look: 64 of them, 1 TiB.
const COUNTED: usize = 64;

/// Where it is brought to: by which host, onto which volume, under which number.
pub(super) type To = (HostId, VolumeId, Uuid);

fn text(said: &str) -> String {
    limited(said.to_owned())
}

impl Drivers {
    /// The manifest of a point, from its store.
    pub(super) async fn manifest_of(
        &self,
        estate: &Estate,
        at: PointAt,
    ) -> Result<(Store, Manifest, String), Fault> {
        let (store, point) = at.found(estate).map_err(|f| premise(&f.text))?;
        let named = Named {
            machine: at.machine,
            instant: u64::try_from(point.taken.0).unwrap_or(0),
            session: at.session,
        };
        let opened = self.open_store(store).await?;
        let manifest = opened.manifest(&named).await;
        let manifest = manifest.map_err(|why| fault(&store.name, &why))?;
        Ok((opened, manifest, store.name.clone()))
    }

    /// What a point has, as its store has it.
    pub(crate) async fn kept_in(&self, estate: &Estate, at: PointAt) -> Result<Answer, Fault> {
        let (store, manifest, name) = match self.manifest_of(estate, at).await {
            Ok(read) => read,
            // It answers, and the point is not what it should be.
            Err(why) if why.kind == FaultKind::Refused => {
                return Ok(Answer::Refused { why: why.said });
            }
            Err(why) => return Err(why),
        };
        let mut disks = Vec::new();
        for disk in &manifest.disks {
            let held = match disk.pages.len() <= COUNTED {
                true => store.held(disk).await.map_err(|why| fault(&name, &why))?,
                false => disk.size,
            };
            disks.push(KeptDisk {
                key: disk.key,
                size: Bytes(disk.size),
                held: Bytes(held.min(disk.size)),
            });
        }
        let m = manifest.machine;
        let kept = Kept {
            name: text(&m.name),
            vcpus: m.vcpus,
            memory: Bytes(m.memory),
            firmware: match m.firmware.as_str() {
                "bios" => FirmwareKind::Bios,
                _ => FirmwareKind::Uefi,
            },
            cards: m
                .cards
                .iter()
                .map(|c| (text(&c.mac), text(&c.network)))
                .collect(),
            labels: m
                .labels
                .iter()
                .map(|l| (text(&l.key), text(&l.value)))
                .collect(),
            note: m.note,
            disks,
        };
        Ok(Answer::Point(Box::new(kept)))
    }

    /// Disks of a point come to a volume; none said: all of them.
    pub(crate) async fn bring_point(
        &self,
        estate: &Estate,
        to: To,
        (at, wanted): (PointAt, Option<&[Uuid]>),
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match self.movers.look(turn.key) {
            Look::Goes(said) => return Ok(Outcome::NotYet { said }),
            Look::Over(task) => {
                return match over(task).await {
                    Ok(Carried::Brought(bytes)) => Ok(done(vec![], format!("{bytes} brought"))),
                    Ok(
                        Carried::There(_)
                        | Carried::Swept(_)
                        | Carried::Read(_)
                        | Carried::Shipped(_)
                        | Carried::Equal(..),
                    ) => Err(premise("It was no delivery.")),
                    // What may pass goes on where it was; of all else nothing is left to be forgotten.
                    Err(why) => {
                        if !why.passing() {
                            drop(self.end_delivery(estate, to, turn).await);
                        }
                        Err(why)
                    }
                };
            }
            Look::None => {}
        }
        let (via, volume, delivery) = to;
        let host = self.host_of(estate, via)?;
        let volume = estate.volumes.get(&volume);
        let volume = volume.ok_or_else(|| premise("The volume is gone."))?;
        let (store, manifest, name) = self.manifest_of(estate, at).await?;
        let disks: Vec<Disk> = manifest
            .disks
            .into_iter()
            .filter(|d| wanted.is_none_or(|w| w.contains(&d.key)))
            .collect();
        let mut needs = 0;
        for disk in &disks {
            needs += store.held(disk).await.map_err(|why| fault(&name, &why))?;
        }
        let key = self.key_of(host).await?;
        let sizes: Vec<(Uuid, u64)> = disks.iter().map(|d| (d.key, d.size)).collect();
        self.agent(host, &key)
            .begin_delivery(stamp(turn), (&volume.uid, &delivery), &sizes, needs)
            .await?;
        let bring = Bring {
            host: AtHost {
                drivers: self.clone(),
                host: self.owned(estate, via)?,
                volume: volume.uid.clone(),
                delivery,
                last: Mutex::default(),
            },
            store,
            name,
            disks,
            needs,
        };
        self.movers
            .begin(turn.key, Whither::OutOfStore, |p| bring.carry(p));
        Ok(Outcome::NotYet {
            said: format!("{} are to come", Bytes(needs)),
        })
    }

    fn owned(&self, estate: &Estate, host: HostId) -> Result<Arc<Host>, Fault> {
        let host = estate.hosts.get(&host).cloned();
        host.ok_or_else(|| premise("The host is gone."))
    }

    /// Nobody wants it any more.
    pub(crate) async fn end_delivery(
        &self,
        estate: &Estate,
        (via, volume, delivery): To,
        turn: Turn<'_>,
    ) -> Result<(), Fault> {
        self.movers.end(turn.key).await;
        let host = self.host_of(estate, via)?;
        let volume = estate.volumes.get(&volume);
        let volume = volume.ok_or_else(|| premise("The volume is gone."))?;
        let key = self.key_of(host).await?;
        self.agent(host, &key)
            .drop_delivery(stamp(turn), (&volume.uid, &delivery))
            .await
    }

    /// What was brought becomes what disks of the machine hold.
    pub(super) async fn place(
        &self,
        estate: &Estate,
        machine: &Machine,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Place {
            via,
            volume,
            delivery,
            point,
            disks,
            ..
        } = step
        else {
            return Err(premise("Nothing is put in place."));
        };
        let host = self.host_of(estate, *via)?;
        let on = estate.volumes.get(volume);
        let on = on.ok_or_else(|| premise("The volume is gone."))?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let placing: Vec<Placing> = disks
            .iter()
            .map(|d| Placing {
                from: d.from,
                onto: d.onto.key,
                new: d.new,
                size: d.onto.size.0,
                thick: d.onto.provisioning == Provisioning::Thick,
            })
            .collect();
        let bytes = agent
            .place_delivery(stamp(turn), &machine.uuid, (&on.uid, delivery), &placing)
            .await?;
        let seen = agent.machine(&machine.uuid).await?;
        let as_of = seen.as_of.map(|a| a.at(host.id));
        let (now, _) = observe::hardware(estate, machine, &seen.read());
        let new = disks.iter().filter(|d| d.new).count();
        let taken = point.found(estate).map_or(turn.now, |(_, p)| p.taken);
        let placed = carrying::Event::Placed {
            machine: machine.id,
            disks: now,
            // Off, it says nothing of its host.
            as_of: as_of.filter(|_| !machine.is_off()),
            point: *point,
            taken,
            over: disks.len() - new,
            new,
            bytes: Bytes(bytes),
        };
        let said = format!("{} in place", Bytes(bytes));
        Ok(done(vec![Event::Carrying(placed)], said))
    }
}

/// The delivery at the host that takes it.
pub(crate) struct AtHost {
    pub(crate) drivers: Drivers,
    pub(crate) host: Arc<Host>,
    pub(crate) volume: String,
    pub(crate) delivery: Uuid,
    /// What the host said last when it said no.
    pub(crate) last: Mutex<Option<Fault>>,
}

impl AtHost {
    /// Asked again where it does not answer.
    async fn asked<'a, T: 'a>(
        &'a self,
        call: impl Fn() -> BoxFuture<'a, Result<T, Fault>> + Send,
    ) -> Result<T, StoreFault> {
        let mut tried = 1;
        loop {
            match call().await {
                Ok(said) => return Ok(said),
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

    /// `packed`: by zstd (RFC 8878).
    pub(crate) fn put(
        &self,
        disk: Uuid,
        from: u64,
        bytes: Vec<u8>,
        packed: bool,
    ) -> BoxFuture<'_, Result<(), StoreFault>> {
        let bytes = bytes::Bytes::from(bytes);
        Box::pin(self.asked(move || {
            let bytes = bytes.clone();
            Box::pin(async move {
                let key = self.drivers.key_of(&self.host).await?;
                let agent = self.drivers.agent(&self.host, &key);
                let at = (self.volume.as_str(), &self.delivery);
                agent.deliver(at, &disk, from, (bytes, packed)).await
            })
        }))
    }

    pub(crate) fn there(&self) -> BoxFuture<'_, Result<Vec<Delivered>, StoreFault>> {
        Box::pin(self.asked(move || {
            Box::pin(async move {
                let key = self.drivers.key_of(&self.host).await?;
                let agent = self.drivers.agent(&self.host, &key);
                let said = agent.delivery((&self.volume, &self.delivery)).await?;
                said.read()
                    .map_err(|why| crate::fault::garbled(&self.host.name, &why))
            })
        }))
    }
}

/// All that one delivery needs, for as long as it goes on.
struct Bring {
    host: AtHost,
    store: Store,
    name: String,
    disks: Vec<Disk>,
    needs: u64,
}

impl Bring {
    async fn carry(self, progress: Arc<Progress>) -> Brought {
        progress.of.store(self.needs, Ordering::Relaxed);
        match self.all(&progress).await {
            Ok(()) => Ok(Carried::Brought(Bytes(self.needs))),
            Err(why) => {
                let last = self.host.last.lock();
                let last = last.unwrap_or_else(PoisonError::into_inner).take();
                Err(last.unwrap_or_else(|| fault(&self.name, &why)))
            }
        }
    }

    /// What the far end says that it has is not brought again; it is over when it says so of everything.
    async fn all(&self, progress: &Progress) -> Result<(), StoreFault> {
        for _ in 0..LOOKS {
            let there = self.host.there().await?;
            let has = |disk: &Disk, at: u64| {
                let of = there.iter().find(|d| d.key == disk.key);
                of.is_some_and(|d| d.has(at, GRAIN.min(disk.size - at)))
            };
            progress.done.store(0, Ordering::Relaxed);
            let mut missing = 0;
            for disk in &self.disks {
                missing += self.one(disk, |at| !has(disk, at), progress).await?;
            }
            if missing == 0 {
                return Ok(());
            }
        }
        let said = "The host forgets what it was brought.".to_owned();
        Err(StoreFault::Source(said))
    }

    /// Brings what is missing of a disk; how many chunks that was.
    async fn one(
        &self,
        disk: &Disk,
        missing: impl Fn(u64) -> bool + Send + Sync,
        progress: &Progress,
    ) -> Result<usize, StoreFault> {
        let brought = std::sync::atomic::AtomicUsize::new(0);
        let wanted = |at: u64| {
            let wanted = missing(at);
            if !wanted {
                progress.done.fetch_add(GRAIN, Ordering::Relaxed);
            }
            wanted
        };
        let put = |at: u64, plain: Vec<u8>| {
            let brought = &brought;
            async move {
                self.host.put(disk.key, at, plain, false).await?;
                brought.fetch_add(1, Ordering::Relaxed);
                progress.done.fetch_add(GRAIN, Ordering::Relaxed);
                Ok(())
            }
        };
        self.store.bytes_of(disk, wanted, put).await?;
        Ok(brought.into_inner())
    }
}
