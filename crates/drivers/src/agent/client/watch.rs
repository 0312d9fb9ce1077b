//! What a host reports of itself, once a second and whenever something changes.

use crate::{
    agent::wire::{Report, WireScreen},
    http::Watch,
};
use std::{collections::BTreeMap, time::Duration};
use uuid::Uuid;
use zastrugi_core::{
    guard::{Pulse, Word},
    limits,
    loads::MachineLoad,
    observe::{HostReport, figure},
    runs::Fault,
    units::{Bytes, Mhz},
};

/// Loads as the agent measured them.
#[derive(Debug, Clone)]
pub struct Sample {
    pub cpu: Mhz,
    pub active: Bytes,
    pub machines: Vec<(Uuid, MachineLoad)>,
    pub screens: Vec<KeptScreen>,
    /// Leases of hosts as this one reads them: by volume, then by serial.
    pub leases: BTreeMap<String, BTreeMap<String, Word>>,
    /// Signs of life of guests, where the host tells of them.
    pub pulses: BTreeMap<Uuid, Pulse>,
    /// An armed watchdog resets it when its own lease has run out.
    pub watchdog: bool,
}

/// A picture of a screen that a host kept when something ended it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptScreen {
    pub machine: Uuid,
    pub number: i64,
    pub why: String,
}

impl Watch {
    /// The host's next report. An agent speaks at least every second; five seconds of silence are a fault.
    ///
    /// # Errors
    /// [`Fault`] when the stream ends, is silent, or makes no sense.
    pub async fn report(&mut self) -> Result<(HostReport, Sample), Fault> {
        let mut report: Report = self.next(Duration::from_secs(5)).await?;
        let load = std::mem::take(&mut report.load);
        let screens = std::mem::take(&mut report.screens);
        let pulses = load
            .machines
            .iter()
            .filter_map(|(uuid, l)| Some((*uuid, l.pulse()?)));
        let pulses = pulses.collect();
        let sample = Sample {
            pulses,
            cpu: Mhz(figure(load.cpu_mhz, &limits::FIGURE_RATE)),
            active: Bytes(figure(load.active, &limits::FIGURE_MEMORY)),
            machines: load
                .machines
                .into_iter()
                .map(|(uuid, l)| (uuid, l.read()))
                .collect(),
            screens: screens.iter().take(SCREENS).map(kept).collect(),
            leases: report.leases(),
            watchdog: report.watchdog.armed,
        };
        Ok((report.read(), sample))
    }
}

/// Kept pictures of one host that are looked at.
const SCREENS: usize = 500;

fn kept(screen: &WireScreen) -> KeptScreen {
    KeptScreen {
        machine: screen.uuid,
        number: screen.number,
        why: screen.why(),
    }
}
