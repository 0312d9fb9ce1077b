//! Stores of backups: their keys are drawn and kept, then they are made.

use crate::{
    Drivers, Outcome, Turn,
    backup::{Bucket, Place, Store, StoreFault},
    perform::{done, premise},
};
use std::time::Duration;
use zastrugi_core::{
    estate::{self, Estate, Export, Lies},
    evidence::Answer,
    ids::StoreId,
    moment::Span,
    rooms::{
        Event,
        stores::{self, Step},
    },
    runs::{Fault, FaultKind},
};
use zastrugi_formats::backup::{Key, Named};

/// A fault of a store, as a step tells of it.
pub(crate) fn fault(store: &str, why: &StoreFault) -> Fault {
    let said = format!("{store}: {why}.");
    let (kind, remedy) = match why {
        StoreFault::Slow => (FaultKind::TimedOut, "It is asked again."),
        StoreFault::Silent(_) => (
            FaultKind::Unreachable,
            "It is asked again; look at its server and at the line to it.",
        ),
        StoreFault::Full(_) => (
            FaultKind::Refused,
            "Make room in the bucket, then retry: it goes on where it was.",
        ),
        StoreFault::Refused(_) => (
            FaultKind::Refused,
            "Look at the bucket, and at the rights of its access key.",
        ),
        StoreFault::Taken => (
            FaultKind::Refused,
            "Choose an empty bucket or another folder.",
        ),
        StoreFault::Locked(_) => (
            FaultKind::Refused,
            "Wait until its time is over; nobody can take it away before.",
        ),
        StoreFault::Clock(_) => (
            FaultKind::Refused,
            "Set the clock that is wrong, then retry: nothing was locked by it.",
        ),
        StoreFault::Gone(_) | StoreFault::NoStore => (
            FaultKind::Refused,
            "Look at the bucket: what was there is gone.",
        ),
        StoreFault::Version(_) | StoreFault::Key | StoreFault::Damaged { .. } => (
            FaultKind::Refused,
            "Nothing is written to it; look who else writes there.",
        ),
        StoreFault::Revoked => (
            FaultKind::Refused,
            "Cancel the run and back up again: with another mark it counts.",
        ),
        StoreFault::Source(_) => (FaultKind::Garbled, "It is tried again."),
    };
    Fault::new(kind, said, remedy)
}

pub(crate) fn store_of(estate: &Estate, id: StoreId) -> Result<&estate::Store, Fault> {
    let found = estate.stores.get(&id);
    found
        .map(|s| &**s)
        .ok_or_else(|| premise("The store is gone."))
}

fn span(lock: Option<Duration>) -> Option<Span> {
    lock.map(|l| Span(u64::try_from(l.as_millis()).unwrap_or(u64::MAX)))
}

impl Drivers {
    /// Which certificate a server of buckets shows; nothing secret is sent.
    pub(crate) async fn store_greeting(&self, address: &str) -> Result<Answer, Fault> {
        self.networks().check_store(address)?;
        let pin = self.http.shown(address).await?;
        Ok(Answer::Manager {
            name: "A server".into(),
            pin,
        })
    }

    async fn place_of(&self, store: &estate::Store) -> Result<Place, Fault> {
        let bucket = match &store.lies {
            Lies::Bucket(bucket) => bucket,
            Lies::Export(e) => return self.exported(e),
        };
        self.networks().check_store(&bucket.address)?;
        let secret = bucket
            .secret
            .ok_or_else(|| premise("No secret of its access key is kept."))?;
        Ok(Place::Bucket(Bucket {
            endpoint: format!("https://{}", bucket.address),
            region: bucket.region.clone(),
            name: bucket.name.clone(),
            prefix: bucket.folder.clone(),
            access: bucket.access.clone(),
            secret: self.secrets.open(secret).await?,
            pin: bucket.pin.clone(),
        }))
    }

    /// The folder of an export, which is made where it is not there.
    fn exported(&self, of: &Export) -> Result<Place, Fault> {
        let name = &of.export;
        let path = self.exports.path(name, &of.folder);
        let missing = || {
            premise(&format!(
                "No export {name} is mounted where this process runs."
            ))
        };
        let path = path.ok_or_else(missing)?;
        let root = self.exports.path(name, "").filter(|p| p.is_dir());
        root.ok_or_else(missing)?;
        let made = std::fs::create_dir_all(&path);
        made.map_err(|e| premise(&format!("The folder in {name} can't be made: {e}.")))?;
        Ok(Place::Folder(path))
    }

