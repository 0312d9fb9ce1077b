//! A piece of shared storage that hosts mount and that holds disks and machine records.

use crate::{
    ids::{ClusterId, VolumeId},
    units::Bytes,
};
use serde::{Deserialize, Serialize};

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Volume {
    pub id: VolumeId,
    /// The volume's own identity; never a device name.
    pub uid: String,
    pub name: String,
    pub cluster: Option<ClusterId>,
    pub capacity: Bytes,
    /// As last reported by a host that mounts it.
    pub used: Bytes,
}
