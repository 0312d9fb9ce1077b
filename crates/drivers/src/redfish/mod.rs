//! Management controllers, in Redfish (DMTF DSP0266).

use crate::http::{Call, Http};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde::Deserialize;
use zastrugi_core::run::Fault;

/// What a controller says of its system.
#[derive(Debug, Deserialize)]
#[serde(rename_all = "PascalCase")]
pub(crate) struct System {
    pub(crate) power_state: String,
    pub(crate) serial_number: String,
}

pub(crate) async fn system(
    http: &Http,
    address: &str,
    pin: &str,
    password: &str,
) -> Result<System, Fault> {
    let basic = BASE64_STANDARD.encode(format!("zastrugi:{password}"));
    let call = Call {
        address,
        pin,
        method: Method::GET,
        path: "/redfish/v1/Systems/1".into(),
        headers: vec![("authorization", format!("Basic {basic}"))],
        body: None,
        bytes: None,
    };
    http.call(call).await
}
