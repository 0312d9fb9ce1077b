//! By what it can be proved that a host runs nothing, or writes nothing, without a person (rules, section 4).

use super::{Array, ArrayCondition, Estate, Host};
use crate::{
    ids::VolumeId,
    moment::{Moment, Span},
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, sync::Arc};

/// What is turned to, in this order.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Means {
    Controller,
    /// The arrays beneath its volumes let it reach nothing any more.
    Storage,
    Watchdog,
}

impl Means {
    pub fn words(self) -> &'static str {
        match self {
            Means::Controller => "its controller",
            Means::Storage => "its arrays",
            Means::Watchdog => "its watchdog",
        }
    }
    /// From the silence of its agent to the proof, where this is what proves it.
    pub fn takes(self) -> Span {
        match self {
            // Two looks, three seconds apart.
            Means::Controller => Span::secs(6),
            // Its lease must stand still for 25 s; then the arrays are asked.
            Means::Storage => Span::secs(14),
            // A lease and half of one, less what its silence took.
            Means::Watchdog => Span::secs(75),
        }
    }
}

/// The last time that somebody tried whether a host's controller does what it is told.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct FencingTest {
    pub at: Moment,
    pub worked: bool,
    /// What came of it, as a sentence without its end.
    pub said: String,
}

impl FencingTest {
    /// What was tried longer ago says little of today.
    pub const GOOD_FOR: Span = Span::days(180);

    pub fn is_old(&self, now: Moment) -> bool {
        now.since(self.at) >= Self::GOOD_FOR
    }
}

impl Host {
    /// What there is to say of its controller as a means, where that is a thought worth.
    pub fn untested(&self, now: Moment) -> Option<String> {
        match &self.fencing {
            _ if self.bmc.as_ref().is_none_or(|b| b.key.is_none()) => None,
            None => Some("whether its controller switches it off was never tested".into()),
            Some(test) if !test.worked => Some(format!(
                "its controller failed its last test: {}",
                test.said
            )),
            Some(test) if test.is_old(now) => Some(format!(
                "its controller was last tested {} ago",
                now.since(test.at)
            )),
            Some(_) => None,
        }
    }
}

impl Estate {
    /// By what a host can be fenced as things are, best first. A controller that failed its test doesn't count.
    pub fn means(&self, host: &Host) -> Vec<Means> {
        let failed = host.fencing.as_ref().is_some_and(|t| !t.worked);
        let controller = host.bmc.as_ref().is_some_and(|b| b.key.is_some()) && !failed;
        let all = [
            (Means::Controller, controller),
            (Means::Storage, self.arrays_beneath(host).is_some()),
            (Means::Watchdog, host.watchdog),
        ];
        all.into_iter()
            .filter(|(_, has)| *has)
            .map(|(means, _)| means)
            .collect()
    }

    /// Each volume that a host may write to with the array that can shut it out; none where one of them has none that answers.
    pub fn arrays_beneath(&self, host: &Host) -> Option<Vec<(VolumeId, Arc<Array>)>> {
        if host.initiator.is_empty() {
            return None;
        }
        let used = self.machines_on(host.id).flat_map(|m| m.volumes());
        let all: BTreeSet<VolumeId> = host.mounts.keys().copied().chain(used).collect();
        if all.is_empty() {
            return None;
        }
        let beneath = |id: VolumeId| {
            let backing = self.volumes.get(&id)?.backing.as_ref()?;
            let array = self.arrays.get(&backing.array)?;
            let answers =
                array.key.is_some() && !matches!(array.condition, ArrayCondition::Lost { .. });
            answers.then(|| (id, array.clone()))
        };
        all.into_iter().map(beneath).collect()
    }
}
