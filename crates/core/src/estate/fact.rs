//! One versioned entity, as the store keeps it.

use super::{Array, Cluster, Host, Image, Machine, Network, Site, Switch, Volume};
use crate::{plan::Plan, run::Run};
use serde::{Serialize, de::DeserializeOwned};
use serde_json::Value;
use std::sync::Arc;

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Kind {
    Meta,
    Site,
    Cluster,
    Host,
    Array,
    Volume,
    Image,
    Switch,
    Network,
    Machine,
    Plan,
    Run,
}

impl Kind {
    pub const ALL: [Kind; 12] = [
        Kind::Meta,
        Kind::Site,
        Kind::Cluster,
        Kind::Host,
        Kind::Array,
        Kind::Volume,
        Kind::Image,
        Kind::Switch,
        Kind::Network,
        Kind::Machine,
        Kind::Plan,
        Kind::Run,
    ];
    pub fn word(self) -> &'static str {
        match self {
            Kind::Meta => "meta",
            Kind::Site => "site",
            Kind::Cluster => "cluster",
            Kind::Host => "host",
            Kind::Array => "array",
            Kind::Volume => "volume",
            Kind::Image => "image",
            Kind::Switch => "switch",
            Kind::Network => "network",
            Kind::Machine => "machine",
            Kind::Plan => "plan",
            Kind::Run => "run",
        }
    }
    /// Whether earlier states are kept as rows. A run's are told by its events, and would be large.
    pub fn keeps_history(self) -> bool {
        !matches!(self, Kind::Run | Kind::Plan | Kind::Meta)
    }
}

/// A stored entity that this version can't read.
#[derive(Debug, thiserror::Error)]
pub enum UpgradeError {
    #[error("a stored fact is of the kind “{0}”, which this version does not know")]
    Kind(String),
    #[error(
        "{kind} {id} is stored in version {version}; this version reads up to {known}: run a newer Zastrugi"
    )]
    Newer {
        kind: &'static str,
        id: u64,
        version: i32,
        known: i32,
    },
    #[error("{kind} {id} can't be read: {source}")]
    Body {
        kind: &'static str,
        id: u64,
        source: serde_json::Error,
    },
}

#[derive(Debug, Clone, PartialEq)]
pub enum Fact {
    Meta(u64),
    Site(Arc<Site>),
    Cluster(Arc<Cluster>),
    Host(Arc<Host>),
    Array(Arc<Array>),
    Volume(Arc<Volume>),
    Image(Arc<Image>),
    Switch(Arc<Switch>),
    Network(Arc<Network>),
    Machine(Arc<Machine>),
    Plan(Arc<Plan>),
    Run(Arc<Run>),
}

impl Fact {
    /// The version in which bodies are written now.
    pub const VERSION: i32 = 1;

    pub fn kind(&self) -> Kind {
        match self {
            Fact::Meta(_) => Kind::Meta,
            Fact::Site(_) => Kind::Site,
            Fact::Cluster(_) => Kind::Cluster,
            Fact::Host(_) => Kind::Host,
            Fact::Array(_) => Kind::Array,
            Fact::Volume(_) => Kind::Volume,
            Fact::Image(_) => Kind::Image,
            Fact::Switch(_) => Kind::Switch,
            Fact::Network(_) => Kind::Network,
            Fact::Machine(_) => Kind::Machine,
            Fact::Plan(_) => Kind::Plan,
            Fact::Run(_) => Kind::Run,
        }
    }
    pub fn id(&self) -> u64 {
        match self {
            Fact::Meta(_) => 0,
            Fact::Site(x) => x.id.0,
            Fact::Cluster(x) => x.id.0,
            Fact::Host(x) => x.id.0,
            Fact::Array(x) => x.id.0,
            Fact::Volume(x) => x.id.0,
            Fact::Image(x) => x.id.0,
            Fact::Switch(x) => x.id.0,
            Fact::Network(x) => x.id.0,
            Fact::Machine(x) => x.id.0,
            Fact::Plan(x) => x.run.0,
            Fact::Run(x) => x.id.0,
        }
    }
    /// False for what a running process no longer needs: a closed run.
    pub fn live(&self) -> bool {
        !matches!(self, Fact::Run(run) if !run.state.open())
    }
    /// # Errors
    /// Never for entities made by this crate; the error is serde's.
    pub fn body(&self) -> Result<Value, serde_json::Error> {
        match self {
            Fact::Meta(next) => serde_json::to_value(next),
            Fact::Site(x) => serde_json::to_value(x),
            Fact::Cluster(x) => serde_json::to_value(x),
            Fact::Host(x) => serde_json::to_value(x),
            Fact::Array(x) => serde_json::to_value(x),
            Fact::Volume(x) => serde_json::to_value(x),
            Fact::Image(x) => serde_json::to_value(x),
            Fact::Switch(x) => serde_json::to_value(x),
            Fact::Network(x) => serde_json::to_value(x),
            Fact::Machine(x) => serde_json::to_value(x),
            Fact::Plan(x) => serde_json::to_value(x),
            Fact::Run(x) => serde_json::to_value(x),
        }
    }

    /// Reads a stored entity.
    ///
    /// # Errors
    /// [`UpgradeError`] when the kind, version or body is not one that this version knows.
    pub fn read(kind: &str, id: u64, version: i32, body: Value) -> Result<Fact, UpgradeError> {
        let kind = Kind::ALL
            .into_iter()
            .find(|k| k.word() == kind)
            .ok_or_else(|| UpgradeError::Kind(kind.to_owned()))?;
        if version > Self::VERSION {
            return Err(UpgradeError::Newer {
                kind: kind.word(),
                id,
                version,
                known: Self::VERSION,
            });
        }
        fn typed<T: Serialize + DeserializeOwned>(
            body: Value,
        ) -> Result<Arc<T>, serde_json::Error> {
            serde_json::from_value(body).map(Arc::new)
        }
        let fact = match kind {
            Kind::Meta => serde_json::from_value(body).map(Fact::Meta),
            Kind::Site => typed(body).map(Fact::Site),
            Kind::Cluster => typed(body).map(Fact::Cluster),
            Kind::Host => typed(body).map(Fact::Host),
            Kind::Array => typed(body).map(Fact::Array),
            Kind::Volume => typed(body).map(Fact::Volume),
            Kind::Image => typed(body).map(Fact::Image),
            Kind::Switch => typed(body).map(Fact::Switch),
            Kind::Network => typed(body).map(Fact::Network),
            Kind::Machine => typed(body).map(Fact::Machine),
            Kind::Plan => typed(body).map(Fact::Plan),
            Kind::Run => typed(body).map(Fact::Run),
        };
        fact.map_err(|source| UpgradeError::Body {
            kind: kind.word(),
            id,
            source,
        })
    }
}
