//! Pairs: two sites, over whose line machines are replicated, both ways.

use super::{Estate, Host, Machine};
use crate::{
    caps::Cap,
    ids::{ClusterId, HostId, NetworkId, PairId, SiteId, VolumeId},
    moment::Moment,
};
use serde::{Deserialize, Serialize};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Pair {
    pub id: PairId,
    pub name: String,
    pub ends: [End; 2],
    /// Bytes are compressed for the line.
    pub squeezed: bool,
    /// What was wrong when it was tried last; none: nothing, as far as it was tried.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub trouble: Option<Trouble>,
}

/// Why a pair does not carry as it should.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Trouble {
    pub since: Moment,
    pub text: String,
}

/// One of the two sites.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct End {
    pub site: SiteId,
    /// Hosts by which bytes leave and arrive.
    pub carriers: BTreeSet<HostId>,
    /// The network for it, which its carriers have; none: that of management.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub network: Option<NetworkId>,
    /// What leaves from here takes no more of the line.
    #[serde(default, skip_serializing_if = "Cap::is_none")]
    pub cap: Cap,
    /// Where machines that come from the other side belong: by their cluster there.
    #[serde(default)]
    pub clusters: BTreeMap<ClusterId, ClusterId>,
    /// Where their disks lie, by the volume there; none: where there is most room of those that offer the same.
    #[serde(default)]
    pub volumes: BTreeMap<VolumeId, VolumeId>,
    /// What their cards are on, by the network there.
    #[serde(default)]
    pub networks: BTreeMap<NetworkId, NetworkId>,
}

/// A direction over a pair.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
pub struct Way {
    pub pair: PairId,
    pub from: SiteId,
}

/// A pair as seen in one direction.
#[derive(Debug, Clone, Copy)]
pub struct Road<'a> {
    pub pair: &'a Arc<Pair>,
    pub from: &'a End,
    pub to: &'a End,
}

impl Pair {
    pub fn ways(&self) -> [Way; 2] {
        [0, 1].map(|n| Way {
            pair: self.id,
            from: self.ends[n].site,
        })
    }
    /// The end at this site.
    pub fn end(&self, site: SiteId) -> Option<&End> {
        self.ends.iter().find(|e| e.site == site)
    }
    /// The end that is not at this site.
    pub fn other(&self, site: SiteId) -> Option<&End> {
        self.end(site)?;
        self.ends.iter().find(|e| e.site != site)
    }
}

impl End {
    /// Its carriers that are there, by number.
    pub fn carriers<'a>(&'a self, estate: &'a Estate) -> impl Iterator<Item = &'a Arc<Host>> {
        self.carriers.iter().filter_map(|id| estate.hosts.get(id))
    }
    pub fn site_name(&self, estate: &Estate) -> String {
        let site = estate.sites.get(&self.site);
        site.map_or_else(|| self.site.to_string(), |s| s.name.clone())
    }
}

impl Road<'_> {
    /// Networks of a machine's cards that nothing is said of, by number.
    pub fn lacks(&self, machine: &Machine) -> Vec<NetworkId> {
        let own = machine.nics.iter().filter_map(|n| n.network);
        let all: BTreeSet<NetworkId> = own.collect();
        let lacks = |n: &NetworkId| !self.to.networks.contains_key(n);
        all.into_iter().filter(lacks).collect()
    }
}

impl Estate {
    pub fn pair_named(&self, name: &str) -> Option<&Arc<Pair>> {
        self.pairs.values().find(|p| p.name == name)
    }
    /// The pair of a direction with where it leaves and where it arrives.
    pub fn road(&self, way: Way) -> Option<Road<'_>> {
        let pair = self.pairs.get(&way.pair)?;
        Some(Road {
            pair,
            from: pair.end(way.from)?,
            to: pair.other(way.from)?,
        })
    }
    /// `strait, Quayside to Hilltop`
    pub fn way_name(&self, way: Way) -> String {
        match self.road(way) {
            Some(r) => {
                let (from, to) = (r.from.site_name(self), r.to.site_name(self));
                format!("{}, {from} to {to}", r.pair.name)
            }
            None => way.pair.to_string(),
        }
    }
}
