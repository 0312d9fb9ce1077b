//! Names, as a host is told them.

use super::Agent;
use reqwest::Method;
use serde::Deserialize;
use serde_json::json;
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
};
use zastrugi_core::{estate::Entered, runs::Fault};

/// What a name server told a host.
#[derive(Deserialize)]
pub(crate) struct Told {
    names: BTreeMap<String, BTreeSet<IpAddr>>,
    addresses: BTreeMap<IpAddr, Vec<String>>,
}

impl Told {
    /// Where a name leads; nothing where it does not exist.
    pub(crate) fn addresses(&self, name: &str) -> BTreeSet<IpAddr> {
        self.names.get(name).cloned().unwrap_or_default()
    }
    /// Names are the same whatever their case, and with or without the root's dot (RFC 4343).
    pub(crate) fn leads_back(&self, address: &IpAddr, name: &str) -> bool {
        let to = self.addresses.get(address).into_iter().flatten();
        let plain = |n: &str| n.trim_end_matches('.').to_ascii_lowercase();
        to.into_iter().any(|n| plain(n) == plain(name))
    }
}

impl Agent<'_> {
    /// Asks a name server (`ip:port`) from the host: names, and the addresses that they should lead to.
    pub(crate) async fn resolve(&self, server: &str, known: &[&Entered]) -> Result<Told, Fault> {
        let names: Vec<&str> = known.iter().map(|e| e.name.as_str()).collect();
        let addresses: BTreeSet<&IpAddr> = known.iter().flat_map(|e| &e.addresses).collect();
        let body = json!({"server": server, "names": names, "addresses": addresses});
        let ask = self.ask(Method::POST, "/v1/resolve", None, Some(body));
        self.http.call(ask).await
    }
}
