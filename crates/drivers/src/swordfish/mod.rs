//! Arrays and filers, in Swordfish (SNIA). Every management address is tried in turn; what a step asks for is looked for
//! first, so that a repetition has no second effect.

mod classes;
mod client;
mod made;
mod steps;

pub(crate) use client::Keeper;
pub(crate) use steps::lost;
