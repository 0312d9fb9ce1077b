//! Networks on hosts, and the switches between them.

pub(crate) mod calls;
pub(crate) mod network;
pub(crate) mod restconf;
