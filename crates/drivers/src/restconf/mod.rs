//! Switches by RESTCONF (RFC 8040): ports from ietf-interfaces (RFC 8343), VLANs by IEEE 802.1Q, neighbours by LLDP.
//! Only read.

use crate::{
    Drivers,
    agent::limited,
    fault::{garbled, words},
    http::Call,
};
use base64::{Engine, prelude::BASE64_STANDARD};
use reqwest::Method;
use serde::{Deserialize, de::DeserializeOwned};
use std::collections::{BTreeMap, BTreeSet};
use zastrugi_core::{
    estate::{Controller, Switch, SwitchPort},
    evidence::Answer,
    runs::{Fault, FaultKind},
};

/// What every frame carries besides its payload: two addresses, type, check sequence.
const AROUND: u32 = 18;
const MOST_PORTS: usize = 2048;

#[derive(Deserialize)]
struct HostMeta {
    name: String,
}

#[derive(Deserialize)]
struct System {
    #[serde(rename = "ietf-system:system")]
    system: Hostname,
}
#[derive(Deserialize)]
struct Hostname {
    hostname: String,
}

#[derive(Deserialize)]
struct Interfaces {
    #[serde(rename = "ietf-interfaces:interfaces")]
    all: InterfaceList,
}
#[derive(Deserialize)]
struct InterfaceList {
    interface: Vec<Interface>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Interface {
    name: String,
    oper_status: String,
    #[serde(rename = "ietf-if-extensions:max-frame-size", default)]
    frame: u32,
    #[serde(rename = "ieee802-dot1q-bridge:bridge-port")]
    bridge_port: Option<BridgePort>,
}
#[derive(Deserialize)]
struct BridgePort {
    pvid: u16,
}

#[derive(Deserialize)]
struct Bridges {
    #[serde(rename = "ieee802-dot1q-bridge:bridges")]
    all: BridgeList,
}
#[derive(Deserialize)]
struct BridgeList {
    bridge: Vec<Bridge>,
}
#[derive(Deserialize)]
struct Bridge {
    component: Vec<Component>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Component {
    filtering_database: Filtering,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Filtering {
    #[serde(default)]
    vlan_registration_entry: Vec<Registration>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Registration {
    /// Such as `10,20-29` (IEEE 802.1Qcp).
    vids: String,
    port_map: Vec<PortMap>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct PortMap {
    port_ref: String,
    static_vlan_registration_entries: Static,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Static {
    vlan_transmitted: String,
}

#[derive(Deserialize)]
struct Lldp {
    #[serde(rename = "ieee802-dot1ab-lldp:lldp")]
    all: LldpPorts,
}
#[derive(Deserialize)]
struct LldpPorts {
    #[serde(default)]
    port: Vec<LldpPort>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct LldpPort {
    name: String,
    #[serde(default)]
    remote_systems_data: Vec<Remote>,
}
#[derive(Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Remote {
    system_name: String,
    port_id: String,
}

/// The VLANs of `10,20-29`.
fn vlans(text: &str) -> Option<BTreeSet<u16>> {
    let mut all = BTreeSet::new();
    for piece in text.split(',').map(str::trim).filter(|p| !p.is_empty()) {
        let (first, last) = piece.split_once('-').unwrap_or((piece, piece));
        let (first, last): (u16, u16) = (first.trim().parse().ok()?, last.trim().parse().ok()?);
        if first > last || last > 4094 {
            return None;
        }
        all.extend(first..=last);
    }
    Some(all)
}

impl Drivers {
    /// Who manages a switch at `address`? Nothing secret is sent.
    pub(crate) async fn switch_greeting(&self, address: &str) -> Result<Answer, Fault> {
        self.allowed(address)?;
        let (said, pin) = self
            .http
            .greet::<HostMeta>(address, "/.well-known/host-meta")
            .await?;
        Ok(Answer::Manager {
            name: words(&said.name),
            pin,
        })
    }

    async fn read<T: DeserializeOwned>(
        &self,
        switch: &Switch,
        password: &str,
        path: &str,
    ) -> Result<T, Fault> {
        let basic = BASE64_STANDARD.encode(format!("{}:{password}", switch.user));
        let call = Call {
            who: switch.name.clone(),
            address: &switch.access.address,
            pin: &switch.access.pin,
            method: Method::GET,
            path: format!("/restconf/data/{path}"),
            headers: vec![
                ("authorization", format!("Basic {basic}")),
                ("accept", "application/yang-data+json".into()),
            ],
            body: None,
            bytes: None,
        };
        self.http.call(call).await
    }

    pub(crate) async fn read_switch(&self, switch: &Switch) -> Result<Switch, Fault> {
        self.allowed(&switch.access.address)?;
        let none = || {
            Fault::new(
                FaultKind::Premise,
                "No password is kept.",
                "Connect the switch again.",
            )
        };
        let password = self.secrets.open(switch.key.ok_or_else(none)?).await?;
        let odd = |why: &str| garbled(&switch.access.address, why);
        let system: System = self.read(switch, &password, "ietf-system:system").await?;
        let interfaces: Interfaces = self
            .read(switch, &password, "ietf-interfaces:interfaces")
            .await?;
        let bridges: Bridges = self
            .read(switch, &password, "ieee802-dot1q-bridge:bridges")
            .await?;
        let lldp: Lldp = self
            .read(switch, &password, "ieee802-dot1ab-lldp:lldp")
            .await?;
        let mut ports: BTreeMap<String, SwitchPort> = BTreeMap::new();
        for interface in interfaces.all.interface.into_iter().take(MOST_PORTS) {
            let port = SwitchPort {
                up: interface.oper_status == "up",
                mtu: interface.frame.saturating_sub(AROUND),
                untagged: interface.bridge_port.map_or(1, |b| b.pvid),
                tagged: BTreeSet::new(),
                neighbour: None,
            };
            ports.insert(limited(interface.name), port);
        }
        let entries = bridges
            .all
            .bridge
            .iter()
            .flat_map(|b| &b.component)
            .flat_map(|c| &c.filtering_database.vlan_registration_entry);
        for entry in entries {
            let ids = vlans(&entry.vids).ok_or_else(|| odd("a list of VLANs"))?;
            for map in &entry.port_map {
                let tagged = map.static_vlan_registration_entries.vlan_transmitted == "tagged";
                if let Some(port) = ports.get_mut(&map.port_ref).filter(|_| tagged) {
                    port.tagged.extend(&ids);
                }
            }
        }
        for heard in lldp.all.port {
            let neighbour = heard.remote_systems_data.into_iter().next();
            if let (Some(port), Some(n)) = (ports.get_mut(&heard.name), neighbour) {
                port.neighbour = Some((limited(n.system_name), limited(n.port_id)));
            }
        }
        Ok(Switch {
            name: limited(system.system.hostname),
            ports,
            known: true,
            access: Controller {
                silent: None,
                ..switch.access.clone()
            },
            ..switch.clone()
        })
    }

    /// Reads the switch as it is now; a silent one is an answer too.
    pub async fn look_at_switch(&self, switch: &Switch) -> Switch {
        self.read_switch(switch).await.unwrap_or_else(|fault| {
            let why = fault.said.trim_end_matches('.').to_owned();
            Switch {
                access: Controller {
                    silent: Some(why),
                    ..switch.access.clone()
                },
                ..switch.clone()
            }
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_of_vlans_are_read_and_nonsense_is_not() {
        assert_eq!(vlans("10,20-22"), Some(BTreeSet::from([10, 20, 21, 22])));
        assert_eq!(vlans(""), Some(BTreeSet::new()));
        for bad in ["x", "5-", "9-5", "4095", "1,,x"] {
            assert_eq!(vlans(bad), None, "{bad}");
        }
    }
}
