//! What a proposal must answer.

use super::{Draft, Work};
use crate::{endpoint::Password, permits::Act};
use std::{collections::BTreeSet, fmt::Debug};

/// Something that somebody wishes, unchecked.
pub trait Ask: Debug + Clone + PartialEq {
    type Step: Work;

    /// What somebody must be allowed to do, for every target of it; all of them.
    fn acts(&self) -> BTreeSet<Act>;
    /// Fills in findings, effects and steps.
    fn assess(&self, draft: &mut Draft<'_, Self::Step>);
    /// Where a password that was typed shall be replaced by where it is kept.
    fn password(&mut self) -> Option<&mut Password>;
    /// The same of a key that was typed beside it.
    fn key(&mut self) -> Option<&mut Password> {
        None
    }
}
