//! The volume on which keepers agree, through whichever host reaches it.

use std::{
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};
use tokio::time::timeout;
use zastrugi_core::{
    estate::{Estate, Host},
    guard::{Held, Line},
    ids::{ClusterId, HostId, VolumeId},
    runs::{Fault, FaultKind},
};
use zastrugi_drivers::{Agreement, Drivers};

/// Hosts that are tried for one call.
const TRIED: usize = 4;

/// The host that answered last: it is asked first next time.
pub type Good = Arc<Mutex<Option<HostId>>>;

pub struct Quorum {
    drivers: Drivers,
    uid: String,
    /// In the order in which they are asked.
    hosts: Vec<Arc<Host>>,
    good: Good,
    limit: Duration,
}

impl Quorum {
    /// Through the hosts of a cluster: the one that answered last, then `own`, then the others; each has `limit` to answer.
    pub fn new(
        drivers: Drivers,
        estate: &Estate,
        (cluster, volume): (ClusterId, VolumeId),
        own: Option<HostId>,
        good: &Good,
        limit: Duration,
    ) -> Option<Quorum> {
        let last = *good.lock().unwrap_or_else(PoisonError::into_inner);
        let uid = estate.volumes.get(&volume)?.uid.clone();
        let hosts = estate.hosts_in(cluster).filter(|h| h.access.key.is_some());
        let mut hosts: Vec<Arc<Host>> = hosts.cloned().collect();
        hosts.sort_by_key(|h| (last != Some(h.id), own != Some(h.id), h.is_gone(), h.id));
        Some(Quorum {
            drivers,
            uid,
            hosts,
            good: good.clone(),
            limit,
        })
    }

    async fn ask<T, F>(&self, call: impl Fn(Arc<Host>) -> F) -> Result<T, Fault>
    where
        F: Future<Output = Result<T, Fault>>,
    {
        let mut last = Fault::new(FaultKind::Unreachable, "No host reaches the volume.", "");
        for host in self.hosts.iter().take(TRIED) {
            last = match timeout(self.limit, call(host.clone())).await {
                Ok(Ok(answer)) => {
                    self.remember(Some(host.id));
                    return Ok(answer);
                }
                Ok(Err(fault)) => fault,
                Err(_) => {
                    let said = format!("{} gives no answer in time.", host.name);
                    Fault::new(FaultKind::TimedOut, said, "")
                }
            };
            self.remember(None);
        }
        Err(last)
    }

    fn remember(&self, host: Option<HostId>) {
        *self.good.lock().unwrap_or_else(PoisonError::into_inner) = host;
    }

    /// # Errors
    /// [`Fault`] when no host that was tried reaches it.
    pub async fn read(&self) -> Result<Agreement, Fault> {
        self.ask(|host| async move { self.drivers.agreement(&host, &self.uid).await })
            .await
    }

    /// Whether it is `to` now; an answer that was lost is looked up.
    ///
    /// # Errors
    /// [`Fault`] when nobody knows.
    pub(crate) async fn agree(&self, from: &Held, to: &Held) -> Result<bool, Fault> {
        let said = self
            .ask(|host| async move { self.drivers.agree(&host, &self.uid, from, to).await })
            .await?;
        Ok(said || self.read().await?.held == *to)
    }

    /// All lines after this one.
    ///
    /// # Errors
    /// [`Fault`] when no host that was tried reaches it.
    pub async fn journal(&self, after: u64) -> Result<Vec<Line>, Fault> {
        let mut lines: Vec<Line> = Vec::new();
        loop {
            let from = lines.last().map_or(after, |l| l.index);
            let read = self
                .ask(|host| async move { self.drivers.journal(&host, &self.uid, from).await })
                .await?;
            if read.is_empty() {
                return Ok(lines);
            }
            lines.extend(read);
        }
    }

    /// # Errors
    /// [`Fault`] when it is not known to be written; somebody else may decide by now.
    pub(crate) async fn add(&self, held: &Held, line: &Line) -> Result<(), Fault> {
        self.ask(|host| async move { self.drivers.add_line(&host, &self.uid, held, line).await })
            .await
    }
}
