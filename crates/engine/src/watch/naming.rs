//! Names follow their machines: what is due is done by a run like any other, one for each cluster at a time. Where it needs a
//! person, the next begins once that one is over.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    shared::Shared,
};
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    ids::{ClusterId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Proposal, naming::Ask},
};

const LOOK: Duration = Duration::from_secs(2);

pub(super) async fn follow(office: Office) {
    loop {
        sleep(LOOK).await;
        let now = office.shared.snapshot();
        let named = now.estate.clusters.values().filter(|c| c.dns.is_some());
        for cluster in named {
            let mut machines = now.estate.machines_in(cluster.id);
            let mut hosts = now.estate.hosts_in(cluster.id);
            let due = machines.any(|m| now.estate.name_due(m).is_some())
                || hosts.any(|h| now.estate.host_name_due(h).is_some());
            if !due || is_open(&office.shared, cluster.id) {
                continue;
            }
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Naming(Ask::Follow {
                    cluster: cluster.id,
                }),
                seen: None,
                // Of each state of the estate at most one.
                request: draw_uuid(cluster.id.0, now.estate.revision.0, NAMING),
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                tracing::warn!(cluster = %cluster.name, %error, "names were not brought in line");
            }
        }
    }
}

/// Whether a run about this cluster's names is not over.
fn is_open(shared: &Shared, cluster: ClusterId) -> bool {
    let now = shared.snapshot();
    now.plans.values().any(|p| match &p.ask {
        Proposal::Naming(Ask::Follow { cluster: c }) => *c == cluster,
        Proposal::Naming(Ask::Set(ask)) => ask.cluster == cluster,
        _ => false,
    })
}

/// Sets these requests apart from all others that are drawn.
const NAMING: u64 = 0x6e61_6d65_7320_676f;
