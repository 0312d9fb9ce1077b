//! What was mounted for hosts whose installation was given up is taken out, by a run like any other. That it shall be follows from
//! the cancelled run; this only begins it.

use super::office::Office;
use crate::desk::{By, Wish, start_as};
use std::time::Duration;
use tokio::time::sleep;
use zastrugi_core::{
    ids::draw_uuid,
    permits::{Permits, Role, Who},
    rooms::{Proposal, installing},
};

const LOOK: Duration = Duration::from_secs(2);

pub(super) async fn withdraw(office: Office) {
    loop {
        sleep(LOOK).await;
        let estate = office.shared.estate();
        let left = estate.hosts.values();
        for host in left.filter(|h| h.installing.as_ref().is_some_and(|i| i.given_up)) {
            let ask = installing::Ask::Withdraw {
                hosts: vec![host.id],
            };
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Installing(ask),
                seen: None,
                request: draw_uuid(host.id.0, 0, WITHDRAWING),
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                tracing::warn!(host = %host.name, %error, "what was mounted was not taken out");
            }
        }
    }
}

/// Sets these requests apart from all others that are drawn.
const WITHDRAWING: u64 = 0x7769_7468_6472_6177;
