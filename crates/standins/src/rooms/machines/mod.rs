//! Machines as their hosts run them.

pub(crate) mod firmware;
pub(crate) mod first_boot;
pub(crate) mod guest;
pub(crate) mod memory;
pub(crate) mod power;
pub(crate) mod questions;
pub(crate) mod records;
pub(crate) mod seed;
