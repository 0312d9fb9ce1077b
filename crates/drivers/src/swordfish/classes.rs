//! What an array says that it does: classes of service with their lines, and which volumes have which (Swordfish, SNIA).

use super::{Keeper, client::Link};
use crate::agent::limited;
use serde::Deserialize;
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{Estate, Remote, Served, Service, Snaps},
    ids::VolumeId,
    moment::{Moment, Span},
    runs::{Fault, FaultKind},
};

/// Of one array.
pub(super) type Classes = BTreeMap<String, Service>;

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct WireClass {
    id: String,
    name: String,
    #[serde(default)]
    data_protection_lines_of_service: Vec<Protection>,
    #[serde(default)]
    data_storage_lines_of_service: Vec<Storing>,
    #[serde(default, rename = "IOPerformanceLinesOfService")]
    performance: Vec<Performance>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Protection {
    #[serde(default)]
    replica_type: String,
    recovery_point_objective_time: Option<String>,
    min_lifetime: Option<String>,
    replica_access_location: Option<Location>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Location {
    postal_address: Option<Address>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Address {
    #[serde(default)]
    building: String,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Storing {
    recoverable_capacity_source_count: Option<u8>,
}

#[derive(Deserialize)]
#[serde(rename_all = "PascalCase")]
struct Performance {
    #[serde(rename = "AverageIOOperationLatencyMicroseconds")]
    latency: Option<u32>,
}

/// A duration of ISO 8601, days of 24 hours; what is none, or no more than nothing, is not said.
fn span(said: Option<&String>) -> Option<Span> {
    let span: jiff::Span = said?.parse().ok()?;
    let whole = span.to_duration(jiff::SpanRelativeTo::days_are_24_hours());
    let ms = u64::try_from(whole.ok()?.as_millis()).ok()?;
    (ms > 0).then(|| Span::millis(ms))
}

impl WireClass {
    fn read(self) -> Service {
        let mut service = Service {
            class: limited(self.name),
            latency_us: self.performance.iter().find_map(|p| p.latency),
            spare: self
                .data_storage_lines_of_service
                .iter()
                .find_map(|s| s.recoverable_capacity_source_count),
            ..Service::default()
        };
        for line in self.data_protection_lines_of_service {
            let Some(every) = span(line.recovery_point_objective_time.as_ref()) else {
                continue;
            };
            let at = line.replica_access_location.and_then(|l| l.postal_address);
            match (line.replica_type.as_str(), at) {
                ("Snapshot", _) => {
                    service.snapshots = Some(Snaps {
                        every,
                        keep: span(line.min_lifetime.as_ref()),
                    });
                }
                ("Mirror", Some(at)) => {
                    service.remote = Some(Remote {
                        at: limited(at.building),
                        every,
                    });
                }
                _ => {}
            }
        }
        service
    }
}

impl Keeper<'_> {
    /// Its classes, and what it does for volumes of ours. What of it makes no sense, or is more than is read, says nothing: the
    /// array itself answers.
    pub(super) async fn does(
        &self,
        estate: &Estate,
        now: Moment,
    ) -> Result<(Classes, BTreeMap<VolumeId, Served>), Fault> {
        let said = async {
            let classes = self.classes().await?;
            let served = self.serves(estate, &classes, now).await?;
            Ok((classes, served))
        };
        match said.await {
            Err(Fault {
                kind: FaultKind::Garbled,
                ..
            }) => Ok(Default::default()),
            said => said,
        }
    }

    /// All classes by their identity; an array that knows none has none.
    async fn classes(&self) -> Result<Classes, Fault> {
        let path = "/StorageServices/1/ClassesOfService";
        let Some(all) = self.members_if_any::<WireClass>(path).await? else {
            return Ok(Classes::new());
        };
        let one = |class: WireClass| (limited(class.id.clone()), class.read());
        Ok(all.into_iter().take(64).map(one).collect())
    }

    /// What it does for volumes of ours.
    async fn serves(
        &self,
        estate: &Estate,
        classes: &Classes,
        now: Moment,
    ) -> Result<BTreeMap<VolumeId, Served>, Fault> {
        if classes.is_empty() {
            return Ok(BTreeMap::new());
        }
        let ours = |uid: &str| estate.volume_with_uid(uid).map(|v| v.id);
        let mut served = BTreeMap::new();
        for (uid, class, group) in self.classed().await? {
            let service = class.and_then(|c| classes.get(&c).cloned());
            if let (Some(id), Some(service)) = (ours(&uid), service) {
                let since = now;
                served.insert(
                    id,
                    Served {
                        service,
                        group,
                        since,
                    },
                );
            }
        }
        Ok(served)
    }
}

impl Link {
    pub(super) fn named(all: &[Link]) -> Option<String> {
        all.first().map(Link::last)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_are_read_as_iso_8601_says_them() {
        let read = |text: &str| span(Some(&text.to_owned()));
        assert_eq!(read("PT15M"), Some(Span::mins(15)));
        assert_eq!(read("P7D"), Some(Span::days(7)));
        assert_eq!(read("P1DT1H"), Some(Span::mins(25 * 60)));
        for odd in ["", "soon", "PT0S", "-PT1H", "P"] {
            assert_eq!(read(odd), None, "{odd}");
        }
        assert_eq!(span(None), None);
    }
}