    async fn store_key(&self, store: &estate::Store) -> Result<Key, Fault> {
        let key = store.key.ok_or_else(|| premise("The store has no key."))?;
        let written = self.secrets.open(key).await?;
        Key::read(&written)
            .map_err(|e| premise(&format!("The key that is kept can't be read: {e}.")))
    }

    /// A store that is there, opened.
    pub(crate) async fn open_store(&self, store: &estate::Store) -> Result<Store, Fault> {
        let (place, key) = (self.place_of(store).await?, self.store_key(store).await?);
        let opened = Store::open(&place, &key)
            .await
            .map_err(|e| fault(&store.name, &e))?;
        match opened.id() == store.uuid {
            true if span(opened.lock()) == store.lock => Ok(opened),
            true => Err(premise(&format!(
                "{} says that it locks for another time than it did; look who else has its key.",
                store.name
            ))),
            false => Err(fault(&store.name, &StoreFault::NoStore)),
        }
    }

    pub(crate) async fn give_up_store(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Sweep { .. } => Ok(self.give_up_sweeping(turn).await),
            Step::Read { .. } => Ok(self.give_up_reading(turn).await),
            Step::Key { .. } | Step::Make { .. } | Step::Expire { .. } | Step::Open { .. } => {
                self.at_store(estate, step, turn).await
            }
        }
    }

    pub(crate) async fn at_store(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let store = store_of(estate, step.store())?;
        match step {
            Step::Expire { points, .. } => {
                let opened = self.open_store(store).await?;
                let mut went = Vec::new();
                for point in points {
                    let named = Named {
                        machine: point.machine,
                        instant: u64::try_from(point.taken.0).unwrap_or(0),
                        session: point.session,
                    };
                    match opened.expire(&named).await {
                        Ok(()) => went.push((point.series, point.session)),
                        // By the server's clock its time is not over: it goes another time.
                        Err(StoreFault::Locked(_)) => {}
                        Err(why) => return Err(fault(&store.name, &why)),
                    }
                }
                let said = match points.len() - went.len() {
                    0 => format!("{} points went", went.len()),
                    held => format!("{} points went, {held} are locked still", went.len()),
                };
                let expired = stores::Event::Expired {
                    store: store.id,
                    points: went,
                };
                Ok(done(vec![Event::Stores(expired)], said))
            }
            Step::Sweep { store } => self.sweep_store(estate, *store, turn).await,
            Step::Read { store, job } => self.read_store(estate, (*store, *job), turn).await,
            Step::Open { .. } => {
                let (place, key) = (self.place_of(store).await?, self.store_key(store).await?);
                let opened = Store::open(&place, &key).await;
                let opened = opened.map_err(|e| fault(&store.name, &e))?;
                let other = estate
                    .stores
                    .values()
                    .find(|s| s.id != store.id && s.uuid == opened.id());
                if let Some(other) = other {
                    return Err(premise(&format!("{} is the same store.", other.name)));
                }
                let event = stores::Event::Opened {
                    store: store.id,
                    uuid: opened.id(),
                    lock: span(opened.lock()),
                    at: turn.now,
                };
                Ok(done(vec![Event::Stores(event)], "it is open"))
            }
            Step::Key { .. } => {
                // Asked again after an answer that was lost: one that nothing names is forgotten later.
                let key = Key::new(rand::random());
                let key = self.secrets.keep(key.written()).await?;
                let keyed = stores::Event::Keyed {
                    store: store.id,
                    key,
                };
                Ok(done(vec![Event::Stores(keyed)], "a key is kept"))
            }
            Step::Make { .. } => {
                let (place, key) = (self.place_of(store).await?, self.store_key(store).await?);
                let lock = store.lock.map(|l| Duration::from_millis(l.0));
                match Store::create(&place, &key, store.uuid, lock).await {
                    Ok(_) => {}
                    // Perhaps it was we: then our key opens it.
                    Err(StoreFault::Taken) => match Store::open(&place, &key).await {
                        Ok(there) if there.id() == store.uuid => {}
                        _ => return Err(fault(&store.name, &StoreFault::Taken)),
                    },
                    Err(why) => return Err(fault(&store.name, &why)),
                }
                let made = stores::Event::Made { store: store.id };
                Ok(done(vec![Event::Stores(made)], "it is made"))
            }
        }
    }
}
