//! What agents send, read: right, odd and absurd.

use super::*;
use serde_json::{Value, json};

fn machine(extra: &[(&str, Value)]) -> Machine {
    let mut body = json!({"uuid": "00000000-0000-4000-8000-000000000007", "name": "db", "generation": 3, "vcpus": 2,
        "memory": {"kept": 1, "size": 2, "max": 3}, "video": 4, "disks": [{"size": 5, "thick": true}],
        "virtual_hardware": 3, "guest_key": ""});
    for (name, value) in extra {
        body[*name] = value.clone();
    }
    serde_json::from_value(body).unwrap()
}

fn state(power: &str, phase: &str, answers: bool) -> MachineState {
    machine(&[
        ("power", power.into()),
        ("phase", phase.into()),
        ("guest_answers", answers.into()),
    ])
    .state()
}

#[test]
fn power_and_phase_are_read_as_one_state() {
    assert_eq!(state("off", "off", false), MachineState::Off);
    assert_eq!(state("stopping", "stopping", true), MachineState::Stopping);
    assert_eq!(
        state("on", "kernel", false),
        MachineState::Starting("kernel".into())
    );
    assert_eq!(
        state("on", "up", false),
        MachineState::Running { guest: false }
    );
    assert_eq!(
        state("on", "up", true),
        MachineState::Running { guest: true }
    );
    assert_eq!(
        state("paused", "slab is full", true),
        MachineState::Paused("slab is full".into())
    );
    assert_eq!(machine(&[]).state(), MachineState::Off, "nothing said");
    assert_eq!(state("sideways", "up", true), MachineState::Off);
}

#[test]
fn strings_from_hosts_are_limited_and_have_no_control_characters() {
    let long = "x".repeat(500);
    let read = machine(&[
        ("name", json!(format!("d\u{7}b\n{long}"))),
        ("note", json!("n".repeat(5000))),
        ("labels", json!({"a\u{0}b": "c\td"})),
        ("tier", json!(9)),
    ])
    .read();
    assert_eq!(read.name.chars().count(), 120);
    assert!(read.name.starts_with("dbxx"));
    assert_eq!(read.note.len(), 2000);
    assert_eq!(read.labels.get("ab").map(String::as_str), Some("cd"));
    assert_eq!(read.tier, 4, "clamped to what there is");
    assert_eq!(read.guest_key, None, "an empty key is none");
}

#[test]
fn cards_are_read_with_and_without_prefix_and_nonsense_is_left_out() {
    let nics = json!([
        {"mac": "02:5a:00:00:00:01", "network": "crew", "addresses": ["10.2.0.9/24", "2001:db8::9", "nonsense"]},
        {"mac": "02:5a:00:00:00:02"}
    ]);
    let read = machine(&[("nics", nics)]).read();
    assert_eq!(read.nics.len(), 2);
    let addresses: Vec<String> = read.nics[0]
        .addresses
        .iter()
        .map(ToString::to_string)
        .collect();
    assert_eq!(addresses, ["10.2.0.9", "2001:db8::9"]);
    assert_eq!(read.nics[1].network, None);
    let many: Vec<Value> = (0..40).map(|n| json!({"mac": format!("m{n}")})).collect();
    let read = machine(&[("nics", many.into())]).read();
    assert_eq!(read.nics.len(), 16, "no more than a machine has");
}

fn report(extra: &[(&str, Value)]) -> HostReport {
    let mut body = json!({"boot": 1, "seq": 2, "software": "4.2.1"});
    for (name, value) in extra {
        body[*name] = value.clone();
    }
    serde_json::from_value::<Report>(body).unwrap().read()
}

#[test]
fn an_older_agent_that_tells_nothing_of_storage_and_networks_is_still_read() {
    let read = report(&[]);
    assert_eq!((read.boot, read.seq), (1, 2));
    assert!(read.initiator.is_empty() && read.uplinks.is_empty() && read.networks.is_empty());
    let volume = json!([{"uid": "v", "name": "slab", "capacity": 9, "used": 1}]);
    assert_eq!(report(&[("volumes", volume)]).volumes[0].paths, []);
}

#[test]
fn paths_uplinks_and_networks_are_read_within_limits() {
    let path = |n: u32| json!({"portal": format!("10.0.9.{n}:3260"), "uplink": "storage-1", "up": n.is_multiple_of(2)});
    let paths: Vec<Value> = (0..100).map(path).collect();
    let read = report(&[
        ("initiator", "iqn.2026-01.net.example:h1".into()),
        (
            "volumes",
            json!([{"uid": "v", "name": "slab", "capacity": 9, "used": 1, "paths": paths}]),
        ),
        (
            "uplinks",
            json!([{"name": "uplink-1", "mac": "06:00:00:00:00:01", "mbit": 25000, "switch": "sw1", "port": "eth1"}]),
        ),
        (
            "networks",
            json!({"crew": {"vlan": 20, "mtu": 1500, "uplinks": ["uplink-1"]}, "flat": {"vlan": null, "mtu": 9000, "uplinks": []}}),
        ),
    ]);
    assert_eq!(read.volumes[0].paths.len(), 64);
    assert!(read.volumes[0].paths[0].up && !read.volumes[0].paths[1].up);
    assert_eq!(read.uplinks[0].mbit, 25_000);
    assert_eq!(read.networks["crew"].vlan, Some(20));
    assert_eq!(read.networks["flat"].vlan, None, "untagged");
}

