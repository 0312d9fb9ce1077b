//! Facts: what is stored rebuilds to the same estate, indices and all.

use proptest::prelude::*;
use zastrugi_core::rooms::{edits, hosts, machines, networks, sites, storage};
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    estate::{Change, Estate, Fact, Machine, MachineState, Nic, Site, Touched, Volume, Wanted},
    ids::{HostId, MachineId, NetworkId, SiteId, VolumeId},
    moment::Moment,
    rooms::Event,
    rooms::edits::{Set, Target},
    testkit::{self, paths, read},
    units::Bytes,
};

const START: &str = "cluster a\nhost 1 64\nhost 2 64\nhost 3 64 loose\nmachine 11 m1 8 on 1 label=app:x\nmachine 12 m2 8 off\nmachine 13 m3 8 on 2 apart=g";

fn events() -> impl Strategy<Value = Event> {
    let machine = (11u64..15).prop_map(MachineId);
    let host = prop::option::of((1u64..4).prop_map(HostId));
    prop_oneof![
        (machine.clone(), host.clone(), 0u64..4).prop_map(|(machine, host, generation)| {
            Event::Machines(machines::Event::Seen {
                machine,
                state: match (host, generation) {
                    (None, _) => MachineState::Off,
                    (Some(_), 3) => MachineState::Paused("no path".into()),
                    (Some(_), _) => MachineState::Running { guest: true },
                },
                host,
                generation,
                as_of: None,
            })
        }),
        (machine.clone(), host).prop_map(|(machine, host)| Event::Machines(
            machines::Event::Wanted {
                machine,
                wanted: Wanted::On,
                host
            }
        )),
        machine
            .clone()
            .prop_map(|machine| Event::Machines(machines::Event::Deleted {
                machine,
                at: Moment(5)
            })),
        machine
            .clone()
            .prop_map(|machine| Event::Machines(machines::Event::Recovered { machine })),
        machine
            .clone()
            .prop_map(|machine| Event::Machines(machines::Event::Purged { machine })),
        (machine, "[a-c]", "[a-c]?").prop_map(|(m, key, value)| Event::Edits(
            edits::Event::Edited {
                target: Target::Machine(m),
                sets: vec![
                    Set::Label {
                        key: (&key).into(),
                        value: value.into()
                    },
                    Set::Unlabel {
                        key: if key == "a" { "app".into() } else { key.into() }
                    }
                ],
            }
        )),
        beneath(),
        (1u64..4).prop_map(|h| Event::Hosts(hosts::Event::Released { host: HostId(h) })),
        (1u64..4).prop_map(|h| Event::Hosts(hosts::Event::Left { host: HostId(h) })),
        (50u64..60).prop_map(|s| Event::Sites(sites::Event::Added(Site {
            id: SiteId(s),
            name: format!("site {s}")
        }))),
    ]
}

