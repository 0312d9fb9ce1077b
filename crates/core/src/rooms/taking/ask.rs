//! What shall be taken over, and from whom.

use super::{Step, assess};
use crate::{
    endpoint::{Endpoint, Password},
    estate::NetRole,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    TakeOver(Box<TakeOver>),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Hosts, Act::Clusters, Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::TakeOver(ask) => assess::take_over(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::TakeOver(ask) => Some(&mut ask.password),
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct TakeOver {
    pub hosts: Vec<Endpoint>,
    /// The hosts' own, not their manager's.
    pub password: Password,
    /// An existing site, or the name of a new one.
    pub site: Line,
    /// Of the cluster that they become.
    pub name: Line,
    /// The name of whoever owns them now, typed.
    pub former: Line,
    /// What each network is for, where it is not guessed from its name.
    pub roles: BTreeMap<String, NetRole>,
}
