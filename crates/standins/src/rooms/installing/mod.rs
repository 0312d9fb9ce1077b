//! Hosts on which nothing is installed yet: what their controllers can mount for them, and the installation that boots from it.

pub(crate) mod bare;
pub(crate) mod fetch;
pub(crate) mod going;
pub(crate) mod media;
