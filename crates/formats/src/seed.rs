//! What a guest reads at its first boot: the NoCloud seed, an open convention. Meta-data, user-data and network
//! configuration (version 2, written as JSON, which is also YAML) on a small image labelled `cidata`.

use crate::iso9660::{self, IsoError};
use quick_xml::escape::escape;
use serde_json::{Map, Value, json};
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::{
    estate::{Estate, Machine, Nic},
    first_boot::Told,
};

/// A card as the guest shall set it up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Card {
    pub mac: String,
    pub mtu: u32,
    /// Addresses with their prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
    pub gateways: Vec<IpAddr>,
}

/// The cards as the guest shall set them up.
pub fn cards(estate: &Estate, machine: &Machine) -> Vec<Card> {
    let card = |nic: &Nic| {
        let network = nic.network.and_then(|id| estate.networks.get(&id));
        let subnets = network.map(|n| n.subnets.as_slice()).unwrap_or_default();
        let of = |a: &IpAddr| subnets.iter().find(|s| s.net.contains(a));
        let used = nic.addresses.iter().filter_map(|a| Some((*a, of(a)?)));
        let used: Vec<_> = used.collect();
        Card {
            mac: nic.mac.clone(),
            mtu: network.map_or(1500, |n| n.mtu),
            addresses: used.iter().map(|(a, s)| (*a, s.net.prefix_len())).collect(),
            gateways: used.iter().filter_map(|(_, s)| s.gateway).collect(),
        }
    };
    machine.nics.iter().map(card).collect()
}

/// The three files of a seed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Files {
    pub meta_data: String,
    pub user_data: String,
    pub network_config: String,
    /// What the author of an archive lets the guest know (DSP0243, section 9.3), in its document.
    pub environment: Option<String>,
}

impl Files {
    /// With values by their keys; none: without a document of them.
    #[must_use]
    pub fn with(mut self, id: &str, properties: &BTreeMap<String, String>) -> Files {
        self.environment = (!properties.is_empty()).then(|| environment(id, properties));
        self
    }
}

fn environment(id: &str, properties: &BTreeMap<String, String>) -> String {
    const SPACE: &str = "http://schemas.dmtf.org/ovf/environment/1";
    let all = properties.iter().map(|(key, value)| {
        let (key, value) = (escape(key.as_str()), escape(value.as_str()));
        format!("    <Property oe:key=\"{key}\" oe:value=\"{value}\"/>\n")
    });
    let all: String = all.collect();
    format!(
        "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<Environment xmlns=\"{SPACE}\" xmlns:oe=\"{SPACE}\" oe:id=\"{}\">\n  <PropertySection>\n{all}  </PropertySection>\n</Environment>\n",
        escape(id)
    )
}

/// What one guest reads. `hash`: of the user's password, as crypt(3) has it; none: the user has none.
pub fn files(instance: &str, cards: &[Card], told: &Told, hash: Option<&str>) -> Files {
    let meta = json!({"instance-id": instance, "local-hostname": told.host_name});
    Files {
        meta_data: meta.to_string(),
        user_data: format!("#cloud-config\n{}\n", user(told, hash)),
        network_config: network(cards, told).to_string(),
        environment: None,
    }
}

/// The image for one machine.
///
/// # Errors
/// [`IsoError`] when it would become too large.
pub fn image(files: &Files) -> Result<Vec<u8>, IsoError> {
    let mut all = vec![
        ("meta-data", files.meta_data.as_bytes()),
        ("user-data", files.user_data.as_bytes()),
        ("network-config", files.network_config.as_bytes()),
    ];
    let environment = files.environment.as_ref();
    all.extend(environment.map(|text| ("ovf-env.xml", text.as_bytes())));
    iso9660::write("cidata", &all)
}

fn user(told: &Told, hash: Option<&str>) -> Value {
    let mut all = Map::new();
    if let Some(user) = &told.user {
        let mut one = json!({"name": user.name, "ssh_authorized_keys": user.keys, "lock_passwd": hash.is_none()});
        if let Some(hash) = hash {
            one["passwd"] = hash.into();
        }
        all.insert("users".into(), json!([one]));
    }
    if !told.zone.is_empty() {
        all.insert("timezone".into(), told.zone.as_str().into());
    }
    if !told.commands.is_empty() {
        all.insert("runcmd".into(), json!(told.commands));
    }
    Value::Object(all)
}

fn network(cards: &[Card], told: &Told) -> Value {
    let mut ethernets = Map::new();
    for (i, card) in cards.iter().enumerate() {
        let addresses: Vec<String> = card
            .addresses
            .iter()
            .map(|(a, prefix)| format!("{a}/{prefix}"))
            .collect();
        let routes: Vec<Value> = card
            .gateways
            .iter()
            .map(|g| json!({"to": "default", "via": g.to_string()}))
            .collect();
        let dhcp = addresses.is_empty();
        let mut one = json!({"match": {"macaddress": card.mac}, "mtu": card.mtu, "dhcp4": dhcp, "addresses": addresses, "routes": routes});
        // Name servers are of the guest, and the convention has them at its cards.
        if i == 0 && !(told.dns.is_empty() && told.search.is_empty()) {
            one["nameservers"] = json!({"addresses": told.dns, "search": told.search});
        }
        ethernets.insert(format!("card{i}"), one);
    }
    json!({"version": 2, "ethernets": ethernets})
}

#[cfg(test)]
mod tests {
    use super::*;
    use zastrugi_core::estate::User;

    #[test]
    fn a_seed_says_all_that_a_guest_is_told() {
        let card = Card {
            mac: "02:5a:00:00:00:01".into(),
            mtu: 1500,
            addresses: vec![
                ("10.2.0.10".parse().unwrap(), 24),
                ("2001:db8::10".parse().unwrap(), 64),
            ],
            gateways: vec!["10.2.0.1".parse().unwrap()],
        };
        let told = Told {
            host_name: "gate-01.lab.example".into(),
            user: Some(User {
                name: "ops".into(),
                keys: vec!["ssh-ed25519 AAAA ops".into()],
                password: None,
            }),
            dns: vec!["10.2.0.53".parse().unwrap()],
            search: vec!["lab.example".into()],
            zone: "Europe/Lisbon".into(),
            commands: vec!["touch /ready".into()],
        };
        let properties = BTreeMap::from([("net.dns".to_owned(), "a < b".to_owned())]);
        let files = files("u-1", &[card], &told, Some("$6$salt$hash"));
        let image = image(&files.with("gate-01", &properties)).unwrap();
        let text = String::from_utf8_lossy(&image);
        for said in [
            "\"local-hostname\":\"gate-01.lab.example\"",
            "#cloud-config\n{",
            "\"passwd\":\"$6$salt$hash\"",
            "\"lock_passwd\":false",
            "\"timezone\":\"Europe/Lisbon\"",
            "\"runcmd\":[\"touch /ready\"]",
            "\"nameservers\":{\"addresses\":[\"10.2.0.53\"],\"search\":[\"lab.example\"]}",
            "10.2.0.10/24",
            "2001:db8::10/64",
            "\"via\":\"10.2.0.1\"",
            "META-DATA;1",
            "<Property oe:key=\"net.dns\" oe:value=\"a &lt; b\"/>",
        ] {
            assert!(text.contains(said), "{said}");
        }
        assert_eq!(iso9660::label(&image), Ok("cidata".into()));
    }
}
