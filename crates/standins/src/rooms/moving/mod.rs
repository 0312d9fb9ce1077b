//! Machines on their way to other hosts, and their disks to other volumes.

pub(crate) mod arriving;
pub(crate) mod calls;
pub(crate) mod copying;
pub(crate) mod disks;
pub(crate) mod sending;
