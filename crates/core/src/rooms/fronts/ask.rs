//! Connecting load balancers, making fronts, changing and removing them.

use super::{Step, assess};
use crate::{
    endpoint::{Endpoint, Password},
    estate::{Manner, Shown},
    ids::{BalancerId, FrontId, NetworkId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::{collections::BTreeSet, net::IpAddr};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Connect(ConnectBalancer),
    /// It is known here no more.
    Forget { balancer: BalancerId },
    Put(PutFront),
    Remove { front: FrontId },
    /// The balancer is told of its members as they are now.
    Follow { front: FrontId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Connect(ask) => assess::connect(draft, ask),
            Ask::Forget { balancer } => assess::forget(draft, *balancer),
            Ask::Put(ask) => assess::put(draft, ask),
            Ask::Remove { front } => assess::remove(draft, *front),
            Ask::Follow { front } => assess::follow(draft, *front),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Connect(connect) => Some(&mut connect.token),
            Ask::Put(put) => Some(&mut put.key),
            Ask::Forget { .. } | Ask::Remove { .. } | Ask::Follow { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectBalancer {
    pub target: Endpoint,
    pub site: Line,
    pub token: Password,
}

/// How a front shall be.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct PutFront {
    /// None: a new one.
    pub front: Option<FrontId>,
    pub name: Line,
    pub balancer: Option<BalancerId>,
    pub network: Option<NetworkId>,
    /// None: the next free one of the network's virtual addresses.
    pub address: Option<IpAddr>,
    pub port: u16,
    pub label: Line,
    pub serves: u16,
    pub manner: Manner,
    /// What it shows by TLS, where that ends at the balancer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub shown: Option<Shown>,
    /// The key of that. Missing: the one that is kept, where the certificate stays.
    #[serde(default = "missing")]
    pub key: Password,
}

fn missing() -> Password {
    Password::Missing
}
