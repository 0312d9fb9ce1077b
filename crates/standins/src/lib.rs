//! Stand-ins: simulated hosts, management controllers and volumes on real sockets. They keep their state in files,
//! follow a virtual clock, and fail by script. They know nothing of the application and share no types with it.
//!
//! Start at [`Standins::start`]. `world` holds what the devices are; what they do lies in `rooms`, as in the application.

mod agent;
mod breaks;
mod control;
mod deeds;
mod fault;
mod keeping;
mod make;
mod rooms;
mod scenario;
mod server;
mod weather;
mod world;

pub use fault::{Fault, FaultKind};
pub use rooms::hosts::host::Deceit;
pub use rooms::installing::bare::Quirk;
pub use rooms::keepers::{
    calls::Given,
    running::{Runner, Runs},
};
pub use rooms::storage::{
    array::ArrayKind,
    classes::{Class, Every},
};
pub use scenario::{
    Handmade, Scenario, ScenarioArray, ScenarioBalancer, ScenarioBuckets, ScenarioHost,
    ScenarioMachine, ScenarioMistake, ScenarioNames, ScenarioSwitch, ScenarioVolume, large,
};
pub use server::{Foreign, Settings, Standins};
pub use weather::{Gust, House, Sky};
pub use world::World;

/// Where a host with this agent address awaits machines that are moved to it.
pub(crate) fn moving_address(agent: &str) -> String {
    let host = agent.rsplit_once(':').map_or(agent, |(host, _)| host);
    format!("{host}:7444")
}

/// The demo's scenario: a ferry line with three sites.
pub const SKARHOLM: &str = include_str!("../scenarios/skarholm.json");
