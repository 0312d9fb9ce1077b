//! One versioned entity, as the store keeps it.

use super::{
    Array, Balancer, Cluster, Failure, FirstBoot, Front, Host, Image, Job, Machine, Network, Pair,
    Passage, Pledge, RecoveryPlan, Schedule, Series, Site, SparePool, Store, Switch, Template,
    Volume,
};
use serde_json::Value;
use std::sync::Arc;

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

/// The kinds of entities with the word by which each is stored.
macro_rules! facts {
    ($($Kind:ident $word:literal),* $(,)?) => {
        #[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
        pub enum Kind {
            /// The next number that a new entity gets.
            Meta,
            $($Kind),*
        }

        impl Kind {
            pub const ALL: &[Kind] = &[Kind::Meta, $(Kind::$Kind),*];
            pub fn word(self) -> &'static str {
                match self {
                    Kind::Meta => "meta",
                    $(Kind::$Kind => $word),*
                }
            }
        }

        #[derive(Debug, Clone, PartialEq)]
        pub enum Fact {
            Meta(u64),
            $($Kind(Arc<$Kind>)),*
        }

        impl Fact {
            pub fn kind(&self) -> Kind {
                match self {
                    Fact::Meta(_) => Kind::Meta,
                    $(Fact::$Kind(_) => Kind::$Kind),*
                }
            }
            pub fn id(&self) -> u64 {
                match self {
                    Fact::Meta(_) => 0,
                    $(Fact::$Kind(x) => x.id.0),*
                }
            }
            /// # Errors
            /// Never for entities made by this crate; the error is serde's.
            pub fn body(&self) -> Result<Value, serde_json::Error> {
                match self {
                    Fact::Meta(next) => serde_json::to_value(next),
                    $(Fact::$Kind(x) => serde_json::to_value(x)),*
                }
            }
            fn of(kind: Kind, body: Value) -> Result<Fact, serde_json::Error> {
                match kind {
                    Kind::Meta => serde_json::from_value(body).map(Fact::Meta),
                    $(Kind::$Kind => serde_json::from_value(body).map(Fact::$Kind)),*
                }
            }
        }
    };
}

facts! {
    Site "site",
    Cluster "cluster",
    Host "host",
    Array "array",
    Volume "volume",
    Image "image",
    Switch "switch",
    Network "network",
    Machine "machine",
    Failure "failure",
    Balancer "balancer",
    Front "front",
    Template "template",
    FirstBoot "first_boot",
    SparePool "spare_pool",
    Schedule "schedule",
    Pledge "pledge",
    Store "store",
    Series "series",
    Job "job",
    Pair "pair",
    RecoveryPlan "recovery_plan",
    Passage "passage",
}

impl Fact {
    /// The version in which bodies are written now.
    pub const VERSION: i32 = 1;

    /// Reads a stored entity.
    ///
    /// # Errors
    /// [`UpgradeError`] when the kind, version or body is not one that this version knows.
    pub fn read(word: &str, id: u64, version: i32, body: Value) -> Result<Fact, UpgradeError> {
        let known = Kind::ALL.iter().copied().find(|k| k.word() == word);
        let kind = known.ok_or_else(|| UpgradeError::Kind(word.to_owned()))?;
        if version > Self::VERSION {
            return Err(UpgradeError::Newer {
                kind: kind.word(),
                id,
                version,
                known: Self::VERSION,
            });
        }
        Fact::of(kind, body).map_err(|source| UpgradeError::Body {
            kind: kind.word(),
            id,
            source,
        })
    }
}

impl Kind {
    /// Whether earlier states are kept as rows.
    pub fn keeps_history(self) -> bool {
        self != Kind::Meta
    }
}