/// What happens to volumes and networks.
fn beneath() -> impl Strategy<Value = Event> {
    let volume = (950u64..954).prop_map(VolumeId);
    let network = (970u64..973).prop_map(NetworkId);
    let host = (1u64..4).prop_map(HostId);
    prop_oneof![
        (volume.clone(), 1u64..9).prop_map(|(id, gib)| {
            let small = read("cluster a");
            let mut planned = Volume::clone(&small.view.estate.volumes[&VolumeId(951)]);
            (planned.id, planned.name, planned.capacity) =
                (id, format!("v{}", id.0), Bytes::gib(gib));
            planned.uid = format!("uid-{}", id.0);
            Event::Storage(storage::Event::VolumePlanned(Box::new(planned)))
        }),
        volume
            .clone()
            .prop_map(|volume| Event::Storage(storage::Event::VolumeGone {
                volume,
                handed_back: true
            })),
        (volume.clone(), 1u64..9).prop_map(|(volume, gib)| Event::Storage(
            storage::Event::VolumeSeen {
                volume,
                capacity: Bytes::gib(gib * 2),
                used: Bytes::gib(gib),
            }
        )),
        (host.clone(), volume.clone(), 0usize..3).prop_map(|(host, volume, up)| {
            Event::Storage(storage::Event::Mounts {
                host,
                initiator: format!("iqn.2026-01.net.example:h{}", host.0),
                mounts: [(volume, paths(up))].into(),
            })
        }),
        (11u64..15, volume).prop_map(|(m, volume)| Event::Machines(machines::Event::Home {
            machine: MachineId(m),
            volume
        })),
        (11u64..15, network.clone()).prop_map(|(m, network)| Event::Machines(
            machines::Event::Nics {
                machine: MachineId(m),
                nics: vec![Nic {
                    mac: format!("02:5a:00:00:00:{m:02x}"),
                    network: Some(network),
                    addresses: vec!["10.2.0.9".parse().unwrap()],
                }],
            }
        )),
        network
            .clone()
            .prop_map(|network| Event::Networks(networks::Event::Gone {
                network,
                removed: true
            })),
        (network, 1i64..9).prop_map(|(network, day)| Event::Networks(
            networks::Event::AddressesReleased {
                network,
                addresses: vec!["10.2.0.9".parse().unwrap()],
                at: Moment(day * 86_400_000),
            }
        )),
        host.prop_map(|host| Event::Networks(networks::Event::OnHost {
            host,
            uplinks: vec![],
            networks: Default::default(),
        })),
    ]
}

/// What another process does with the changes that it reads from the store.
fn follow(estate: &mut Estate, change: Change) {
    for ((kind, id), touched) in change.touched {
        match touched {
            Touched::Put(fact) => {
                let body = fact.body().unwrap();
                estate.put(Fact::read(kind.word(), id, Fact::VERSION, body).unwrap());
            }
            Touched::Gone => estate.remove(kind, id),
        }
    }
}

fn paused(machine: &Machine) -> bool {
    matches!(machine.state, MachineState::Paused(_))
}

proptest! {
    /// If this fails, a restarted process shows another estate than the one that wrote it.
    #[test]
    fn stored_facts_rebuild_to_the_same_estate(events in prop::collection::vec(events(), 0..40)) {
        let mut estate = (*read(START).view.estate).clone();
        for event in &events {
            estate.absorb(event);
        }
        let stored: Vec<Fact> = estate.facts()
            .map(|f| Fact::read(f.kind().word(), f.id(), Fact::VERSION, f.body().unwrap()).unwrap())
            .collect();
        let forward = Estate::from_facts(estate.revision, stored.clone());
        let backward = Estate::from_facts(estate.revision, stored.into_iter().rev());
        prop_assert_eq!(&forward, &estate, "indices are part of the comparison");
        prop_assert_eq!(&backward, &estate);
        // What an index answers is what a look at everything answers.
        for uid in (949..955).map(|n| format!("uid-{n}")) {
            let scanned = estate.volumes.values().find(|v| v.uid == uid);
            prop_assert_eq!(estate.volume_with_uid(&uid), scanned);
        }
        for host in estate.hosts.values() {
            prop_assert_eq!(estate.host_named(&host.name).map(|h| h.id), Some(host.id));
        }
        for cluster in estate.clusters.keys() {
            let scanned = estate.networks.values().filter(|n| n.cluster == *cluster).count();
            prop_assert_eq!(estate.networks_of(*cluster).len(), scanned);
        }
        let paused = |m: &&std::sync::Arc<_>| paused(m);
        let scanned: Vec<_> = estate.machines.values().filter(paused).collect();
        prop_assert_eq!(estate.machines_paused().collect::<Vec<_>>(), scanned);
    }

    /// If this fails, a second process on the same database drifts away from the first.
    #[test]
    fn a_process_that_follows_changes_holds_the_same_estate(events in prop::collection::vec(events(), 0..40)) {
        let mut first = (*read(START).view.estate).clone();
        let mut second = first.clone();
        for batch in events.chunks(7) {
            let change = first.absorb_all(batch);
            follow(&mut second, change);
            prop_assert_eq!(&first, &second);
        }
    }
}

