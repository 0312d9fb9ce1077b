//! The bare problem as a file: hosts and machines as numbers. Hard capacities, nothing reserved.
//!
//! `{"hosts":[{"name":"h1","cpu":32,"memory":768}],"machines":[{"name":"m1","cpu":4,"memory":16,"host":"h1","tier":1,
//! "apart":"g0"}]}`: cores and GiB; tier 1 restarts first; machines of one `apart` group never share a host; no `host` means
//! not placed yet.

use serde::{Deserialize, de::DeserializeOwned};
use std::collections::BTreeMap;
use zastrugi_core::{
    availability::{HostRow, MEMORY, MachineRow, Table, VCPUS, WELL},
    migration::Bare,
};

/// What is wrong in a file, and where: `machines[3].memory: …`.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{place}: {what}")]
pub struct Wrong {
    pub place: String,
    pub what: String,
}

fn wrong(place: impl Into<String>, what: impl Into<String>) -> Wrong {
    Wrong {
        place: place.into(),
        what: what.into(),
    }
}

/// Reads JSON and names the place of what doesn't fit.
pub(crate) fn json<T: DeserializeOwned>(text: &str) -> Result<T, Wrong> {
    let mut reader = serde_json::Deserializer::from_str(text);
    let read = serde_path_to_error::deserialize(&mut reader);
    let read = read.map_err(|e| wrong(e.path().to_string(), e.inner().to_string()))?;
    reader
        .end()
        .map_err(|e| wrong(format!("line {}", e.line()), e.to_string()))?;
    Ok(read)
}

