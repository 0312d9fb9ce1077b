//! What is read of a service's answers; whatever else stands there is nobody's concern.

use serde::{Deserialize, Deserializer};

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

/// Services say `null` for what they don't know: that is as if it were not there.
fn or_nothing<'de, T: Default + Deserialize<'de>, D: Deserializer<'de>>(
    from: D,
) -> Result<T, D::Error> {
    Ok(Option::deserialize(from)?.unwrap_or_default())
}

/// A system as far as it is what lies beneath an agent.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Machine {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) manufacturer: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) model: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) serial_number: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) power_state: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) processor_summary: Processors,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) memory_summary: Memory,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) boot: Boot,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) boot_progress: Progress,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) status: Status,
    pub(super) virtual_media: Option<Link>,
    pub(super) storage: Option<Link>,
    pub(super) ethernet_interfaces: Option<Link>,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) links: MachineLinks,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct MachineLinks {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) managed_by: Vec<Link>,
}

/// Who manages a system: older services mount its media there.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Manager {
    pub(super) virtual_media: Option<Link>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Processors {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) count: u32,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) model: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) core_count: u32,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) logical_processor_count: u32,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Memory {
    /// Not always whole.
    #[serde(rename = "TotalSystemMemoryGiB", deserialize_with = "or_nothing")]
    pub(super) total_system_memory_gib: f64,
}

#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(super) struct Boot {
    #[serde(rename = "BootSourceOverrideEnabled", deserialize_with = "or_nothing")]
    pub(super) enabled: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Progress {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) last_state: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) oem_last_state: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Status {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) health: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) conditions: Vec<Condition>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Condition {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) message: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct LocalStorage {
    pub(super) volumes: Option<Link>,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) drives: Vec<Link>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct LocalDrive {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) id: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) name: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) capacity_bytes: u64,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) status: Status,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct LocalVolume {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) name: String,
}

#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Interface {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) id: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) name: String,
    #[serde(rename = "MACAddress", deserialize_with = "or_nothing")]
    pub(super) mac_address: String,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) speed_mbps: u64,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) link_status: String,
}

/// A slot for a medium that is read over the network.
#[derive(Debug, Default, Deserialize)]
#[serde(rename_all = "PascalCase", default)]
pub(super) struct Medium {
    #[serde(deserialize_with = "or_nothing")]
    pub(super) inserted: bool,
    #[serde(deserialize_with = "or_nothing")]
    pub(super) media_types: Vec<String>,
    pub(super) actions: MediumActions,
}

#[derive(Debug, Default, Deserialize)]
pub(super) struct MediumActions {
    #[serde(rename = "#VirtualMedia.InsertMedia", default)]
    pub(super) insert: Option<Action>,
    #[serde(rename = "#VirtualMedia.EjectMedia", default)]
    pub(super) eject: Option<Action>,
}

impl Medium {
    /// Whether an image of a disc can be put in.
    pub(super) fn takes(&self) -> bool {
        let disc = |kind: &String| kind == "CD" || kind == "DVD";
        let fits = self.media_types.is_empty() || self.media_types.iter().any(disc);
        fits && self.actions.insert.is_some() && self.actions.eject.is_some()
    }
}
