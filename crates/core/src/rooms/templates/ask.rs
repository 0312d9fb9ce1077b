//! What somebody wishes of templates.

use super::{Step, make, remove, whole};
use crate::{
    endpoint::Password,
    ids::{FirstBootId, MachineId, TemplateId, VolumeId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::{Line, Note},
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use uuid::Uuid;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Make(Make),
    Remove(Remove),
    /// Machines whose disks lie on a version get disks of their own.
    Whole { machines: Vec<MachineId> },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([match self {
            Ask::Make(_) | Ask::Whole { .. } => Act::Machines,
            Ask::Remove(_) => Act::Purge,
        }])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Make(ask) => make::make(draft, ask),
            Ask::Remove(ask) => remove::remove(draft, ask),
            Ask::Whole { machines } => whole::whole(draft, machines),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// A new version, of a template that is there or of a new one.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Make {
    pub machine: MachineId,
    /// None: as it is now.
    pub snapshot: Option<Uuid>,
    /// The next version of this; none: a new template.
    pub of: Option<TemplateId>,
    /// Of a new template.
    pub name: Line,
    /// None: the volume that the machine lies on.
    pub volume: Option<VolumeId>,
    /// What makes the guest itself is removed from the copy.
    pub seal: bool,
    /// What guests of machines made from it are told.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub first_boot: Option<FirstBootId>,
    pub note: Note,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Remove {
    pub template: TemplateId,
    pub versions: Vec<u32>,
    /// What the person typed to confirm: the template's name.
    pub typed: Line,
}
