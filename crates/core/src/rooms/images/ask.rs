//! Taking images in, and removing them.

use super::{Step, assess};
use crate::{
    estate::Holds,
    text::Line,
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    ids::{ImageId, VolumeId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Add(AddImage),
    Remove { image: ImageId },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([match self {
            Ask::Add(_) => Act::Images,
            Ask::Remove { .. } => Act::Storage,
        }])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Add(ask) => assess::add(draft, ask),
            Ask::Remove { image } => assess::remove(draft, *image),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

/// A file that a person is about to send.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AddImage {
    pub name: Line,
    pub volume: Option<VolumeId>,
    /// Zero while no file is chosen.
    pub size: Bytes,
    pub mark: Line,
    #[serde(default)]
    pub holds: Holds,
    /// The label in the file's own descriptor, or why it has none.
    pub label: Result<Line, Line>,
    /// The SHA-256 that its publisher names; empty for none.
    pub expected: Line,
}
