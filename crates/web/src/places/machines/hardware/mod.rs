//! Disks and cards of one machine: a sheet that changes them, and one that attaches a disk which nobody has.

mod attach;
mod change;

pub(crate) use attach::fill as attach;
pub(crate) use change::fill as change;

use zastrugi_core::estate::{Provisioning, SpareDisk};

pub(super) fn kind(provisioning: Provisioning) -> &'static str {
    match provisioning {
        Provisioning::Thick => "thick",
        Provisioning::Thin => "thin",
    }
}

/// `40 GiB, thin, that stowage-01 had`
pub(super) fn spare(disk: &SpareDisk) -> String {
    format!(
        "{}, {}, that {} had",
        disk.size,
        kind(disk.provisioning),
        disk.had
    )
}