#[derive(Deserialize)]
struct File {
    hosts: Vec<FileHost>,
    machines: Vec<FileMachine>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileHost {
    name: String,
    cpu: f64,
    memory: f64,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileMachine {
    name: String,
    cpu: f64,
    memory: f64,
    #[serde(default)]
    host: Option<String>,
    #[serde(default = "last")]
    tier: u8,
    #[serde(default)]
    apart: Option<String>,
}

fn last() -> u8 {
    3
}

/// Room beyond what any file asks for, in the dimensions that files don't have.
const PLENTY: u64 = u64::MAX / 1024;
/// No figure of a file is larger: in GiB, or in cores.
const LARGEST: f64 = (1u64 << 30) as f64;

/// Reads a table.
///
/// # Errors
/// [`Wrong`] with the place in the file: what isn't JSON or isn't expected, names given twice, a host that isn't there,
/// figures below zero or beyond 2^30.
pub fn read(text: &str) -> Result<Table, Wrong> {
    let file: File = json(text)?;
    let mut table = Table::default();
    let mut names: BTreeMap<String, usize> = BTreeMap::new();
    for (n, host) in file.hosts.into_iter().enumerate() {
        let at = |field: &str| format!("hosts[{n}].{field}");
        if names.insert(host.name.clone(), n).is_some() {
            return Err(wrong(
                at("name"),
                format!("there is a host “{}” already", host.name),
            ));
        }
        let mut room = [PLENTY; WELL];
        room[MEMORY] = gib(host.memory, at("memory"))?;
        room[VCPUS] = cores(host.cpu, at("cpu"))?;
        table.hosts.push(HostRow {
            name: host.name,
            room,
            fencing: Some(zastrugi_core::estate::Means::Controller.takes()),
            ..HostRow::default()
        });
    }
    let mut taken = std::collections::BTreeSet::new();
    let mut groups: BTreeMap<String, u32> = BTreeMap::new();
    for (n, machine) in file.machines.into_iter().enumerate() {
        let at = |field: &str| format!("machines[{n}].{field}");
        if !taken.insert(machine.name.clone()) {
            return Err(wrong(
                at("name"),
                format!("there is a machine “{}” already", machine.name),
            ));
        }
        if machine.tier == 0 {
            return Err(wrong(at("tier"), "tiers begin with 1"));
        }
        let host = machine.host.as_ref().map(|name| {
            let known = names.get(name).copied();
            known.ok_or_else(|| wrong(at("host"), format!("there is no host “{name}”")))
        });
        let mut needs = [0; WELL];
        needs[MEMORY] = gib(machine.memory, at("memory"))?;
        needs[VCPUS] = cores(machine.cpu, at("cpu"))?;
        let apart = machine.apart.map(|group| {
            let next = u32::try_from(groups.len()).unwrap_or(u32::MAX);
            if !groups.contains_key(&group) {
                table.groups.push(group.clone());
            }
            *groups.entry(group).or_insert(next)
        });
        table.machines.push(MachineRow {
            name: machine.name,
            kept: needs[MEMORY],
            needs,
            tier: machine.tier,
            at: host.transpose()?,
            apart: apart.into_iter().collect(),
            ..MachineRow::default()
        });
    }
    Ok(table)
}

fn figure(figure: f64, place: String) -> Result<f64, Wrong> {
    match figure {
        f if f < 0.0 => Err(wrong(place, format!("{f} is less than nothing"))),
        f if f > LARGEST => Err(wrong(place, format!("{f} is more than 2^30"))),
        f => Ok(f),
    }
}

/// GiB as bytes.
fn gib(given: f64, place: String) -> Result<u64, Wrong> {
    Ok(zastrugi_core::units::round(
        figure(given, place)? * (1u64 << 30) as f64,
    ))
}

/// Cores in thousandths.
fn cores(given: f64, place: String) -> Result<u64, Wrong> {
    Ok(zastrugi_core::units::round(figure(given, place)? * 1000.0))
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct FileCase {
    memory_bytes: f64,
    bandwidth_bytes_per_s: f64,
    dirty_bytes_per_s: f64,
    #[serde(default)]
    working_set_bytes: Option<f64>,
    downtime_target_s: f64,
    max_rounds: usize,
    throttle_step: f64,
}

/// Reads a migration's case; without a working set all of the memory may be written.
///
/// # Errors
/// [`Wrong`] with the place in the file.
pub fn read_case(text: &str) -> Result<Bare, Wrong> {
    let file: FileCase = json(text)?;
    let fields = [
        ("memory_bytes", file.memory_bytes),
        ("bandwidth_bytes_per_s", file.bandwidth_bytes_per_s),
        ("dirty_bytes_per_s", file.dirty_bytes_per_s),
        ("working_set_bytes", file.working_set_bytes.unwrap_or(0.0)),
        ("downtime_target_s", file.downtime_target_s),
        ("throttle_step", file.throttle_step),
    ];
    if let Some((place, given)) = fields.iter().find(|(_, f)| *f < 0.0) {
        return Err(wrong(*place, format!("{given} is less than nothing")));
    }
    if file.bandwidth_bytes_per_s == 0.0 {
        return Err(wrong(
            "bandwidth_bytes_per_s",
            "without bandwidth nothing is ever sent",
        ));
    }
    if file.throttle_step > 1.0 {
        let what = "a share of the guest's speed, such as 0.1; 0 for never";
        return Err(wrong("throttle_step", what));
    }
    if file.max_rounds == 0 {
        return Err(wrong("max_rounds", "at least one round"));
    }
    Ok(Bare {
        memory: file.memory_bytes,
        bandwidth: file.bandwidth_bytes_per_s,
        dirty: file.dirty_bytes_per_s,
        working_set: file.working_set_bytes.unwrap_or(file.memory_bytes),
        target: file.downtime_target_s,
        max_rounds: file.max_rounds,
        slow_step: file.throttle_step,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_read_in_cores_and_gib() {
        let table = read(
            r#"{"hosts":[{"name":"h1","cpu":32,"memory":768}],"machines":[
            {"name":"m1","cpu":0.5,"memory":1.5,"host":"h1","tier":1,"apart":"g0"},{"name":"m2","cpu":1,"memory":2}]}"#,
        )
        .unwrap();
        assert_eq!(table.hosts[0].room[MEMORY], 768 << 30);
        assert_eq!(table.machines[0].needs[MEMORY], 3 << 29);
        assert_eq!(table.machines[0].needs[VCPUS], 500);
        assert_eq!(
            (table.machines[0].at, table.machines[1].at),
            (Some(0), None)
        );
        assert_eq!(table.groups, ["g0"]);
    }

    #[test]
    fn what_is_wrong_is_named_by_its_place() {
        let said = |text: &str| read(text).unwrap_err().to_string();
        let hosts = r#""hosts":[{"name":"h1","cpu":1,"memory":1}]"#;
        assert!(said("{").contains("EOF"));
        assert!(said(r#"{"hosts":[]}"#).contains("missing field `machines`"));
        let text = format!(r#"{{{hosts},"machines":[{{"name":"m","cpu":1,"memory":"x"}}]}}"#);
        assert!(
            said(&text).starts_with("machines[0].memory: "),
            "{}",
            said(&text)
        );
        let text =
            format!(r#"{{{hosts},"machines":[{{"name":"m","cpu":1,"memory":1,"host":"h2"}}]}}"#);
        assert_eq!(said(&text), "machines[0].host: there is no host “h2”");
        let text =
            format!(r#"{{{hosts},"machines":[{{"name":"m","cpu":1,"memory":1,"teir":1}}]}}"#);
        assert!(
            said(&text).contains("unknown field `teir`"),
            "{}",
            said(&text)
        );
        let text = format!(r#"{{{hosts},"machines":[{{"name":"m","cpu":-1,"memory":1}}]}}"#);
        assert_eq!(said(&text), "machines[0].cpu: -1 is less than nothing");
        let twice = r#"{"hosts":[{"name":"h","cpu":1,"memory":1},{"name":"h","cpu":1,"memory":1}],"machines":[]}"#;
        assert_eq!(said(twice), "hosts[1].name: there is a host “h” already");
    }

    #[test]
    fn a_case_without_bandwidth_is_refused() {
        let case = r#"{"memory_bytes":1,"bandwidth_bytes_per_s":0,"dirty_bytes_per_s":1,"downtime_target_s":1,"max_rounds":3,"throttle_step":0.1}"#;
        let said = read_case(case).unwrap_err();
        assert_eq!(said.place, "bandwidth_bytes_per_s");
        let fine = read_case(&case.replace(":0,", ":5,")).unwrap();
        assert!((fine.working_set - 1.0).abs() < 1e-9);
    }
}
