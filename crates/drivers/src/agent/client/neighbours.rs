//! Who has which address on a network, as a host sees it.

use super::Agent;
use crate::fault::words;
use reqwest::Method;
use serde::Deserialize;
use serde_json::json;
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::runs::Fault;

#[derive(Deserialize)]
struct Heard {
    neighbours: BTreeMap<IpAddr, String>,
}

impl Agent<'_> {
    /// The hardware addresses of those that answer; whoever is not in it does not.
    pub(crate) async fn neighbours(
        &self,
        network: &str,
        addresses: &[IpAddr],
    ) -> Result<BTreeMap<IpAddr, String>, Fault> {
        let body = json!({"network": network, "addresses": addresses});
        let ask = self.ask(Method::POST, "/v1/neighbours", None, Some(body));
        let said: Heard = self.http.call(ask).await?;
        let asked = said
            .neighbours
            .into_iter()
            .filter(|(a, _)| addresses.contains(a));
        Ok(asked.map(|(a, mac)| (a, words(&mac))).collect())
    }
}
