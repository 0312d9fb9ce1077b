//! What somebody wishes to be proven.

use super::{Step, assess, clear};
use crate::{
    endpoint::Password,
    estate::AnyPoint,
    ids::{ClusterId, MachineId},
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Point(ProvePoint),
    /// Copies that a proof left are removed for good.
    Clear { machines: Vec<MachineId> },
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProvePoint {
    pub point: Option<AnyPoint>,
    /// Whose hosts boot the copy; none: the first at the site of the point that is ready.
    pub cluster: Option<ClusterId>,
    /// Its guest may take so long.
    pub limit: Span,
    /// With those of the same instant, on one network.
    #[serde(default)]
    pub together: bool,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Point(ask) => assess::point(draft, ask),
            Ask::Clear { machines } => clear::clear(draft, machines),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}
