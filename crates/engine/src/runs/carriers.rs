//! A process at a site that carries bytes of copies and does nothing else: it says that it is there, so that they are left to it.

use super::Way;
use crate::{scribe::Scribe, shared::Shared};
use std::{sync::Arc, time::Duration};
use tokio::{task::JoinSet, time::sleep};
use zastrugi_core::{estate::Estate, ids::SiteId};
use zastrugi_store::{Carrier, Carriers, Orders};

const BEAT: Duration = Duration::from_secs(2);

fn known(estate: &Estate, names: &[String]) -> Vec<SiteId> {
    let named = names.iter().filter_map(|n| estate.site_named(n));
    named.map(|s| s.id).collect()
}

/// What it is called: where it runs.
fn name() -> String {
    let host = std::fs::read_to_string("/proc/sys/kernel/hostname").unwrap_or_default();
    format!("{}, process {}", host.trim(), std::process::id())
}

/// Takes what can be carried at these sites; one that has no such name yet counts from when it has.
pub(crate) fn spawn(
    tasks: &mut JoinSet<()>,
    shared: Arc<Shared>,
    scribe: Scribe,
    orders: Orders,
    (way, names): (Way, Vec<String>),
) {
    tasks.spawn(async move {
        let carriers = Carriers::new(shared.pool.clone());
        let mut dispatch: Option<(Vec<SiteId>, JoinSet<()>)> = None;
        loop {
            let sites = known(&shared.estate(), &names);
            let carrier = Carrier {
                name: name(),
                sites: sites.clone(),
            };
            if let Err(error) = carriers.beat(orders.process(), &carrier).await {
                tracing::warn!(%error, "nobody hears that this process carries");
            }
            if dispatch.as_ref().is_none_or(|(at, _)| *at != sites) {
                let mut own = JoinSet::new();
                let orders = orders.clone().carrying(&sites);
                super::spawn(
                    &mut own,
                    shared.clone(),
                    scribe.clone(),
                    orders,
                    way.clone(),
                );
                dispatch = Some((sites, own));
            }
            sleep(BEAT).await;
        }
    });
}
