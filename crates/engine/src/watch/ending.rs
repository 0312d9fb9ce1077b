//! Snapshots that are past their end are deleted by runs like any other, in the hour in which their machine writes least.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    evidence,
    shared::{Shared, now},
};
use std::{collections::BTreeMap, sync::Arc, time::Duration};
use time::OffsetDateTime;
use tokio::time::sleep;
use uuid::Uuid;
use zastrugi_core::{
    estate::Machine,
    evidence::Probe,
    ids::{MachineId, RunId, draw_uuid},
    moment::{Moment, Span},
    permits::{Permits, Role, Who},
    rooms::{
        Proposal,
        snapshots::{Ask, Forget, Which},
    },
    runs::{Object, RunState},
};
use zastrugi_store::{Measurements, StoreError};

const LOOK: Duration = Duration::from_secs(20);
/// How long a quiet hour is believed: it is read from seven days of samples.
const READ: Span = Span::mins(60);

pub(super) async fn forget(office: Office) {
    let measurements = Measurements::new(office.shared.pool.clone());
    let mut hours: BTreeMap<MachineId, (Moment, Option<u8>)> = BTreeMap::new();
    loop {
        sleep(LOOK).await;
        hours.retain(|_, (at, _)| now().since(*at) < READ);
        let estate = office.shared.estate();
        let all = estate.machines.values().filter(|m| m.deleted.is_none());
        for machine in all {
            let due = due(machine, now());
            if due.is_empty()
                || is_open(&office.shared, machine.id)
                || is_read(&office.shared, machine.id)
            {
                continue;
            }
            let quiet = match hours.get(&machine.id) {
                Some((_, quiet)) => *quiet,
                None => match quiet_hour(&measurements, machine).await {
                    Ok(quiet) => quiet,
                    Err(error) => {
                        tracing::warn!(%error, "the quiet hour of a machine was not read");
                        continue;
                    }
                },
            };
            hours.entry(machine.id).or_insert((now(), quiet));
            if waits(machine, &due, quiet, now()) {
                continue;
            }
            evidence::ask_all(&office.shared, vec![Probe::Layers(machine.id)]).await;
            begin(&office, machine, due).await;
        }
    }
}

/// As its host measured it; who is off writes nothing at any hour.
async fn quiet_hour(
    measurements: &Measurements,
    machine: &Machine,
) -> Result<Option<u8>, StoreError> {
    match machine.host {
        Some(host) => measurements.quiet_hour(machine.id, host).await,
        None => Ok(None),
    }
}

/// Those that are past their end.
fn due(machine: &Machine, now: Moment) -> Vec<Uuid> {
    let all = machine.snapshots.all.iter();
    all.filter(|s| s.ends.is_some_and(|at| at <= now))
        .map(|s| s.uuid)
        .collect()
}

/// Whether a quieter hour comes within a day of the end.
fn waits(machine: &Machine, due: &[Uuid], quiet: Option<u8>, now: Moment) -> bool {
    let Some(quiet) = quiet else { return false };
    let seconds = now.0.div_euclid(1000);
    let hour = OffsetDateTime::from_unix_timestamp(seconds).map(OffsetDateTime::hour);
    if hour.is_ok_and(|h| h == quiet) {
        return false;
    }
    let ends = machine
        .snapshots
        .all
        .iter()
        .filter(|s| due.contains(&s.uuid));
    let first = ends.filter_map(|s| s.ends).min();
    first.is_some_and(|at| now.since(at) < Span::days(1))
}

async fn begin(office: &Office, machine: &Arc<Machine>, due: Vec<Uuid>) {
    let day = u64::try_from(now().0 / 86_400_000).unwrap_or(0);
    let first = due.first().map_or(0, |u| u.as_u64_pair().0);
    let wish = Wish {
        who: Who::itself(),
        by: By::Itself,
        permits: Permits::of(Role::Admin),
        ask: Proposal::Snapshots(Ask::Forget(Forget {
            machines: vec![machine.id],
            which: Which::These(due),
        })),
        seen: None,
        // What somebody cancelled is tried once more the next day.
        request: draw_uuid(machine.id.0, first ^ day, ENDING),
    };
    if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
        tracing::warn!(machine = %machine.name, %error, "snapshots past their end were not deleted");
    }
}

/// Whether a run that deletes snapshots of this machine is not over.
fn is_open(shared: &Shared, machine: MachineId) -> bool {
    let now = shared.snapshot();
    now.plans.values().any(|p| match &p.ask {
        Proposal::Snapshots(Ask::Forget(ask)) => ask.machines.contains(&machine),
        _ => false,
    })
}

/// Whether a run goes on with this machine: what it reads may be one of them. One that waits for somebody holds up nothing.
fn is_read(shared: &Shared, machine: MachineId) -> bool {
    let view = shared.view();
    let about = view.runs.about(Object::Machine(machine));
    let goes_on = |id: &RunId| {
        view.runs
            .get(*id)
            .is_some_and(|r| r.state != RunState::NeedsYou)
    };
    about.iter().any(goes_on)
}

/// Sets these requests apart from all others that are drawn.
const ENDING: u64 = 0x656e_6473_2061_7420;
