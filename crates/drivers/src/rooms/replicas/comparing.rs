//! Both sides say what they hold: by SHA-256 of each extent that the last copy touched, of all where nobody knows which those are.

use super::{at, shipping::EXTENT};
use crate::{
    Drivers, Outcome, Turn,
    fault::garbled,
    perform::{done, premise},
    rooms::carrying::{Brought, Carried, Whither},
};
use futures::future::BoxFuture;
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    estate::{Equal, Estate, Host, Twin},
    layers::GRAIN,
    rooms::{
        Event,
        replicas::{self, Step},
    },
    runs::{Fault, FaultKind},
};

/// The most extents in one question.
const AT_ONCE: u64 = 64;

/// What is needed for it, for as long as it goes on.
struct Comparison {
    drivers: Drivers,
    /// Who is asked, by which identity of the machine.
    here: (Arc<Host>, Uuid),
    there: (Arc<Host>, Uuid),
    snapshot: Uuid,
    /// The point before it.
    base: Option<Uuid>,
    disks: Vec<Twin>,
    names: (String, String),
}

impl Drivers {
    pub(super) fn compare(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let Step::Compare {
            machine,
            via,
            snapshot,
            replica,
            to,
            ..
        } = step
        else {
            return Err(premise("Nothing is compared."));
        };
        let (original, own) = (at(estate, *machine)?, at(estate, *replica)?);
        let of = own.replica.as_ref();
        let of = of.ok_or_else(|| premise("It is no replica any more."))?;
        let here = self.host_of(estate, original.host.unwrap_or(*via))?;
        let there = self.host_of(estate, *to)?;
        for host in [here, there] {
            self.allowed(&host.access.address)?;
        }
        let mut before = own.replicated().take_while(|p| p.session != *snapshot);
        // A copy of everything says nothing of what it touched.
        let whole = |p: &zastrugi_core::estate::StoredPoint| p.whole.is_some_and(|w| w.since == 0);
        let last = own.replicated().find(|p| p.session == *snapshot);
        let base = before.by_ref().last().map(|p| p.session);
        let comparison = Comparison {
            drivers: self.clone(),
            here: (Arc::new(here.clone()), original.uuid),
            there: (Arc::new(there.clone()), own.uuid),
            snapshot: *snapshot,
            base: base.filter(|_| !last.is_some_and(whole)),
            disks: of.disks.clone(),
            names: (original.name.clone(), own.name.clone()),
        };
        self.movers
            .begin(turn.key, Whither::OverPair, |_| comparison.compared());
        Ok(Outcome::NotYet {
            said: "both sides are asked what they hold".into(),
        })
    }
}

/// That they are equal is kept with the point.
pub(super) fn equal(
    step: &Step,
    (extents, all): (u64, bool),
    turn: Turn<'_>,
) -> Result<Outcome, Fault> {
    let Step::Compare {
        snapshot, replica, ..
    } = step
    else {
        return Err(premise("Nothing is compared."));
    };
    let equal = Equal {
        at: turn.now,
        extents,
        all,
    };
    let compared = replicas::Event::Compared {
        machine: *replica,
        point: *snapshot,
        equal,
    };
    let of = if all { "all " } else { "" };
    let said = format!("{of}{extents} extents are the same at both sides");
    Ok(done(vec![Event::Replicas(compared)], said))
}

impl Comparison {
    async fn compared(self) -> Brought {
        let key = self.drivers.key_of(&self.here.0).await?;
        let agent = self.drivers.agent(&self.here.0, &key);
        let said = agent
            .blocks(&self.here.1, &self.snapshot, self.base)
            .await?;
        let all = said
            .read()
            .map_err(|why| garbled(&self.here.0.name, &why))?;
        let mut extents = 0;
        let mut whole = true;
        for twin in &self.disks {
            // What is copied of it was, until somebody took the disk away.
            let Some(of) = all.iter().find(|b| b.key == twin.original) else {
                continue;
            };
            let known = of.changed.as_ref().filter(|_| self.base.is_some());
            whole &= known.is_none();
            let count = of.size.div_ceil(EXTENT);
            let touched: BTreeSet<u64> = match known {
                Some(changed) => changed
                    .iter()
                    .map(|b| u64::from(b) * GRAIN.0 / EXTENT)
                    .filter(|n| *n < count)
                    .collect(),
                None => (0..count).collect(),
            };
            extents += self.of_disk(twin, &touched).await?;
        }
        Ok(Carried::Equal(extents, whole))
    }

    /// How many extents of a disk are equal: all that were touched.
    async fn of_disk(&self, twin: &Twin, touched: &BTreeSet<u64>) -> Result<u64, Fault> {
        let mut left: Vec<u64> = touched.iter().copied().rev().collect();
        let mut same = 0;
        while let Some(first) = left.pop() {
            let mut count = 1;
            while left.last() == Some(&(first + count)) && count < AT_ONCE {
                left.pop();
                count += 1;
            }
            let range = (first * EXTENT, count);
            let here = self.digests(&self.here, twin.original, range);
            let there = self.digests(&self.there, twin.own, range);
            let (here, there) = futures::future::try_join(here, there).await?;
            if here.is_empty() || here != there {
                return Err(self.differ(first, &here, &there));
            }
            same += count;
        }
        Ok(same)
    }

    fn digests<'a>(
        &'a self,
        (host, machine): &'a (Arc<Host>, Uuid),
        disk: Uuid,
        range: (u64, u64),
    ) -> BoxFuture<'a, Result<Vec<String>, Fault>> {
        Box::pin(async move {
            let key = self.drivers.key_of(host).await?;
            let agent = self.drivers.agent(host, &key);
            agent.digests(machine, &self.snapshot, &disk, range).await
        })
    }

    /// Nothing goes on from what is not what it was.
    fn differ(&self, first: u64, here: &[String], there: &[String]) -> Fault {
        let differs = |n: &usize| here.get(*n) != there.get(*n);
        let count = (0..here.len().max(there.len())).filter(differs).count();
        let (name, own) = &self.names;
        let at = first * EXTENT / (1 << 20);
        Fault::new(
            FaultKind::Refused,
            format!(
                "{own} does not hold what {name} holds: {count} extents from {at} MiB on differ."
            ),
            "Nothing has started at the other site. Stop the run, power the machines on again, and let the job compare all of both sides.",
        )
    }
}
