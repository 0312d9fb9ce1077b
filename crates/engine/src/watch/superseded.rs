//! What another site took over is powered off wherever it is seen running, by a run like any other: nobody hears the same machine
//! twice, and nothing is written to it that nobody keeps.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    shared::Shared,
};
use std::time::{Duration, Instant};
use tokio::time::sleep;
use zastrugi_core::{
    estate::Estate,
    ids::{MachineId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Proposal, handover::Ask},
};

const LOOK: Duration = Duration::from_secs(1);
/// After a refusal nothing is tried for so long.
const AGAIN: Duration = Duration::from_secs(10);

pub(super) async fn lay(office: Office) {
    let mut refused: Option<Instant> = None;
    loop {
        sleep(LOOK).await;
        if refused.is_some_and(|at| at.elapsed() < AGAIN) {
            continue;
        }
        let estate = office.shared.estate();
        let machines = running(&estate);
        if machines.is_empty() || is_open(&office.shared) {
            continue;
        }
        let first = machines[0].0;
        let wish = Wish {
            who: Who::itself(),
            by: By::Consequence,
            permits: Permits::of(Role::Admin),
            ask: Proposal::Handover(Ask::Lay { machines }),
            seen: None,
            // Of each state of the estate at most one.
            request: draw_uuid(first, estate.revision.0, LAY),
        };
        if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
            refused = Some(Instant::now());
            tracing::warn!(%error, "what was superseded was not powered off");
        }
    }
}

/// Replicas that are on, of hosts that answer.
fn running(estate: &Estate) -> Vec<MachineId> {
    let all = estate.pairs.keys().flat_map(|p| estate.replicas_over(*p));
    let on = all.filter(|m| !m.is_off() && estate.unknown(m).is_none());
    on.map(|m| m.id).collect()
}

/// Whether a run of it is not over.
fn is_open(shared: &Shared) -> bool {
    let now = shared.snapshot();
    let lays = |ask: &Proposal| matches!(ask, Proposal::Handover(Ask::Lay { .. }));
    now.plans.values().any(|p| lays(&p.ask))
}

/// Sets these requests apart from all others that are drawn.
const LAY: u64 = 0x6c61_7920_646f_776e;
