//! The stand-ins keep their state, and their scenario is believable.
#![expect(clippy::unwrap_used, reason = "tests fail loudly")]

use std::collections::{BTreeMap, BTreeSet};
use zastrugi_standins::{SKARHOLM, Scenario, World, large};

fn demo() -> Scenario {
    serde_json::from_str(SKARHOLM).unwrap()
}

#[test]
fn the_demo_has_sixteen_hosts_and_four_bare_ones_and_its_machines_fit() {
    let demo = demo();
    let bare = demo.hosts.iter().filter(|h| h.bare).count();
    assert_eq!((demo.hosts.len(), bare), (24, 4));
    assert!(
        (80..=90).contains(&demo.machines.len()),
        "about 70: {}",
        demo.machines.len()
    );
    let mut used: BTreeMap<&str, u64> = BTreeMap::new();
    let mut groups = BTreeSet::new();
    for m in demo.machines.iter() {
        if let Some(host) = &m.host {
            *used.entry(host).or_default() += m.memory_gib;
            let host = demo.hosts.iter().find(|h| h.name == *host).unwrap();
            assert!(
                host.volumes.contains(&m.volume),
                "{} can't reach its volume",
                m.name
            );
            if let Some(group) = &m.apart {
                assert!(
                    groups.insert((group, &host.name)),
                    "{} is not apart",
                    m.name
                );
            }
        }
    }
    for host in &demo.hosts {
        let used = used.get(host.name.as_str()).copied().unwrap_or(0);
        assert!(
            used + 12 < host.memory_gib,
            "{}: {used} of {}",
            host.name,
            host.memory_gib
        );
    }
}

#[test]
fn a_world_opened_again_is_the_same_world() {
    let dir = tempfile::tempdir().unwrap();
    let first = World::open(dir.path(), &demo(), "127.9", 1.0).unwrap();
    let agents = first.agents();
    first.power("tern-01", false);
    drop(first);
    let second = World::open(dir.path(), &large(1, 1), "127.9", 1.0).unwrap();
    assert_eq!(
        second.agents(),
        agents,
        "the scenario counts only the first time"
    );
    assert_eq!(second.violations(), Vec::<String>::new());
}
