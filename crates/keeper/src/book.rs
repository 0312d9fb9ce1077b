//! What a guard knows and where it writes: of the manager, or of a keeper.

use tokio::sync::watch;
use zastrugi_core::{
    epoch::Epoch,
    guard::Told,
    ids::{ClusterId, MachineId, Revision},
    moment::Span,
    rooms::Event,
    view::View,
};
use zastrugi_drivers::Drivers;

/// What came of writing something down.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    Yes,
    /// It can't be so any more, and was not written.
    Stale,
    No,
}

pub trait Book: Clone + Send + Sync + 'static {
    fn view(&self) -> View;
    /// Rings when anything is different.
    fn changed(&self) -> watch::Receiver<Revision>;
    fn epoch(&self) -> Epoch;
    fn drivers(&self) -> &Drivers;
    /// Whether a run changes the machine.
    fn busy(&self, machine: MachineId) -> bool;
    /// Whether whoever writes here may order anything now.
    fn may_act(&self) -> bool;
    /// A machine was up so long after it was told to start.
    fn booted(&self, took: Span);
    fn write(&self, cluster: ClusterId, told: Told) -> impl Future<Output = Written> + Send;
    /// What a device answered.
    fn saw(&self, seen: Event) -> impl Future<Output = ()> + Send;
}