#[test]
fn what_is_offered_to_a_host_keeps_owner_and_signature() {
    let storage: Storage = serde_json::from_value(json!({"initiator": "iqn.x", "portals": [], "devices": [
        {"uid": "v1", "name": "slab", "capacity": 9, "used": 3, "signature": "zastrugi 1", "zero": false,
         "owner": {"installation": "i", "name": "Northern Yard", "cluster": "a"}, "machines": 2, "mounted": true, "paths": []},
        {"uid": "v2", "capacity": 9, "signature": null, "zero": true, "owner": null, "machines": 0, "mounted": false}]}))
    .unwrap();
    let all = storage.devices();
    assert!(all[0].0.has_our_format() && !all[0].0.is_blank());
    assert_eq!(
        all[0].0.owner,
        Some(("i".to_owned(), "Northern Yard".to_owned()))
    );
    assert_eq!(all[0].1.used, Bytes(3));
    assert!(all[1].0.is_blank() && !all[1].0.has_our_format());
}

#[test]
fn a_level_that_nobody_knows_is_said_and_not_guessed() {
    let hardware = |level: &str| -> WireHardware {
        serde_json::from_value(json!({"maker": "m", "model": "m", "serial": "s", "memory_bytes": 1, "numa_nodes": 1,
            "virtualization": true, "virtual_hardware": 3,
            "cpu": {"maker": "m", "model": "m", "level": level, "sockets": 1, "cores": 2, "threads": 4, "base_mhz": 5}}))
        .unwrap()
    };
    assert_eq!(hardware("v3").read().unwrap().cpu.level, PsabiLevel::V3);
    assert_eq!(hardware("v9").read().unwrap_err(), "CPU level “v9”");
}

use proptest::prelude::*;

/// A whole report as an agent gives it.
fn whole() -> Value {
    json!({"boot": 1, "seq": 2, "seen": {"epoch": 1, "history": "00000000-0000-4000-8000-000000000001", "fence": 9},
        "software": "1.2", "initiator": "iqn.x", "uplinks": [{"name": "u1", "mac": "02:00", "mbit": 10000, "switch": "s",
        "port": "1"}], "networks": {"guest": {"vlan": 12, "mtu": 1500, "uplinks": ["u1"]}},
        "machines": [{"uuid": "00000000-0000-4000-8000-000000000007", "name": "db", "generation": 3, "vcpus": 2,
        "memory": {"kept": 1, "size": 2, "max": 3}, "video": 4, "disks": [{"size": 5, "thick": true}],
        "nics": [{"mac": "02:00:00:00:00:01", "network": "guest", "addresses": ["10.0.0.1/24"]}],
        "boot": {"image": {"id": "00000000-0000-4000-8000-000000000008"}, "order": ["disk"], "once": "image"},
        "labels": {"a": "b"}, "tier": 1, "virtual_hardware": 3, "guest_key": "k", "power": "on", "phase": "up",
        "as_of": {"boot": 1, "seq": 1}}],
        "volumes": [{"uid": "v", "name": "slab", "capacity": 10, "used": 5, "paths": [{"portal": "p", "uplink": "u1", "up": true}]}],
        "load": {"cpu_mhz": 1, "active": 2, "machines": {}}, "screens": []})
}

fn absurd() -> impl Strategy<Value = Value> {
    prop_oneof![
        Just(Value::Null),
        Just(json!(u64::MAX)),
        Just(json!(-1)),
        Just(json!(1e308)),
        Just(json!("")),
        Just(json!([])),
        Just(json!({})),
        Just(json!(true)),
        any::<String>().prop_map(Value::from),
    ]
}

/// The n-th value within, counted in order.
fn nth<'a>(value: &'a mut Value, n: &mut usize) -> Option<&'a mut Value> {
    if *n == 0 {
        return Some(value);
    }
    *n -= 1;
    match value {
        Value::Array(all) => all.iter_mut().find_map(|v| nth(v, n)),
        Value::Object(all) => all.values_mut().find_map(|v| nth(v, n)),
        _ => None,
    }
}

proptest! {
    #[test]
    fn a_report_with_absurd_values_is_read_or_refused(changes in prop::collection::vec((0..90usize, absurd()), 0..4)) {
        let mut report = whole();
        for (at, with) in changes {
            let mut n = at;
            if let Some(value) = nth(&mut report, &mut n) {
                *value = with;
            }
        }
        if let Ok(report) = crate::said::read::<Report>(report.to_string().as_bytes()) {
            let read = report.read();
            prop_assert!(read.machines.iter().all(|m| !m.name.contains('\0') && (1..=4).contains(&m.tier)));
        }
    }
}

#[test]
fn a_whole_report_is_read() {
    let read = crate::said::read::<Report>(whole().to_string().as_bytes())
        .unwrap()
        .read();
    assert_eq!(
        (read.machines.len(), read.volumes.len(), read.uplinks.len()),
        (1, 1, 1)
    );
}
