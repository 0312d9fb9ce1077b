//! A build sheet as a file: JSON with a published schema (`docs/build-sheet.schema.json`), without secrets. What it holds is what
//! somebody typed; it is judged where it is loaded into the sheet.

use serde::{Deserialize, Serialize};

/// The schema that a file names; its number grows when an older program can't read what is new.
pub const SCHEMA: &str = "https://zastrugi.example/build-sheet-1.schema.json";
/// The published schema.
pub const SCHEMA_TEXT: &str = include_str!("../../../docs/build-sheet.schema.json");
/// Rows of hosts and of networks that are read.
const MOST: usize = 256;

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Sheet {
    #[serde(rename = "$schema")]
    pub schema: String,
    pub name: String,
    /// `one site` or `two hosts`; empty: one site.
    #[serde(default)]
    pub kind: String,
    pub site: String,
    /// `v1` … `v4`; none: the highest that all have.
    #[serde(default)]
    pub level: Option<String>,
    pub hosts: Hosts,
    pub networks: Vec<Network>,
    #[serde(default)]
    pub volume: Option<Volume>,
    /// Room is kept for one host failure.
    pub survive: bool,
    /// What would break that is blocked.
    #[serde(default)]
    pub enforced: bool,
    pub keepers: bool,
    /// Each new host is switched off and on once by its controller.
    #[serde(default)]
    pub fencing: bool,
    /// The cluster whose zone in DNS it shares; empty: none.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub names: String,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Hosts {
    /// Where their controllers are looked for.
    #[serde(default)]
    pub range: String,
    /// The account of the controllers.
    pub user: String,
    /// What they are installed from; empty: what is made for them.
    #[serde(default)]
    pub image: String,
    /// A pattern for their names, such as `skua-{01}`.
    #[serde(default)]
    pub names: String,
    /// The first of their own addresses.
    #[serde(default)]
    pub first: String,
    /// Whom they ask for the time: addresses, perhaps with a port.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub time: Vec<String>,
    pub rows: Vec<Host>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Host {
    /// `ip:port`
    pub controller: String,
    /// SHA-256 of its certificate's public key, lower-case hex.
    #[serde(default)]
    pub pin: String,
    /// Empty: the next of the pattern.
    #[serde(default)]
    pub name: String,
    /// Empty: the next address.
    #[serde(default)]
    pub address: String,
    /// What its disks hold may be erased.
    #[serde(default)]
    pub erase: bool,
    /// Where it stands, if not where the others do.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub site: String,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Network {
    pub name: String,
    pub role: String,
    /// None: untagged.
    #[serde(default)]
    pub vlan: Option<u16>,
    pub mtu: u32,
    #[serde(default)]
    pub subnet: String,
    #[serde(default)]
    pub gateway: String,
    pub uplinks: Vec<String>,
}

#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Volume {
    /// Of everything, where it lies on the hosts' own disks; 0: on an array.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub copies: u8,
    #[serde(default)]
    pub array: String,
    /// The pool on which it is made; empty where the array has it already.
    #[serde(default)]
    pub pool: String,
    /// The array's own number of it, where it has it already.
    #[serde(default)]
    pub lun: String,
    #[serde(default)]
    pub size: String,
    #[serde(default)]
    pub name: String,
}

#[expect(clippy::trivially_copy_pass_by_ref, reason = "serde asks so")]
fn is_zero(n: &u8) -> bool {
    *n == 0
}

/// As a file.
///
/// # Errors
/// Never for what this crate reads; the error is serde's.
pub fn write(sheet: &Sheet) -> Result<String, serde_json::Error> {
    serde_json::to_string_pretty(sheet).map(|text| text + "\n")
}

