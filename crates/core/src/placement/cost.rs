//! Demand and cost (rules, section 2).

use super::Account;
use crate::{
    estate::Machine,
    loads::{Loads, MachineLoad},
    units::Mhz,
};

/// Keeps the cost of a full resource finite.
const EPSILON: f64 = 0.01;

/// What a machine is counted with: the larger of guarantee and typical (95th percentile) use; without 24 hours of
/// history all of its memory and a quarter of its vCPUs at the host's base frequency.
pub fn demand(loads: &Loads, machine: &Machine, base: Mhz) -> MachineLoad {
    match loads.typical.get(&machine.id) {
        Some(typical) => MachineLoad {
            cpu: typical.cpu,
            active: typical.active.max(machine.memory.kept),
            writes: None,
            disk: None,
        },
        None => MachineLoad {
            cpu: Mhz(u64::from(machine.vcpus).saturating_mul(base.0) / 4),
            active: machine.memory.size,
            writes: None,
            disk: None,
        },
    }
}

/// The cost of a host once `machine` is on it: the sum over CPU and memory of u² / (1 − u + ε), u the share used.
pub fn cost(loads: &Loads, row: &Account, machine: &Machine) -> f64 {
    let asks = demand(loads, machine, row.host.hardware.cpu.base);
    let cpu = (row.cpu_demand + asks.cpu).share_of(row.host.hardware.cpu_capacity());
    let memory = (row.memory_demand + asks.active).share_of(row.host.usable());
    [cpu, memory]
        .into_iter()
        .map(|u| u * u / (1.0 - u + EPSILON).max(EPSILON))
        .sum()
}
