//! Management controllers, in Redfish (DMTF DSP0266), as services in the world are: several systems behind one, links that lead
//! nowhere, actions that are missing, blocks of makers, sessions instead of passwords, patience asked for. Only what is
//! standard is used, and nothing is taken for granted that isn't.

mod media;
mod resets;
mod sign;
mod system;
mod wire;

pub(crate) use resets::{Resets, Telling};
pub(crate) use sign::Ways;
pub(crate) use system::{Switch, System};

use crate::http::{Call, Http, Watch};
use reqwest::Method;
use serde_json::{Value, json};
use zastrugi_core::runs::Fault;

/// A controller with the certificate that it must show, the password that we must, and the serial of the system that is meant.
pub(crate) struct Controller<'a> {
    pub(crate) http: &'a Http,
    pub(crate) ways: &'a Ways,
    pub(crate) resets: &'a Resets,
    /// The host that it is of, and its serial.
    pub(crate) host: &'a str,
    pub(crate) serial: &'a str,
    pub(crate) address: &'a str,
    pub(crate) pin: &'a str,
    pub(crate) user: &'a str,
    pub(crate) password: String,
}

/// Redfish leaves the way of a console to others; this one is ours.
const CONSOLE: &str = "Oem/Zastrugi/SerialConsole";

impl Controller<'_> {
    fn who(&self) -> String {
        format!("The controller of {}", self.host)
    }

    fn call(&self, method: Method, path: String, body: Option<Value>) -> Call<'_> {
        Call {
            who: self.who(),
            address: self.address,
            pin: self.pin,
            method,
            path,
            headers: vec![],
            body,
            bytes: None,
        }
    }

    /// Every resource that links of the service lead to, with what it says; at most so many.
    pub(crate) async fn walk(&self, most: usize) -> Result<Vec<(String, Value)>, Fault> {
        let mut next = vec![sign::ROOT.trim_end_matches('/').to_owned()];
        let mut seen: Vec<(String, Value)> = Vec::new();
        while let Some(path) = next.pop().filter(|_| seen.len() < most) {
            if seen.iter().any(|(known, _)| *known == path) {
                continue;
            }
            let value: Value = self.get(&path).await?;
            links(&value, &mut next);
            seen.push((path, value));
        }
        Ok(seen)
    }

    pub(crate) async fn console(&self, from: u64) -> Result<Watch, Fault> {
        let path = self.found().await?.path;
        let mut call = self.call(Method::GET, format!("{path}/{CONSOLE}?from={from}"), None);
        call.headers.push(self.signature().await?);
        self.http.follow(call).await
    }
    pub(crate) async fn type_text(&self, text: &str) -> Result<(), Fault> {
        let path = self.found().await?.path;
        let body = json!({"text": text});
        self.post(&format!("{path}/{CONSOLE}"), body).await
    }
}

fn links(value: &Value, found: &mut Vec<String>) {
    match value {
        Value::Object(fields) => {
            // What has more than its link is the thing itself.
            let link = fields
                .get("@odata.id")
                .and_then(Value::as_str)
                .filter(|_| fields.len() == 1);
            found.extend(link.map(|l| l.trim_end_matches('/').to_owned()));
            fields.values().for_each(|v| links(v, found));
        }
        Value::Array(all) => all.iter().for_each(|v| links(v, found)),
        Value::Null | Value::Bool(_) | Value::Number(_) | Value::String(_) => {}
    }
}
