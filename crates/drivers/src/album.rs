//! Where pictures are kept that steps took as evidence.

use futures::future::BoxFuture;
use uuid::Uuid;
use zastrugi_core::{ids::MachineId, moment::Moment, runs::Fault};

/// A picture that is to be kept.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shot {
    pub machine: MachineId,
    /// The same on every attempt: it is kept once.
    pub mark: String,
    pub at: Moment,
    pub why: String,
}

pub trait Album: Send + Sync {
    /// Keeps a PNG file, and answers by what it is found; what has the same mark was kept before.
    fn keep(&self, shot: Shot, png: Vec<u8>) -> BoxFuture<'_, Result<Uuid, Fault>>;
}
