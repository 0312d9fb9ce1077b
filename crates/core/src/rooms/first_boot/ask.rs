//! What somebody wishes of first-boot documents.

use super::{Step, keep, remove};
use crate::{
    endpoint::Password,
    ids::FirstBootId,
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Keep(Box<Keep>),
    Remove { document: FirstBootId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Keep(ask) => keep::keep(draft, ask),
            Ask::Remove { document } => remove::remove(draft, *document),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Keep(ask) => Some(&mut ask.password),
            Ask::Remove { .. } => None,
        }
    }
}

/// A new version, of a document that is there or of a new one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Keep {
    /// The next version of this; none: a new document.
    pub of: Option<FirstBootId>,
    /// Of a new document.
    pub name: Line,
    pub host_name: Line,
    /// Empty: no user.
    pub user: Line,
    pub keys: Vec<Line>,
    /// Missing: the one of the version before, where the user stays.
    pub password: Password,
    /// The user has no password, also if there was one.
    pub no_password: bool,
    pub dns: Vec<Line>,
    pub search: Vec<Line>,
    pub zone: Line,
    pub commands: Vec<Line>,
}
