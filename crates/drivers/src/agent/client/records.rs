//! The records of machines on a volume.

use super::{Agent, Stamp, at_volume};
use crate::agent::{Machine, wire::Changed};
use reqwest::Method;
use serde::Deserialize;
use uuid::Uuid;
use zastrugi_core::runs::Fault;

/// More than lie on any volume of ours.
const MOST: usize = 32_768;

#[derive(Deserialize)]
struct All {
    machines: Vec<Machine>,
}

impl Agent<'_> {
    /// All of a volume, whoever they are of.
    pub(crate) async fn records(&self, volume: &str) -> Result<Vec<Machine>, Fault> {
        let all: All = self.get(at_volume(volume, "records")).await?;
        Ok(all.machines.into_iter().take(MOST).collect())
    }

    /// Takes one away; its disks stay, and no machine has them.
    pub(crate) async fn forget_record(
        &self,
        stamp: Stamp<'_>,
        volume: &str,
        record: &Uuid,
    ) -> Result<Changed, Fault> {
        let path = at_volume(volume, &format!("records/{record}"));
        let call = self.ask(Method::DELETE, path, Some(stamp), None);
        self.http.call(call).await
    }
}
