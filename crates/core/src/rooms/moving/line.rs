//! The line that a machine goes over.

use crate::{moment::Span, units::Rate};
use serde::{Deserialize, Serialize};

/// How a machine is moved.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    pub network: String,
    pub bandwidth: Rate,
    /// For the rest, without what stands still in any case.
    pub target: Span,
    pub slow: bool,
    pub force: bool,
}
