//! Who breaks devices when somebody asks for it: there in the demo alone.

use futures::future::BoxFuture;
use std::{fmt, sync::Arc};

/// One device and what can be broken of it, each with whether it is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Sky {
    pub kind: String,
    pub name: String,
    pub words: Vec<(String, bool)>,
}

/// A word of one device, to be broken or mended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Gust {
    pub kind: String,
    pub name: String,
    pub word: String,
    pub broken: bool,
}

pub trait Climate: Send + Sync {
    /// What can be broken, and what is.
    fn skies(&self) -> BoxFuture<'_, Result<Vec<Sky>, String>>;
    /// Breaks or mends.
    fn blow(&self, gust: Gust) -> BoxFuture<'_, Result<(), String>>;
}

/// The demo's weather; none where Zastrugi is served in earnest.
#[derive(Clone, Default)]
pub struct Weather(pub Option<Arc<dyn Climate>>);

impl fmt::Debug for Weather {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Weather({})", self.0.is_some())
    }
}