/// A file as a sheet.
///
/// # Errors
/// Words for whoever loads it: where it is wrong, and why.
pub fn read(text: &str) -> Result<Sheet, String> {
    let mut from = serde_json::Deserializer::from_str(text);
    let sheet: Sheet = serde_path_to_error::deserialize(&mut from).map_err(|e| {
        let at = match e.path().to_string().as_str() {
            "." => String::new(),
            path => format!(" at {path}"),
        };
        format!("This is no build sheet{at}: {}.", e.inner())
    })?;
    from.end()
        .map_err(|e| format!("Something stands behind the sheet: {e}."))?;
    if sheet.schema != SCHEMA {
        return Err(format!(
            "Its schema is “{}”; {SCHEMA} is read.",
            sheet.schema
        ));
    }
    for (what, n) in [
        ("hosts", sheet.hosts.rows.len()),
        ("networks", sheet.networks.len()),
    ] {
        if n > MOST {
            return Err(format!("{n} {what} are more than {MOST}."));
        }
    }
    Ok(sheet)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::fits::fits;
    use serde_json::{Value, json};

    fn full() -> Sheet {
        Sheet {
            schema: SCHEMA.into(),
            name: "Skua".into(),
            kind: "two hosts".into(),
            site: "Hilltop".into(),
            level: Some("v3".into()),
            hosts: Hosts {
                range: "10.1.2.21-24".into(),
                user: "operator".into(),
                image: "any.iso".into(),
                names: "skua-{01}".into(),
                first: "10.1.2.61".into(),
                time: vec!["10.1.2.123".into()],
                rows: vec![Host {
                    controller: "10.1.2.21:8443".into(),
                    pin: "aa".repeat(32),
                    name: "skua-09".into(),
                    address: "10.1.2.69".into(),
                    erase: true,
                    site: "Hilltop".into(),
                }],
            },
            networks: vec![Network {
                name: "management".into(),
                role: "management".into(),
                vlan: Some(10),
                mtu: 1500,
                subnet: "10.1.2.0/24".into(),
                gateway: "10.1.2.1".into(),
                uplinks: vec!["uplink-3".into()],
            }],
            volume: Some(Volume {
                copies: 0,
                array: "gneiss".into(),
                pool: "main".into(),
                lun: String::new(),
                size: "2 TiB".into(),
                name: "skua-disks".into(),
            }),
            survive: true,
            enforced: false,
            keepers: true,
            fencing: true,
            names: "Eider".into(),
        }
    }

    /// If this fails, a sheet that was saved is not what the published schema says, or can't be loaded again.
    #[test]
    fn what_is_saved_fits_the_schema_and_is_read_again() {
        let schema: Value = serde_json::from_str(SCHEMA_TEXT).unwrap();
        let plain = Sheet {
            level: None,
            volume: None,
            ..full()
        };
        for sheet in [full(), plain] {
            let text = write(&sheet).unwrap();
            let value: Value = serde_json::from_str(&text).unwrap();
            fits(&schema, &value, "sheet").unwrap();
            assert_eq!(read(&text), Ok(sheet));
        }
    }

    /// If this fails, the schema allows what can't be loaded, or something that may be left out can't.
    #[test]
    fn schema_and_reader_agree_on_what_is_missing_or_too_much() {
        let schema: Value = serde_json::from_str(SCHEMA_TEXT).unwrap();
        let whole = serde_json::to_value(full()).unwrap();
        let mut cases = Vec::new();
        let mut tried = |change: &dyn Fn(&mut Value)| {
            let mut value = whole.clone();
            change(&mut value);
            cases.push(value);
        };
        for part in ["", "/hosts", "/hosts/rows/0", "/networks/0", "/volume"] {
            let names: Vec<String> = whole
                .pointer(part)
                .unwrap()
                .as_object()
                .unwrap()
                .keys()
                .cloned()
                .collect();
            for name in names {
                tried(&|v| {
                    drop(
                        v.pointer_mut(part)
                            .unwrap()
                            .as_object_mut()
                            .unwrap()
                            .remove(&name),
                    )
                });
                tried(&|v| v.pointer_mut(part).unwrap()[&name] = json!([1.5]));
            }
            tried(&|v| v.pointer_mut(part).unwrap()["password"] = json!("secret"));
        }
        for value in cases {
            let by_schema = fits(&schema, &value, "sheet");
            let by_reader = read(&value.to_string());
            assert_eq!(
                by_schema.is_ok(),
                by_reader.is_ok(),
                "{value}\n{by_schema:?}\n{by_reader:?}"
            );
        }
    }

    #[test]
    fn what_is_wrong_is_said_with_its_place() {
        let words = |text: &str| read(text).unwrap_err();
        assert!(words("{").starts_with("This is no build sheet"));
        let mut value = serde_json::to_value(full()).unwrap();
        value["networks"][0]["vlan"] = json!("ten");
        assert!(
            words(&value.to_string()).contains("at networks[0].vlan"),
            "{}",
            words(&value.to_string())
        );
        value["networks"][0]["vlan"] = json!(10);
        value["$schema"] = json!("another");
        assert!(words(&value.to_string()).contains("“another”"));
        let twice = write(&full()).unwrap() + "{}";
        assert!(words(&twice).contains("stands behind"));
    }
}
