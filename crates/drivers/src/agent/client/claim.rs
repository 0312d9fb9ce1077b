//! A host taken over, its cluster and its networks.

use super::{Agent, Stamp, segment, volumes::Seen};
use crate::{
    agent::wire::{Greeting, Report, limited},
    fault::garbled,
    http::Http,
    perform::Installation,
};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use zastrugi_core::{estate::Network, evidence, runs::Fault};

#[derive(Deserialize)]
pub(crate) struct Claimed {
    pub(crate) key: String,
    pub(crate) bmc: Option<ClaimedBmc>,
    pub(crate) state: Report,
}

#[derive(Deserialize)]
pub(crate) struct ClaimedBmc {
    pub(crate) address: String,
    pub(crate) password: String,
    pub(crate) pin: String,
}

impl Agent<'_> {
    pub(crate) async fn claim(
        &self,
        stamp: Stamp<'_>,
        who: &Installation,
        password: &str,
    ) -> Result<Claimed, Fault> {
        let body = json!({"installation": who.id, "name": who.name, "password": password});
        self.http
            .call(self.ask(Method::POST, "/v1/claim", Some(stamp), Some(body)))
            .await
    }

    pub(crate) async fn check_password(&self, password: &str) -> Result<(), Fault> {
        let body = json!({"password": password});
        self.tell(Method::POST, "/v1/password-check", None, Some(body))
            .await
    }

    pub(crate) async fn release(&self, stamp: Stamp<'_>) -> Result<(), Fault> {
        self.tell(Method::POST, "/v1/release", Some(stamp), Some(json!({})))
            .await
    }

    /// Milliseconds since 1970 on the host's own clock.
    pub(crate) async fn clock(&self) -> Result<i64, Fault> {
        let said: Value = self
            .http
            .call(self.ask(Method::GET, "/v1/clock", None, None))
            .await?;
        said.get("unix_ms")
            .and_then(Value::as_i64)
            .ok_or_else(|| garbled(self.address, "no time in it"))
    }

    pub(crate) async fn join(
        &self,
        stamp: Stamp<'_>,
        cluster: &str,
        volume: Option<&str>,
    ) -> Result<Seen, Fault> {
        let body = json!({"name": cluster, "volume": volume});
        self.put("/v1/cluster", stamp, body).await
    }

    pub(crate) async fn leave(&self, stamp: Stamp<'_>) -> Result<(), Fault> {
        self.tell(Method::DELETE, "/v1/cluster", Some(stamp), None)
            .await
    }

    pub(crate) async fn set_network(
        &self,
        stamp: Stamp<'_>,
        network: &Network,
    ) -> Result<(), Fault> {
        let body = json!({"vlan": network.vlan, "mtu": network.mtu, "uplinks": network.uplinks});
        let path = format!("/v1/networks/{}", segment(&network.name));
        self.tell(Method::PUT, path, Some(stamp), Some(body)).await
    }

    pub(crate) async fn drop_network(
        &self,
        stamp: Stamp<'_>,
        network: &Network,
    ) -> Result<(), Fault> {
        let path = format!("/v1/networks/{}", segment(&network.name));
        self.tell(Method::DELETE, path, Some(stamp), None).await
    }

    /// How long a packet to the agent at this address (`ip:port`) and back takes, in microseconds: the shortest of several.
    pub(crate) async fn round_trip(&self, address: &str) -> Result<u64, Fault> {
        let body = json!({"address": address});
        let said: Value = self
            .http
            .call(self.ask(Method::POST, "/v1/round-trip", None, Some(body)))
            .await?;
        said.get("micros")
            .and_then(Value::as_u64)
            .ok_or_else(|| garbled(self.address, "no time in it"))
    }

    /// Whether a packet of this size gets to the other host on the network, unfragmented.
    pub(crate) async fn mtu(&self, network: &str, to: &str, bytes: u32) -> Result<bool, Fault> {
        let body = json!({"network": network, "to": to, "bytes": bytes});
        let said: Value = self
            .http
            .call(self.ask(Method::POST, "/v1/mtu-probe", None, Some(body)))
            .await?;
        said.get("through")
            .and_then(Value::as_bool)
            .ok_or_else(|| garbled(self.address, "no word of the packet"))
    }
}

/// Who is at `address`? Nothing secret is sent.
pub(crate) async fn greet(http: &Http, address: &str) -> Result<evidence::Greeting, Fault> {
    let (said, pin) = http.greet::<Greeting>(address, "/v1/greeting").await?;
    read(address, said, pin)
}

/// A host that came up from what it was given.
pub(crate) struct Installed {
    pub(crate) greeting: evidence::Greeting,
    /// Over its certificate's pin, lower-case hex; empty where it has none.
    pub(crate) proof: String,
    /// Starts since its installation began.
    pub(crate) starts: u32,
}

/// The same, with its proof that it was installed from what somebody gave it.
pub(crate) async fn greet_installed(http: &Http, address: &str) -> Result<Installed, Fault> {
    let (mut said, pin) = http.greet::<Greeting>(address, "/v1/greeting").await?;
    let installed = said.installed.take().unwrap_or_default();
    Ok(Installed {
        greeting: read(address, said, pin)?,
        proof: limited(installed.proof),
        starts: installed.starts,
    })
}

fn read(address: &str, said: Greeting, pin: String) -> Result<evidence::Greeting, Fault> {
    if said.protocol != 1 {
        return Err(garbled(address, &format!("protocol {}", said.protocol)));
    }
    Ok(evidence::Greeting {
        name: limited(said.name),
        pin,
        hardware: said.hardware.read().map_err(|why| garbled(address, &why))?,
        software: limited(said.software),
        owner: said
            .owner
            .map(|o| (limited(o.installation), limited(o.name))),
        machines: said.machines.into_iter().take(500).map(limited).collect(),
        bmc: said.bmc.map(limited),
    })
}
