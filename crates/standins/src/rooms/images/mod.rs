//! Images on volumes.

pub(crate) mod calls;
pub(crate) mod files;
