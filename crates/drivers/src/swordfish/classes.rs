//! What an array says that it does: classes of service with their lines, and which volumes have which (Swordfish, SNIA).

use super::{Keeper, client::Link};
use crate::agent::limited;
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
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

/// The same, as it is told.
fn told(span: Span) -> String {
    let whole = jiff::SignedDuration::from_millis(i64::try_from(span.0).unwrap_or(i64::MAX));
    whole.to_string()
}

/// The line of a class that is about snapshots, with everything else that stands in it.
fn with_snapshots(mut lines: Vec<Value>, snaps: &Snaps) -> Vec<Value> {
    let is = |line: &Value| line.get("ReplicaType").is_some_and(|t| t == "Snapshot");
    if !lines.iter().any(is) {
        lines.push(json!({"Name": "snapshots", "ReplicaType": "Snapshot", "IsIsolated": false}));
    }
    for line in lines.iter_mut().filter(|l| is(l)) {
        line["RecoveryPointObjectiveTime"] = told(snaps.every).into();
        if let Some(keep) = snaps.keep {
            line["MinLifetime"] = told(keep).into();
        }
    }
    lines
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

    /// Asks it to take snapshots of a volume as said, and looks whether it does: the line is written into the class of service
    /// that the volume has. Answers what the class is called.
    pub(crate) async fn take_snapshots(&self, uid: &str, snaps: &Snaps) -> Result<String, Fault> {
        let refused = |said: String| {
            let remedy = "Have its administrator set it, or move the disks to where it holds.";
            Fault::new(FaultKind::Refused, said, remedy)
        };
        let name = &self.array.name;
        let all = self.classed().await?;
        let class = all.into_iter().find(|(of, ..)| of == uid);
        let Some(class) = class.and_then(|(_, class, _)| class) else {
            let said = format!("{name} names no class of service for it any more.");
            return Err(refused(said));
        };
        let path = format!("/StorageServices/1/ClassesOfService/{class}");
        let whole: Value = self.any(Method::GET, &path, None).await?;
        let lines = whole.get("DataProtectionLinesOfService");
        let lines = lines.and_then(Value::as_array).cloned().unwrap_or_default();
        let body = json!({"DataProtectionLinesOfService": with_snapshots(lines, snaps)});
        let answer: Value = self.any(Method::PATCH, &path, Some(body)).await?;
        let read = serde_json::from_value::<WireClass>(answer).map(WireClass::read);
        match read {
            Ok(now) if now.snapshots.as_ref() == Some(snaps) => Ok(now.class),
            Ok(_) => Err(refused(format!(
                "{name} took the change of {class}, and does otherwise all the same."
            ))),
            Err(_) => Err(refused(format!(
                "What {name} says of {class} makes no sense."
            ))),
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
                let said = Served {
                    service,
                    group,
                    since: now,
                    before: None,
                };
                served.insert(id, said);
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

    /// If this fails, an array is asked for another interval than the one that a person saw, or loses what else its class does.
    #[test]
    fn a_class_is_written_as_it_is_read_and_keeps_its_other_lines() {
        let mirror =
            json!({"Name": "copy", "ReplicaType": "Mirror", "RecoveryPointObjectiveTime": "PT15M"});
        for minutes in [15, 60, 90, 1440, 10_080] {
            let snaps = Snaps {
                every: Span::mins(minutes),
                keep: Some(Span::days(14)),
            };
            let lines = with_snapshots(vec![mirror.clone()], &snaps);
            assert_eq!(lines[0], mirror);
            let class =
                json!({"Id": "bulk", "Name": "bulk", "DataProtectionLinesOfService": lines});
            let read: WireClass = serde_json::from_value(class).unwrap();
            assert_eq!(read.read().snapshots, Some(snaps));
        }
    }

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
