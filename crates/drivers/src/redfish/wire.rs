//! What is read of a service's answers; whatever else stands there is nobody's concern.

use serde::Deserialize;

#[derive(Debug, Deserialize)]
pub(super) struct Link {
    #[serde(rename = "@odata.id")]
    pub(super) id: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Root {
    pub(super) systems: Option<Link>,
    pub(super) links: RootLinks,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct RootLinks {
    pub(super) sessions: Option<Link>,
}

#[derive(Debug, Default, Deserialize)]
pub(super) struct Collection {
    #[serde(rename = "Members", default)]
    pub(super) members: Vec<Link>,
    #[serde(rename = "Members@odata.nextLink", default)]
    pub(super) next: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct ComputerSystem {
    pub(super) power_state: Option<String>,
    pub(super) serial_number: Option<String>,
    pub(super) actions: Actions,
}

#[derive(Debug, Default, Deserialize)]
pub(super) struct Actions {
    #[serde(rename = "#ComputerSystem.Reset", default)]
    pub(super) reset: Option<Action>,
}

#[derive(Debug, Default, Clone, Deserialize)]
pub(super) struct Action {
    #[serde(default)]
    pub(super) target: String,
    #[serde(rename = "ResetType@Redfish.AllowableValues", default)]
    pub(super) allowed: Vec<String>,
    /// Where the values stand instead.
    #[serde(rename = "@Redfish.ActionInfo", default)]
    pub(super) info: Option<String>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct ActionInfo {
    pub(super) parameters: Vec<Parameter>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Parameter {
    pub(super) name: String,
    pub(super) allowable_values: Vec<String>,
}
