//! Load balancers: a small HTTP API that sets fronts, and TCP and HTTP that is really balanced, over loopback sockets.
//! The API stands in `docs/balancer.md`.

pub(crate) mod calls;
pub(crate) mod live;
mod passing;

pub(crate) use passing::answer as page;

use crate::{
    make::identity,
    rooms::hosts::host::Identity,
    scenario::ScenarioBalancer,
    world::{State, World},
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeMap, io, net::IpAddr};

#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct LoadBalancer {
    pub(crate) name: String,
    /// Of its management, `ip:port`.
    pub(crate) address: String,
    pub(crate) identity: Identity,
    pub(crate) token: String,
    pub(crate) up: bool,
    #[serde(default)]
    pub(crate) fronts: BTreeMap<String, Config>,
    /// The highest (epoch, fence) that each front was set with.
    #[serde(default)]
    pub(crate) fences: BTreeMap<String, (u64, u64)>,
}

/// A front as it was set.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct Config {
    pub(crate) name: String,
    pub(crate) address: IpAddr,
    pub(crate) port: u16,
    /// `tcp`, `http` or `https`.
    pub(crate) protocol: String,
    /// What is shown by TLS, and its key, both in PEM.
    #[serde(default)]
    pub(crate) certificate: Option<String>,
    #[serde(default)]
    pub(crate) key: Option<String>,
    /// `round-robin`, `least-connections` or `source`.
    pub(crate) method: String,
    /// `none`, `cookie` or `source`.
    pub(crate) persistence: String,
    pub(crate) health: HealthConfig,
    pub(crate) drain_s: u32,
    /// By `address:port`.
    pub(crate) members: BTreeMap<String, MemberConfig>,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct HealthConfig {
    /// `tcp` or `http`.
    pub(crate) kind: String,
    #[serde(default)]
    pub(crate) path: String,
    #[serde(default)]
    pub(crate) status: u16,
    #[serde(default)]
    pub(crate) text: String,
    pub(crate) every_s: u32,
    pub(crate) falls: u8,
    pub(crate) rises: u8,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub(crate) struct MemberConfig {
    pub(crate) name: String,
    pub(crate) admitted: bool,
}

impl LoadBalancer {
    /// Whether one of its fronts has the address, and it is up.
    pub(crate) fn stands_at(&self, address: IpAddr) -> bool {
        self.up && self.fronts.values().any(|f| f.address == address)
    }
    pub(crate) fn of(name: &str, made: &ScenarioBalancer, net: &str) -> io::Result<Self> {
        Ok(LoadBalancer {
            name: name.into(),
            address: format!("{net}.{}:8443", made.address),
            identity: identity(name)?,
            token: made.token.clone(),
            up: true,
            fronts: BTreeMap::new(),
            fences: BTreeMap::new(),
        })
    }

    /// Where a front's address is listened on: the last two numbers of it, in the network of the stand-ins.
    fn loopback(&self, address: IpAddr) -> String {
        let mut net = self.address.split('.');
        let (a, b) = (net.next().unwrap_or("127"), net.next().unwrap_or("77"));
        let [c, d] = match address {
            IpAddr::V4(a) => [a.octets()[2], a.octets()[3]],
            IpAddr::V6(a) => [a.octets()[14], a.octets()[15]],
        };
        format!("{a}.{b}.{c}.{d}")
    }
}

/// What a guest does at a port of its.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Service {
    /// It answers, with its machine's name.
    Answers(String),
    /// Connections are taken, and nothing comes.
    Hangs,
    /// Nobody is there.
    Nobody,
}

impl State {
    /// Who serves at an address of guests.
    pub(crate) fn service_at(&self, address: IpAddr, now: i64) -> Service {
        let text = address.to_string();
        let text = text.as_str();
        let has = |r: &crate::rooms::storage::volume::Record| {
            r.nics
                .iter()
                .any(|n| n.addresses.iter().any(|a| **a == *text))
        };
        let records = self.volumes.values().flat_map(|v| &v.records);
        for (uuid, record) in records.filter(|(_, r)| has(r)) {
            let guest = self
                .hosts
                .values()
                .filter(|h| h.power)
                .find_map(|h| h.guests.get(uuid));
            let Some(guest) = guest else { continue };
            return match guest.phase(now, record.temper) {
                "up" if guest.hung.is_some() => Service::Hangs,
                "up" | "stopping" => Service::Answers(record.name.clone()),
                "paused" => Service::Hangs,
                _ => Service::Nobody,
            };
        }
        Service::Nobody
    }
}

impl World {
    /// The management of a load balancer answers nobody; what it balances goes on.
    pub fn silence_balancer(&self, name: &str, silent: bool) {
        let mut state = self.lock();
        if let Some(found) = state.balancers.get_mut(name) {
            found.up = !silent;
        }
        self.save_balancer(&state, name);
    }
    pub(crate) fn balancer_answers(&self, name: &str) -> bool {
        self.lock().balancers.get(name).is_some_and(|b| b.up)
    }
    pub(crate) fn save_balancer(&self, state: &State, name: &str) {
        self.save("balancers", name, state.balancers.get(name));
    }
    /// What somebody does on the balancer itself: a front is gone, whoever made it.
    pub fn forget_front(&self, balancer: &str, front: &str) {
        let mut state = self.lock();
        if let Some(found) = state.balancers.get_mut(balancer) {
            found.fronts.retain(|_, f| f.name != front);
        }
        self.save_balancer(&state, balancer);
    }
    /// Where a front is really listened on, `ip:port`.
    pub fn front_at(&self, front: &str) -> Option<String> {
        let state = self.lock();
        let mut all = state.balancers.values();
        all.find_map(|b| {
            let found = b.fronts.values().find(|f| f.name == front)?;
            Some(format!("{}:{}", b.loopback(found.address), found.port))
        })
    }
}
