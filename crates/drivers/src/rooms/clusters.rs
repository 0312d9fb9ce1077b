//! Hosts become a cluster.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, stamp},
};
use zastrugi_core::{
    estate::{Estate, Host},
    evidence::Answer,
    ids::{ClusterId, VolumeId},
    moment::Moment,
    rooms::{
        Event,
        clusters::{self, Step},
        storage,
    },
    runs::{Fault, FaultKind},
};

impl Drivers {
    pub(crate) async fn at_cluster(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        match step {
            Step::Verify { host, near } => {
                let host = self.host_of(estate, *host)?;
                let far = match near {
                    Some(other) => Some(self.far(host, self.host_of(estate, *other)?).await?),
                    None => None,
                };
                self.verify(host, far).await
            }
            Step::Clock { host } => self.clock(self.host_of(estate, *host)?).await,
            Step::Join {
                host,
                cluster,
                volume,
            } => {
                let host = self.host_of(estate, *host)?;
                let key = self.key_of(host).await?;
                let agent = self.agent(host, &key);
                let name = estate.clusters.get(cluster).map_or("", |c| c.name.as_str());
                let seen = agent.join(stamp(turn), name, volume.as_deref()).await?;
                let known = volume.as_ref().and_then(|uid| estate.volume_with_uid(uid));
                let known = known.map(|v| v.id);
                let events = joined(estate, host, *cluster, known, seen, turn.now);
                let said = if volume.is_some() {
                    "mounted"
                } else {
                    "joined"
                };
                Ok(done(events, said))
            }
            Step::Ready { .. } | Step::Dissolve { .. } => {
                Err(crate::perform::premise("There is no device for this."))
            }
        }
    }

    /// A host that was just installed may still be asking.
    async fn clock(&self, host: &Host) -> Result<Outcome, Fault> {
        let offset = self.offset(host).await?;
        if offset.abs() <= zastrugi_core::evidence::CLOCKS_APART_MS {
            return Ok(done(vec![], format!("{offset} ms off")));
        }
        let said = format!("The clock of {} is {offset} ms off.", host.name);
        let remedy =
            "Look whether it reaches its time source, and whether that is right, then retry.";
        Err(Fault::new(FaultKind::Refused, said, remedy))
    }

    /// How far another site is, in words; too far is refused.
    async fn far(&self, host: &Host, other: &Host) -> Result<String, Fault> {
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let micros = agent.round_trip(&other.access.address).await?;
        clusters::bears(micros).map_err(|words| {
            let said = format!("A round trip from {} to {} {words}.", host.name, other.name);
            let remedy =
                "Choose hosts that are nearer to each other, or make a cluster of one site.";
            Fault::new(FaultKind::Refused, said, remedy)
        })
    }

    async fn verify(&self, host: &Host, far: Option<String>) -> Result<Outcome, Fault> {
        let offset = self.offset(host).await?;
        let bmc = match self.bmc(host).await {
            Ok(Answer::Bmc { serial, .. }) if serial != host.hardware.serial => {
                return Err(Fault::new(
                    FaultKind::Refused,
                    format!(
                        "The controller says serial {serial}; the host says {}.",
                        host.hardware.serial
                    ),
                    "Correct the controller's address on the host, hand it back and claim it again.",
                ));
            }
            Ok(Answer::Bmc { power, .. }) => format!("controller answers, power {power}"),
            Ok(_) => "controller answers".to_owned(),
            Err(fault) => format!("controller does not answer: {}", fault.said),
        };
        let far = far.map_or_else(String::new, |f| format!("; {f} to the other site"));
        Ok(done(vec![], format!("clock {offset} ms off; {bmc}{far}")))
    }
}

/// A member of the cluster, with the volume that it mounted on the way.
fn joined(
    estate: &Estate,
    host: &Host,
    cluster: ClusterId,
    volume: Option<VolumeId>,
    seen: crate::agent::Seen,
    now: Moment,
) -> Vec<Event> {
    let member = Host {
        cluster: Some(cluster),
        ..host.clone()
    };
    let mut events = vec![Event::Clusters(clusters::Event::Joined {
        host: host.id,
        cluster,
    })];
    if let Some(volume) = volume {
        let paths = seen.paths.into_iter().take(64);
        events.push(Event::Storage(storage::Event::Mounted {
            host: host.id,
            volume,
            paths: paths.map(crate::agent::read_path).collect(),
        }));
        events.extend(super::storage::records(
            estate,
            &member,
            volume,
            seen.machines,
            now,
        ));
    }
    events
}
