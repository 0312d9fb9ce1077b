//! What somebody wishes of stores.

use super::{Step, assess, letting, read};
use crate::{
    endpoint::{Endpoint, Password},
    estate::{Inside, PointAt},
    ids::{JobId, StoreId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Make(MakeStore),
    /// Its key was shown to somebody, to be kept elsewhere.
    TakeOut { store: StoreId },
    /// A file of a machine is read out of a point by somebody.
    ReadFile { file: Inside },
    /// What is in it stays there.
    Forget {
        store: StoreId,
        /// What the person typed to confirm: its name.
        typed: Line,
    },
    /// Recovery points go, whoever made them.
    LetGo {
        points: Vec<PointAt>,
        /// What the person typed to confirm: the machine's name, or how many they are.
        typed: Line,
    },
    /// Those go whose time is over.
    Over { store: StoreId },
    /// What is in it is looked through anew.
    Read {
        store: StoreId,
        /// Points that are not known yet are of this job from then on; none: of nobody.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        job: Option<JobId>,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        match self {
            Ask::Make(_) | Ask::Forget { .. } | Ask::Over { .. } | Ask::Read { .. } => BTreeSet::from([Act::Storage]),
            // Who may make a machine of a point sees as much.
            Ask::ReadFile { .. } => BTreeSet::from([Act::Machines]),
            Ask::LetGo { .. } => BTreeSet::from([Act::Purge]),
            // Whoever has it can read every machine.
            Ask::TakeOut { .. } => BTreeSet::from([Act::Settings]),
        }
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Make(ask) => assess::make(draft, ask),
            Ask::TakeOut { store } => assess::take_out(draft, *store),
            Ask::ReadFile { file } => assess::read_file(draft, file),
            Ask::Forget { store, typed } => assess::forget(draft, *store, typed),
            Ask::LetGo { points, typed } => letting::let_go(draft, points, typed),
            Ask::Over { store } => letting::over(draft, *store),
            Ask::Read { store, job } => read::again(draft, *store, *job),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Make(ask) => Some(&mut ask.secret),
            Ask::TakeOut { .. } | Ask::ReadFile { .. } | Ask::Forget { .. } | Ask::LetGo { .. } | Ask::Over { .. } | Ask::Read { .. } => None,
        }
    }

    fn key(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Make(ask) => Some(&mut ask.key),
            Ask::TakeOut { .. } | Ask::ReadFile { .. } | Ask::Forget { .. } | Ask::LetGo { .. } | Ask::Over { .. } | Ask::Read { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MakeStore {
    pub name: Line,
    pub site: Line,
    /// A mounted export of this name; empty: a bucket.
    #[serde(default)]
    pub export: Line,
    /// The server of the bucket, with the certificate that was shown.
    pub target: Endpoint,
    pub region: Line,
    pub bucket: Line,
    /// Empty: all of the bucket.
    pub folder: Line,
    pub access: Line,
    pub secret: Password,
    /// For so many days nobody can take away what is written; empty: whoever may write can.
    #[serde(default)]
    pub lock: Line,
    /// What opens the store that is there already; missing: a new one is made.
    #[serde(default)]
    pub key: Password,
}
