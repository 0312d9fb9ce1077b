//! Which records lie on volumes: read by one host of each whenever one came or went, and now and then all the same.

use super::office::Office;
use crate::shared::now;
use std::{
    collections::BTreeMap,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};
use zastrugi_core::{
    evidence::SeenVolume,
    ids::{HostId, VolumeId},
    observe::{HostReport, left_over},
};

/// A volume on which much comes and goes is read no more often than this.
const APART: Duration = Duration::from_secs(5);
/// What a run left behind changes nothing afterwards.
const ANYWAY: Duration = Duration::from_mins(5);

/// When each volume was read last, and what it said of its records then.
#[derive(Clone, Default)]
pub(super) struct Shelves {
    read: Arc<Mutex<BTreeMap<VolumeId, (String, Instant)>>>,
}

impl Shelves {
    /// Whether it is to be read now; then it counts as read.
    fn is_due(&self, volume: VolumeId, word: &str) -> bool {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        let due = read.get(&volume).is_none_or(|(had, at)| {
            let least = if had == word { ANYWAY } else { APART };
            at.elapsed() >= least
        });
        if due {
            read.insert(volume, (word.to_owned(), Instant::now()));
        }
        due
    }

    /// It could not be read.
    fn was_not_read(&self, volume: VolumeId) {
        let mut read = self.read.lock().unwrap_or_else(PoisonError::into_inner);
        if let Some((word, _)) = read.get_mut(&volume) {
            word.clear();
        }
    }

    /// Reads what is due of the volumes that this host tells of, beside whatever else it is asked.
    pub(super) fn look(&self, office: &Office, host: HostId, report: &HostReport) {
        for seen in &report.volumes {
            let Some(volume) = self.due(office, host, seen) else {
                continue;
            };
            let (shelves, office) = (self.clone(), office.clone());
            tokio::spawn(async move {
                if !read(&office, host, volume).await {
                    shelves.was_not_read(volume);
                }
            });
        }
    }

    fn due(&self, office: &Office, host: HostId, seen: &SeenVolume) -> Option<VolumeId> {
        let word = seen.records.as_ref()?;
        let estate = office.shared.estate();
        let volume = estate.volume_with_uid(&seen.uid).filter(|v| v.ready)?;
        let reader = estate.reach(volume.id).is_some_and(|h| h.id == host);
        (reader && self.is_due(volume.id, word)).then_some(volume.id)
    }
}

/// Answers whether it was read.
async fn read(office: &Office, host: HostId, id: VolumeId) -> bool {
    let before = office.shared.estate();
    let (Some(host), Some(volume)) = (before.hosts.get(&host), before.volumes.get(&id)) else {
        return true;
    };
    let seen = match office.shared.drivers.records_on(host, volume).await {
        Ok(seen) => seen,
        Err(fault) => {
            tracing::debug!(said = %fault.said, volume = %volume.name, "its records were not read");
            return false;
        }
    };
    if left_over(&office.shared.view(), &before, id, &seen, now()).is_none() {
        return true;
    }
    let known = before.clone();
    office
        .append(move |sight| {
            let event = left_over(sight.view, &known, id, &seen, sight.at);
            event.into_iter().collect()
        })
        .await
}
