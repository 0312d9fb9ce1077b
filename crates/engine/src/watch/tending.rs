//! What the leader does now and then: samples are kept, old history goes, what is past its time is removed for good. Apart
//! from leading: however long it takes, nobody waits for it.

use super::leader::Samples;
use crate::{
    desk::{By, Wish, start_as},
    scribe::Scribe,
    shared::{Shared, now},
};
use std::{
    collections::BTreeSet,
    sync::{Arc, PoisonError},
    time::{Duration, Instant},
};
use time::OffsetDateTime;
use tokio::time::sleep;
use zastrugi_core::{
    estate::Machine,
    ids::{SecretRef, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{Proposal, machines},
};
use zastrugi_store::{Journal, Measurements, Pictures, Settings, StoreError};

const SAMPLES: Duration = Duration::from_secs(10);
const OFTEN: Duration = Duration::from_mins(5);

pub(super) async fn tend(shared: Arc<Shared>, scribe: Scribe, samples: Samples) {
    let measurements = Measurements::new(shared.pool.clone());
    let mut tended: Option<Instant> = None;
    loop {
        sleep(SAMPLES).await;
        keep_samples(&measurements, &samples).await;
        if tended.is_some_and(|at| at.elapsed() < OFTEN) {
            continue;
        }
        tended = Some(Instant::now());
        let done = [
            (
                "old samples were not removed",
                measurements.tend(OffsetDateTime::now_utc()).await,
            ),
            ("old history was not removed", tend_history(&shared).await),
            (
                "pictures that nobody needs were not removed",
                forget_pictures(&shared).await,
            ),
            (
                "how full volumes are was not noted",
                note_use(&shared, &measurements).await,
            ),
        ];
        for (what, result) in done {
            if let Err(error) = result {
                tracing::warn!(%error, "{what}");
            }
        }
        if let Err(error) = forget_secrets(&shared).await {
            tracing::warn!(%error, "secrets that nobody uses were not removed");
        }
        purge_expired(&shared, &scribe).await;
    }
}

async fn keep_samples(measurements: &Measurements, samples: &Samples) {
    let samples = std::mem::take(&mut *samples.lock().unwrap_or_else(PoisonError::into_inner));
    let samples: Vec<_> = samples.into_iter().collect();
    if let Err(error) = measurements.write(&samples).await {
        tracing::warn!(%error, "loads were not kept");
    }
}

async fn note_use(shared: &Shared, measurements: &Measurements) -> Result<(), StoreError> {
    let estate = shared.estate();
    let ready = estate.volumes.values().filter(|v| v.ready);
    let used: Vec<_> = ready.map(|v| (v.id, v.used)).collect();
    measurements
        .write_use(OffsetDateTime::now_utc().date(), &used)
        .await
}

/// History is kept for 90 days and events for 400, unless the settings say otherwise.
async fn tend_history(shared: &Shared) -> Result<(), StoreError> {
    let settings = Settings::new(shared.pool.clone());
    let history = settings.get("history days").await?.unwrap_or(90);
    let events = settings.get("event days").await?.unwrap_or(400);
    Journal::new(shared.pool.clone())
        .tend(history, events)
        .await
}

/// Pictures that proved points which are gone.
async fn forget_pictures(shared: &Shared) -> Result<(), StoreError> {
    let estate = shared.estate();
    let points = estate.series.values().flat_map(|s| &s.points);
    let named: Vec<_> = points.filter_map(|p| p.proof.as_ref()?.picture).collect();
    let pictures = Pictures::new(shared.pool.clone());
    pictures.forget_evidence(&named).await.map(drop)
}

/// Secrets that nothing names: of hosts that were handed back, of claims that were repeated. Young ones may be about to be
/// named.
async fn forget_secrets(shared: &Shared) -> Result<(), zastrugi_store::VaultError> {
    let old = shared.vault.older_than(Duration::from_hours(1)).await?;
    if old.is_empty() {
        return Ok(());
    }
    let now = shared.snapshot();
    let hosts = now.estate.hosts.values();
    let of_hosts = hosts.flat_map(|h| {
        let given = h.installing.as_ref().and_then(|i| i.given);
        [h.access.key, h.bmc.as_ref().and_then(|b| b.key), given]
    });
    let of_arrays = now.estate.arrays.values().map(|a| a.key);
    let of_switches = now.estate.switches.values().map(|s| s.key);
    let of_balancers = now.estate.balancers.values().map(|b| b.key);
    let of_fronts = now.estate.fronts.values();
    let of_fronts = of_fronts.map(|f| f.certificate.as_ref().map(|c| c.key));
    let of_names = now.estate.clusters.values().map(|c| {
        let key = c.dns.as_ref().and_then(|d| d.key.as_ref());
        key.map(|k| k.secret)
    });
    let of_stores = now.estate.stores.values();
    let of_stores = of_stores.flat_map(|s| [s.key, s.lies.secret()]);
    let told = now.estate.first_boots.values().flat_map(|d| &d.versions);
    let of_users = told.map(|v| v.user.as_ref().and_then(|u| u.password));
    let of_consoles = now.estate.machines.values().map(|m| m.console_lock);
    let named: BTreeSet<SecretRef> = of_hosts
        .chain(of_arrays)
        .chain(of_switches)
        .chain(of_balancers)
        .chain(of_fronts)
        .chain(of_names)
        .chain(of_stores)
        .chain(of_users)
        .chain(of_consoles)
        .flatten()
        .collect();
    // Plans name secrets in what they ask and do; few are open.
    let plans: Vec<String> = now
        .plans
        .values()
        .filter_map(|p| serde_json::to_string(&(&p.ask, &p.steps)).ok())
        .collect();
    for secret in old {
        let id = secret.0.to_string();
        if !named.contains(&secret) && !plans.iter().any(|p| p.contains(&id)) {
            shared.vault.forget(secret).await?;
        }
    }
    Ok(())
}

/// Deleted machines whose time is over are removed for good, by a run like any other: one for each deletion, also if it
/// fails and somebody gives it up.
async fn purge_expired(shared: &Arc<Shared>, scribe: &Scribe) {
    let estate = shared.estate();
    let over = |m: &&Arc<Machine>| m.recoverable_until().is_some_and(|until| until <= now());
    for machine in estate.machines.values().filter(over) {
        let deleted = machine.deleted.map_or(0, |at| at.0.unsigned_abs());
        let ask = machines::Ask::Purge {
            machines: vec![machine.id],
            typed: (&machine.name).into(),
        };
        let wish = Wish {
            who: Who::itself(),
            by: By::Itself,
            permits: Permits::of(Role::Admin),
            ask: Proposal::Machines(ask),
            seen: None,
            request: draw_uuid(machine.id.0, deleted, EXPIRY),
        };
        if let Err(error) = start_as(shared, scribe, wish).await {
            tracing::warn!(machine = %machine.name, %error, "an expired machine was not removed");
        }
    }
}

/// Sets these requests apart from all others that are drawn.
const EXPIRY: u64 = 0x6578_7069_7265_6421;
