//! Where a cluster's machines shall have their names, and that what is due is done.

use super::{Step, assess};
use crate::{
    endpoint::Password,
    ids::ClusterId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Set(SetNames),
    /// What is due for the names of its machines is done.
    Follow { cluster: ClusterId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Clusters])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Set(ask) => assess::set(draft, ask),
            Ask::Follow { cluster } => assess::follow(draft, *cluster),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Set(ask) => Some(&mut ask.secret),
            Ask::Follow { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SetNames {
    pub cluster: ClusterId,
    /// Empty: its machines have no names any more.
    pub zone: Line,
    /// Addresses, perhaps with a port.
    pub servers: Vec<Line>,
    /// The name of the key that changes are signed with; empty: they are not.
    pub key: Line,
    /// Its secret, in base64. Missing: the one that is kept, where the key's name stays.
    pub secret: Password,
    /// What was entered before stays where it is.
    pub leave: bool,
}
