//! Management controllers, in Redfish (DMTF DSP0266).

use crate::http::{Call, Http, Watch};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde::Deserialize;
use serde_json::{Value, json};
use zastrugi_core::runs::Fault;

/// What a controller says of its system.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct System {
    pub(crate) power_state: String,
    pub(crate) serial_number: String,
}

/// A controller with the certificate that it must show and the password that we must.
pub(crate) struct Controller<'a> {
    pub(crate) http: &'a Http,
    /// The host that it is of.
    pub(crate) host: &'a str,
    pub(crate) address: &'a str,
    pub(crate) pin: &'a str,
    pub(crate) password: String,
}

const SYSTEM: &str = "/redfish/v1/Systems/1";
const CONSOLE: &str = "/redfish/v1/Systems/1/Oem/Zastrugi/SerialConsole";

impl Controller<'_> {
    fn ask(&self, method: Method, path: String, body: Option<Value>) -> Call<'_> {
        let basic = BASE64_STANDARD.encode(format!("zastrugi:{}", self.password));
        Call {
            who: format!("The controller of {}", self.host),
            address: self.address,
            pin: self.pin,
            method,
            path,
            headers: vec![("authorization", format!("Basic {basic}"))],
            body,
            bytes: None,
        }
    }
    pub(crate) async fn system(&self) -> Result<System, Fault> {
        let call = self.ask(Method::GET, SYSTEM.into(), None);
        self.http.call(call).await
    }
    /// `ResetType` of DSP0266: `On` or `ForceOff`; a system that is so already stays so.
    pub(crate) async fn reset(&self, kind: &str) -> Result<(), Fault> {
        let path = format!("{SYSTEM}/Actions/ComputerSystem.Reset");
        let call = self.ask(Method::POST, path, Some(json!({"ResetType": kind})));
        self.http.call::<Value>(call).await.map(drop)
    }
    pub(crate) async fn console(&self, from: u64) -> Result<Watch, Fault> {
        let call = self.ask(Method::GET, format!("{CONSOLE}?from={from}"), None);
        self.http.follow(call).await
    }
    pub(crate) async fn type_text(&self, text: &str) -> Result<(), Fault> {
        let body = Some(json!({"text": text}));
        let call = self.ask(Method::POST, CONSOLE.into(), body);
        self.http.call::<Value>(call).await.map(drop)
    }
}
