//! What a host has that another manager runs, and how it changes its owner.

use super::{Agent, Stamp, claim::Claimed};
use crate::{
    agent::wire::{Inventory, Report},
    perform::Installation,
};
use reqwest::Method;
use serde_json::json;
use zastrugi_core::{inventory, runs::Fault};

impl Agent<'_> {
    /// Read with the host's own password; nothing is changed by it.
    pub(crate) async fn inventory(&self, password: &str) -> Result<inventory::Inventory, Fault> {
        let body = json!({"password": password});
        let ask = self.ask(Method::POST, "/v1/inventory", None, Some(body));
        let said: Inventory = self.http.call(ask).await?;
        Ok(said.read())
    }

    pub(crate) async fn take_over(
        &self,
        stamp: Stamp<'_>,
        who: &Installation,
        password: &str,
        former: &str,
    ) -> Result<Claimed, Fault> {
        let body = json!({"installation": who.id, "name": who.name, "password": password, "former": former});
        self.http
            .call(self.ask(Method::POST, "/v1/takeover", Some(stamp), Some(body)))
            .await
    }

    /// Everything that it reports, as of now.
    pub(crate) async fn state(&self) -> Result<Report, Fault> {
        self.http
            .call(self.ask(Method::GET, "/v1/state", None, None))
            .await
    }
}
