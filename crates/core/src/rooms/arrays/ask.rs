//! What is asked for an array that is connected.

use super::{Step, assess, back};
use crate::{
    endpoint::{Endpoint, Password},
    ids::{ArrayId, VolumeId},
    permits::Act,
    road::{Ask as Asked, Draft},
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    /// Other management addresses, or another sign-in.
    Change(Access),
    Remove {
        array: ArrayId,
    },
    /// Take away what a connection that was given up gave: Zastrugi asks for it by itself.
    Withdraw {
        array: ArrayId,
        lun: String,
    },
    /// It shall take snapshots of a volume as it did before that was changed there.
    SetBack {
        array: ArrayId,
        volume: VolumeId,
    },
    /// A LUN that was ours and is not connected any more.
    DeleteLun {
        array: ArrayId,
        lun: String,
        typed: Line,
    },
}

/// How an array is reached from now on.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Access {
    pub array: ArrayId,
    pub controllers: Vec<Endpoint>,
    pub user: Line,
    /// Missing: the one that is kept.
    pub password: Password,
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Change(access) => assess::change(draft, access),
            Ask::Remove { array } => assess::remove(draft, *array),
            Ask::Withdraw { array, lun } => assess::withdraw(draft, *array, lun),
            Ask::SetBack { array, volume } => back::set_back(draft, *array, *volume),
            Ask::DeleteLun { array, lun, typed } => assess::delete(draft, *array, lun, typed),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::Change(access) => Some(&mut access.password),
            Ask::Remove { .. } | Ask::Withdraw { .. } | Ask::SetBack { .. } | Ask::DeleteLun { .. } => None,
        }
    }
}
