//! What devices can do, by the rooms that the application has for it.

pub(crate) mod carrying;
pub(crate) mod consoles;
pub(crate) mod delivering;
pub(crate) mod fronts;
pub(crate) mod hardware;
pub(crate) mod hosts;
pub(crate) mod images;
pub(crate) mod installing;
pub(crate) mod keepers;
pub(crate) mod machines;
pub(crate) mod moving;
pub(crate) mod naming;
pub(crate) mod networks;
pub(crate) mod packages;
pub(crate) mod records;
pub(crate) mod refreshing;
pub(crate) mod sharing;
pub(crate) mod snapshots;
pub(crate) mod storage;
pub(crate) mod stores;
pub(crate) mod taking;
pub(crate) mod templates;
pub(crate) mod timing;
