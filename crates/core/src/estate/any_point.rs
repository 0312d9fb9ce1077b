//! Which recovery point, wherever it lies: in a store, or with a replica.

use super::{Estate, Machine, PointAt, StoredPoint};
use crate::{
    finding::{Finding, Rule},
    ids::{MachineId, SiteId},
};
use serde::{Deserialize, Serialize};
use std::{fmt, str::FromStr, sync::Arc};
use uuid::Uuid;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(untagged)]
pub enum AnyPoint {
    Stored(PointAt),
    /// A snapshot of a replica.
    Replicated {
        replica: MachineId,
        session: Uuid,
    },
}

impl AnyPoint {
    pub fn session(self) -> Uuid {
        match self {
            AnyPoint::Stored(at) => at.session,
            AnyPoint::Replicated { session, .. } => session,
        }
    }

    /// In a store, if it is in one.
    pub fn stored(self) -> Option<PointAt> {
        match self {
            AnyPoint::Stored(at) => Some(at),
            AnyPoint::Replicated { .. } => None,
        }
    }

    /// The point, as it is known.
    ///
    /// # Errors
    /// What of it is gone, as a finding without a field.
    pub fn found(self, estate: &Estate) -> Result<&StoredPoint, Finding> {
        let stop = |text: &str| Err(Finding::stop(Rule::Exists, "recovery point", text));
        let (replica, session) = match self {
            AnyPoint::Stored(at) => return at.found(estate).map(|(_, point)| point),
            AnyPoint::Replicated { replica, session } => (replica, session),
        };
        let there = |m: &&Arc<Machine>| m.deleted.is_none();
        let Some(machine) = estate.machines.get(&replica).filter(there) else {
            return stop("The replica is gone.");
        };
        let found = machine.held_points().find(|p| p.session == session);
        match found {
            None if machine.replica.is_none() => stop("The replica is a machine of its own now."),
            Some(point) => Ok(point),
            None => stop("There is no such recovery point any more."),
        }
    }

    /// The machine that it is of, if that is there.
    pub fn original(self, estate: &Estate) -> Option<&Arc<Machine>> {
        let of = match self {
            AnyPoint::Stored(at) => at.machine,
            AnyPoint::Replicated { replica, .. } => {
                let machine = estate.machines.get(&replica)?;
                // What went over holds points of its own.
                machine.replica.as_ref().map_or(machine.uuid, |r| r.of)
            }
        };
        estate.whose(&of)
    }

    /// Where its bytes lie.
    pub fn site(self, estate: &Estate) -> Option<SiteId> {
        match self {
            AnyPoint::Stored(at) => estate.stores.get(&at.store).map(|s| s.site),
            AnyPoint::Replicated { replica, .. } => estate.site_of(estate.machines.get(&replica)?),
        }
    }

    /// What people call it.
    pub fn words(self, estate: &Estate) -> String {
        let (replica, session) = match self {
            AnyPoint::Stored(at) => return at.words(estate),
            AnyPoint::Replicated { replica, session } => (replica, session),
        };
        let machine = estate.machines.get(&replica);
        let of = machine.and_then(|m| m.replica.as_ref());
        let own = machine.map_or("a machine", |m| m.name.as_str());
        let of = of.map_or(own, |r| r.name.as_str());
        let point = machine.and_then(|m| m.held_points().find(|p| p.session == session));
        let name = machine.map_or_else(|| replica.to_string(), |m| m.name.clone());
        match point {
            Some(point) => format!("{of} as of {} UTC, as {name} has it", point.taken.stamp()),
            None => format!("a recovery point of {of}, of {name}"),
        }
    }
}

impl From<PointAt> for AnyPoint {
    fn from(at: PointAt) -> AnyPoint {
        AnyPoint::Stored(at)
    }
}

impl fmt::Display for AnyPoint {
    /// As [`PointAt`], or `replica-12.` with the identity of the session.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            AnyPoint::Stored(at) => at.fmt(f),
            AnyPoint::Replicated { replica, session } => {
                write!(f, "replica-{}.{}", replica.0, session.simple())
            }
        }
    }
}

impl FromStr for AnyPoint {
    type Err = ();

    fn from_str(text: &str) -> Result<AnyPoint, ()> {
        let Some(rest) = text.strip_prefix("replica-") else {
            return text.parse().map(AnyPoint::Stored);
        };
        let (replica, session) = rest.split_once('.').ok_or(())?;
        Ok(AnyPoint::Replicated {
            replica: MachineId(replica.parse().map_err(drop)?),
            session: session.parse().map_err(drop)?,
        })
    }
}
