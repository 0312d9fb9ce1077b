//! What a guest reads at its first boot: the NoCloud seed, an open convention. Meta-data, user-data and network
//! configuration (version 2, written as JSON, which is also YAML) on a small image labelled `cidata`.

use crate::iso9660::{self, IsoError};
use serde_json::{Value, json};
use std::net::IpAddr;

/// A card as the guest shall set it up.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Card {
    pub mac: String,
    pub mtu: u32,
    /// Addresses with their prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
    pub gateways: Vec<IpAddr>,
}

/// The image for one machine.
///
/// # Errors
/// [`IsoError`] when it would become too large.
pub fn image(instance: &str, name: &str, cards: &[Card]) -> Result<Vec<u8>, IsoError> {
    let meta = json!({"instance-id": instance, "local-hostname": name}).to_string();
    let user = "#cloud-config\n{}\n";
    let mut ethernets = serde_json::Map::new();
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
        ethernets.insert(
            format!("card{i}"),
            json!({"match": {"macaddress": card.mac}, "mtu": card.mtu, "dhcp4": dhcp, "addresses": addresses, "routes": routes}),
        );
    }
    let network = json!({"version": 2, "ethernets": ethernets}).to_string();
    iso9660::write(
        "cidata",
        &[
            ("meta-data", meta.as_bytes()),
            ("user-data", user.as_bytes()),
            ("network-config", network.as_bytes()),
        ],
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_seed_names_the_machine_and_its_addresses() {
        let card = Card {
            mac: "02:5a:00:00:00:01".into(),
            mtu: 1500,
            addresses: vec![
                ("10.2.0.10".parse().unwrap(), 24),
                ("2001:db8::10".parse().unwrap(), 64),
            ],
            gateways: vec!["10.2.0.1".parse().unwrap()],
        };
        let image = image("u-1", "gate-01", &[card]).unwrap();
        let text = String::from_utf8_lossy(&image);
        for said in [
            "\"local-hostname\":\"gate-01\"",
            "10.2.0.10/24",
            "2001:db8::10/64",
            "\"via\":\"10.2.0.1\"",
            "META-DATA;1",
        ] {
            assert!(text.contains(said), "{said}");
        }
        assert_eq!(iso9660::label(&image), Ok("cidata".into()));
    }
}
