//! A store looked through by a mover: which points are in it, and what those have that nobody knows.

use super::movers::{Carried, Look, Whither, over};
use crate::{
    Drivers, Outcome, Turn,
    backup::{Entry, Store, StoreFault},
    perform::{done, premise},
    rooms::stores::{fault, store_of},
};
use futures::{StreamExt, future::BoxFuture, stream};
use std::collections::{BTreeMap, BTreeSet};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Consistent, Estate, StoredPoint},
    ids::{JobId, SeriesId, StoreId},
    moment::{Moment, Span},
    rooms::{
        Event,
        stores::{self, FoundPoint, Read},
    },
    runs::Fault,
    units::Bytes,
};
use zastrugi_formats::backup::{Consistency, Manifest};

/// Manifests that are read at the same time.
const AT_ONCE: usize = 8;

/// What is known here of a store.
struct Known {
    store: StoreId,
    job: Option<JobId>,
    points: BTreeMap<Uuid, SeriesId>,
}

impl Drivers {
    pub(crate) async fn read_store(
        &self,
        estate: &Estate,
        (store, job): (StoreId, Option<JobId>),
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match self.movers.look(turn.key) {
            Look::Goes(_) => {
                let said = "its points are read".into();
                return Ok(Outcome::NotYet { said });
            }
            Look::Over(task) => {
                let Carried::Read(read) = over(task).await? else {
                    return Err(premise("Nothing was looked through."));
                };
                let said = format!(
                    "{} points, {} of them not known",
                    read.points,
                    read.found.len()
                );
                return Ok(done(vec![Event::Stores(stores::Event::Read(read))], said));
            }
            Look::None => {}
        }
        let of = store_of(estate, store)?;
        let (opened, name) = (self.open_store(of).await?, of.name.clone());
        let points = estate.series_in(store);
        let points = points.flat_map(|s| s.points.iter().map(|p| (p.session, s.id)));
        let known = Known {
            store,
            job,
            points: points.collect(),
        };
        self.movers
            .begin(turn.key, Whither::OutOfStore, |_| async move {
                let read = look_through(&opened, known).await;
                let read = read.map_err(|why| fault(&name, &why))?;
                Ok(Carried::Read(Box::new(read)))
            });
        let said = "its points are listed".into();
        Ok(Outcome::NotYet { said })
    }

    pub(crate) async fn give_up_reading(&self, turn: Turn<'_>) -> Outcome {
        self.movers.end(turn.key).await;
        let said = "nothing of it is told".into();
        Outcome::NotYet { said }
    }
}

/// One that can't be read is counted and is no point: a store is not worth less for it.
async fn look_through(store: &Store, known: Known) -> Result<Read, StoreFault> {
    let all = store.points(None).await?;
    let there: BTreeSet<Uuid> = all.iter().map(|e| e.named.session).collect();
    let gone = known
        .points
        .iter()
        .filter(|(session, _)| !there.contains(session));
    let gone = gone.map(|(session, series)| (*series, *session)).collect();
    let new = all
        .iter()
        .filter(|e| !known.points.contains_key(&e.named.session));
    let reads: Vec<_> = new.map(|entry| read_one(store, entry)).collect();
    let mut read = Read {
        store: known.store,
        points: all.len(),
        damaged: 0,
        found: Vec::new(),
        gone,
    };
    let mut answers = stream::iter(reads).buffered(AT_ONCE);
    while let Some(answer) = answers.next().await {
        match answer {
            Ok(manifest) => read.found.push(found(&manifest, known.job)),
            Err(StoreFault::Damaged { .. }) => read.damaged += 1,
            // It went meanwhile.
            Err(StoreFault::Gone(_)) => read.points -= 1,
            Err(why) => return Err(why),
        }
    }
    Ok(read)
}

/// Boxed: the compiler does not see of the whole that it can be sent.
fn read_one<'a>(store: &'a Store, entry: &'a Entry) -> BoxFuture<'a, Result<Manifest, StoreFault>> {
    Box::pin(store.manifest(&entry.named))
}

fn moment(at: u64) -> Moment {
    Moment(i64::try_from(at).unwrap_or(i64::MAX))
}

fn found(manifest: &Manifest, job: Option<JobId>) -> FoundPoint {
    let m = manifest.measured;
    FoundPoint {
        machine: manifest.machine.uuid,
        name: manifest.machine.name.clone(),
        point: StoredPoint {
            session: manifest.session,
            taken: moment(manifest.instant),
            consistent: match manifest.consistency {
                Consistency::Off => Consistent::Off,
                Consistency::Quiet => Consistent::Quiet,
                Consistency::Crash => Consistent::Crash,
            },
            size: Bytes(manifest.size()),
            read: Bytes(m.read),
            stored: Bytes(m.stored),
            took: Span(m.took),
            job,
            locked: manifest.locked.map(|l| moment(l.until)),
            ends: None,
            whole: None,
            group: None,
            equal: None,
            proof: None,
        },
    }
}
