//! What lies on volumes, read from hosts: layers of machines' disks, and what is in archives.

use super::Desk;
use crate::{evidence, shared::now};
use zastrugi_core::{
    estate::Holds,
    evidence::{Answer, Probe},
    ids::{ImageId, MachineId},
    moment::Span,
};

/// What was read so lately is not read again.
const LATELY: Span = Span::secs(15);
/// More are not read for one look.
const MOST: usize = 256;

impl Desk {
    /// Reads the layers of machines that have snapshots, where what is known of them is older, or not of those snapshots.
    pub async fn ask_for_layers(&self, machines: &[MachineId]) {
        let (estate, book) = (self.shared.estate(), self.shared.evidence.load_full());
        let due = |id: &&MachineId| {
            let Some(machine) = estate.machines.get(*id) else {
                return false;
            };
            let known = book.answers.get(&Probe::Layers(**id));
            let fresh = known.is_some_and(|e| match &e.answer {
                Answer::Layers(chain) => {
                    now().since(e.taken) < LATELY && machine.snapshots.are_of(chain)
                }
                _ => now().since(e.taken) < LATELY,
            });
            !machine.snapshots.is_empty() && !fresh
        };
        let due = machines.iter().filter(due).take(MOST);
        let probes = due.map(|id| Probe::Layers(*id)).collect();
        evidence::ask_all(&self.shared, probes).await;
    }

    /// Looks through an archive, unless that was done lately.
    pub async fn ask_for_package(&self, image: ImageId) {
        let probe = Probe::Package(image);
        let whole = self
            .shared
            .estate()
            .images
            .get(&image)
            .is_some_and(|i| i.ready && i.holds == Holds::Package);
        let known = self
            .shared
            .evidence
            .load_full()
            .fresh(&probe, now())
            .is_some();
        if whole && !known {
            evidence::ask_all(&self.shared, vec![probe]).await;
        }
    }
}
