//! Hosts that shall be worked on, and those that shall serve again.

use super::{Step, back, empty};
use crate::{
    endpoint::Password,
    ids::HostId,
    moment::Span,
    permits::Act,
    road::{Ask as Asked, Draft},
    rooms::hosts::HostPower,
    text::Line,
};
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Ask {
    Empty(Empty),
    Return(Return),
}

impl Asked for Ask {
    type Step = Step;

    fn acts(&self) -> BTreeSet<Act> {
        BTreeSet::from([Act::Hosts, Act::Machines])
    }

    fn assess(&self, draft: &mut Draft<'_, Step>) {
        match self {
            Ask::Empty(ask) => empty::empty(draft, ask),
            Ask::Return(ask) => back::back(draft, ask),
        }
    }

    fn password(&mut self) -> Option<&mut Password> {
        None
    }
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Empty {
    pub hosts: Vec<HostId>,
    pub reason: Line,
    /// For how long, as far as is known.
    pub lasts: Option<Span>,
    /// Guests may be slowed so that they converge.
    pub slow: bool,
    /// Also those that don't converge, with the longer downtime.
    pub force: bool,
    /// Also over a network that no switch port is known to carry.
    pub wire: bool,
    /// What can't leave is stopped.
    pub stop: bool,
    pub then: Afterwards,
}

/// What becomes of a host once it is empty.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Afterwards {
    StaysOn,
    Power(HostPower),
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Return {
    pub hosts: Vec<HostId>,
    /// With what had been there.
    pub bring: bool,
}