#[test]
fn a_fact_of_a_newer_version_is_refused_in_words() {
    let words = Fact::read("machine", 7, 99, serde_json::Value::Null)
        .unwrap_err()
        .to_string();
    assert!(words.contains("run a newer Zastrugi"), "{words}");
}

#[test]
fn a_number_is_never_given_twice_even_after_a_purge() {
    let mut estate = (*read(START).view.estate).clone();
    estate.absorb(&Event::Sites(sites::Event::Added(Site {
        id: SiteId(2000),
        name: "x".into(),
    })));
    assert_eq!(estate.next, 2001);
    estate.absorb(&Event::Machines(machines::Event::Purged {
        machine: MachineId(11),
    }));
    assert_eq!(estate.next, 2001);
}

#[test]
fn a_fact_written_before_storage_was_known_is_still_read() {
    let small = read("cluster a\nhost 1 64");
    let host = small.view.estate.hosts[&HostId(1)].clone();
    let mut body = Fact::Host(host.clone()).body().unwrap();
    for new in ["initiator", "mounts", "uplinks", "networks"] {
        body.as_object_mut().unwrap().remove(new);
    }
    let Fact::Host(old) = Fact::read("host", 1, Fact::VERSION, body).unwrap() else {
        panic!("another kind")
    };
    assert_eq!(
        (old.id, old.mounts.len(), old.uplinks.len()),
        (host.id, 0, 0)
    );
    let volume = small.view.estate.volumes[&VolumeId(951)].clone();
    let mut body = Fact::Volume(volume).body().unwrap();
    for new in ["backing", "intended", "ready", "note"] {
        body.as_object_mut().unwrap().remove(new);
    }
    let Fact::Volume(old) = Fact::read("volume", 951, Fact::VERSION, body).unwrap() else {
        panic!("another kind")
    };
    assert!(old.ready, "what was there before is no half-made volume");
}

#[test]
fn addresses_that_rested_long_enough_are_forgotten() {
    let day = |n: i64| Moment(n * 86_400_000);
    let mut estate = (*read("cluster a").view.estate).clone();
    estate.absorb(&Event::Networks(networks::Event::Planned(Box::new(
        network(),
    ))));
    let release = |last: u8, at| {
        Event::Networks(networks::Event::AddressesReleased {
            network: NetworkId(970),
            addresses: vec![std::net::IpAddr::from([10, 2, 0, last])],
            at,
        })
    };
    estate.absorb(&release(9, day(1)));
    estate.absorb(&release(10, day(7)));
    assert_eq!(estate.networks[&NetworkId(970)].released.len(), 2);
    estate.absorb(&release(11, day(9)));
    let kept: Vec<_> = estate.networks[&NetworkId(970)]
        .released
        .keys()
        .map(ToString::to_string)
        .collect();
    assert_eq!(
        kept,
        ["10.2.0.10", "10.2.0.11"],
        "the first one rested for eight days"
    );
}

fn network() -> zastrugi_core::estate::Network {
    testkit::network(NetworkId(970), "crew")
}

/// If this fails, an entity is read as a run, a plan or a step of one, and nothing of the estate can be opened.
#[test]
fn no_entity_is_stored_under_a_word_of_runs() {
    use zastrugi_core::estate::Kind;
    for kind in Kind::ALL {
        assert!(!["run", "plan", "step"].contains(&kind.word()), "{kind:?}");
    }
    let words: std::collections::BTreeSet<&str> = Kind::ALL.iter().map(|k| k.word()).collect();
    assert_eq!(words.len(), Kind::ALL.len(), "each has its own");
}
