//! What somebody wishes of stores.

use super::{Step, assess, letting};
use crate::{
    endpoint::{Endpoint, Password},
    estate::PointAt,
    ids::StoreId,
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
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        match self {
            Ask::Make(_) | Ask::Forget { .. } | Ask::Over { .. } => BTreeSet::from([Act::Storage]),
            Ask::LetGo { .. } => BTreeSet::from([Act::Purge]),
            // Whoever has it can read every machine.
            Ask::TakeOut { .. } => BTreeSet::from([Act::Settings]),
        }
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Make(ask) => assess::make(draft, ask),
            Ask::TakeOut { store } => assess::take_out(draft, *store),
            Ask::Forget { store, typed } => assess::forget(draft, *store, typed),
            Ask::LetGo { points, typed } => letting::let_go(draft, points, typed),
            Ask::Over { store } => letting::over(draft, *store),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Make(ask) => Some(&mut ask.secret),
            Ask::TakeOut { .. } | Ask::Forget { .. } | Ask::LetGo { .. } | Ask::Over { .. } => None,
        }
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct MakeStore {
    pub name: Line,
    pub site: Line,
    /// The server of the bucket, with the certificate that was shown.
    pub target: Endpoint,
    pub region: Line,
    pub bucket: Line,
    /// Empty: all of the bucket.
    pub folder: Line,
    pub access: Line,
    pub secret: Password,
}
