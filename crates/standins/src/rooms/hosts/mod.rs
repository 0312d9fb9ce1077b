//! Hosts: what they are, their controllers, how they announce themselves.

pub(crate) mod announce;
pub(crate) mod bmc;
pub(crate) mod claim;
pub(crate) mod host;
pub(crate) mod host_console;
pub(crate) mod leases;
