//! Connecting arrays and volumes, extending, bringing back to all hosts, giving up.

use super::{Step, array, change, connect, pooled};
use crate::{
    text::Line,
    endpoint::Password,
    permits::Act,
    road::{Ask as Asked, Draft},
    endpoint::Endpoint,
    estate::{ArrayKind, Provisioning},
    ids::{ArrayId, ClusterId, HostId, VolumeId},
    moment::Span,
    units::Bytes,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    ConnectArray(ConnectArray),
    ConnectVolume(ConnectVolume),
    /// Bring every intended host back to all paths.
    HealVolume {
        volume: VolumeId,
    },
    ExtendVolume {
        volume: VolumeId,
        size: Bytes,
    },
    /// Every free disk of its hosts is lent to it, where it is one of the hosts' own disks.
    LendDisks {
        volume: VolumeId,
    },
    /// A host that is away is waited for no longer: what it held is copied anew at once.
    GoOnWithout {
        volume: VolumeId,
        host: HostId,
    },
    /// Unmount it everywhere and clear its owner.
    GiveVolume {
        volume: VolumeId,
    },
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Storage])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::ConnectArray(ask) => array::connect(draft, ask),
            Ask::ConnectVolume(ask) => connect::connect(draft, ask),
            Ask::HealVolume { volume } => change::heal(draft, *volume),
            Ask::ExtendVolume { volume, size } => change::extend(draft, *volume, *size),
            Ask::LendDisks { volume } => pooled::lend(draft, *volume),
            Ask::GoOnWithout { volume, host } => pooled::go_on_without(draft, *volume, *host),
            Ask::GiveVolume { volume } => change::give(draft, *volume),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        match self {
            Ask::ConnectArray(connect) => Some(&mut connect.password),
            Ask::ConnectVolume(_)
            | Ask::HealVolume { .. }
            | Ask::ExtendVolume { .. }
            | Ask::LendDisks { .. }
            | Ask::GoOnWithout { .. }
            | Ask::GiveVolume { .. } => None,
        }
    }
}

/// An array or filer to connect: all its management addresses, with the certificates that were shown.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectArray {
    pub controllers: Vec<Endpoint>,
    pub kind: ArrayKind,
    pub site: Line,
    pub user: Line,
    pub password: Password,
}

/// Where a volume comes from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum VolumeSource {
    New {
        pool: Line,
        size: Bytes,
        provisioning: Provisioning,
    },
    /// One that the array has already, by the array's own number.
    Existing { lun: Line },
    /// Made of the hosts' own disks.
    Pooled { copies: u8, wait: Span },
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ConnectVolume {
    pub array: Option<ArrayId>,
    pub source: VolumeSource,
    pub name: Line,
    pub cluster: Option<ClusterId>,
    /// None: all hosts of the cluster.
    pub hosts: Option<BTreeSet<HostId>>,
    /// Its name, typed, to take it over from an owner that is gone.
    pub typed: Line,
}
