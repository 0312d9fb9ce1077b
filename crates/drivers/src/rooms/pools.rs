//! Steps of volumes that lie on the hosts' own disks: lending, giving back, going on without one.

use crate::{
    Drivers, Outcome, Turn,
    perform::{done, stamp},
};
use zastrugi_core::{
    estate::{Estate, Host, Volume},
    ids::HostId,
    limits,
    observe::figure,
    rooms::{
        Event,
        storage::{self, Step},
    },
    runs::{Fault, FaultKind},
    units::Bytes,
};

fn event(event: storage::Event) -> Vec<Event> {
    vec![Event::Storage(event)]
}

fn premise(said: &str) -> Fault {
    Fault::new(FaultKind::Premise, said, "Cancel the run.")
}

impl Drivers {
    pub(crate) async fn at_own_disks(
        &self,
        estate: &Estate,
        step: &Step,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let about = |id| {
            estate
                .volumes
                .get(id)
                .ok_or_else(|| premise("The volume is gone."))
        };
        match step {
            Step::Lend {
                volume,
                host,
                domain,
            } => {
                self.lend(estate, (about(volume)?, *host), domain, turn)
                    .await
            }
            Step::GiveBack { volume, host } => {
                self.give_back(estate, about(volume)?, *host, turn).await
            }
            Step::Expel { volume, host, gone } => {
                self.expel(estate, (about(volume)?, *host), *gone, turn)
                    .await
            }
            Step::ReadArray { .. }
            | Step::MakeLun { .. }
            | Step::GrowLun { .. }
            | Step::Map { .. }
            | Step::Unmap { .. }
            | Step::LogIn { .. }
            | Step::Prepare { .. }
            | Step::Mount { .. }
            | Step::CheckPaths { .. }
            | Step::Unmount { .. }
            | Step::Fill { .. }
            | Step::Disown { .. }
            | Step::VolumeReady { .. }
            | Step::VolumeGone { .. } => {
                Err(premise("This has nothing to do with the hosts' own disks."))
            }
        }
    }

    /// The first that lends makes the volume; the others find it by those that lend already.
    async fn lend(
        &self,
        estate: &Estate,
        (volume, host): (&Volume, HostId),
        domain: &str,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let pooled = volume
            .pooled
            .as_ref()
            .ok_or_else(|| premise("The volume lies on an array."))?;
        let lent = if volume.uid.is_empty() {
            agent
                .begin_pool(
                    stamp(turn),
                    &volume.name,
                    (pooled.copies, pooled.wait),
                    domain,
                )
                .await?
        } else {
            let others = pooled.members.keys().filter(|h| **h != host.id);
            let address = |id: &HostId| {
                estate
                    .hosts
                    .get(id)
                    .map(|h: &std::sync::Arc<Host>| h.access.address.clone())
            };
            let peers: Vec<String> = others.filter_map(address).collect();
            agent.lend(stamp(turn), &volume.uid, domain, &peers).await?
        };
        let raw = Bytes(figure(lent.raw, &limits::FIGURE_DISK));
        let told = storage::Event::Lent {
            volume: volume.id,
            host: host.id,
            uid: crate::agent::limited(lent.uid),
            domain: domain.to_owned(),
            raw,
        };
        let said = match raw {
            Bytes::ZERO => "it has no free disk; it takes part without".to_owned(),
            raw => format!("{raw}"),
        };
        Ok(done(event(told), said))
    }

    /// The host says how much is still to be copied to the others.
    async fn give_back(
        &self,
        estate: &Estate,
        volume: &Volume,
        host: HostId,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let host = self.host_of(estate, host)?;
        let key = self.key_of(host).await?;
        let agent = self.agent(host, &key);
        let serial = &host.hardware.serial;
        let back = || {
            let told = storage::Event::LentBack {
                volume: volume.id,
                host: host.id,
            };
            done(event(told), "its disks are free")
        };
        if volume.uid.is_empty() || agent.pool(&volume.uid).await?.held_by(serial).is_none() {
            return Ok(back());
        }
        agent.give_back(stamp(turn), &volume.uid).await?;
        Ok(match agent.pool(&volume.uid).await?.held_by(serial) {
            None => back(),
            Some(left) => Outcome::NotYet {
                said: format!("{left} to be copied to the others"),
            },
        })
    }

    async fn expel(
        &self,
        estate: &Estate,
        (volume, via): (&Volume, HostId),
        gone: HostId,
        turn: Turn<'_>,
    ) -> Result<Outcome, Fault> {
        let via = self.host_of(estate, via)?;
        let key = self.key_of(via).await?;
        let gone = estate
            .hosts
            .get(&gone)
            .ok_or_else(|| premise("The host is gone."))?;
        self.agent(via, &key)
            .expel(stamp(turn), &volume.uid, &gone.hardware.serial)
            .await?;
        let told = storage::Event::LentBack {
            volume: volume.id,
            host: gone.id,
        };
        Ok(done(
            event(told),
            format!("the others go on without {}", gone.name),
        ))
    }
}
