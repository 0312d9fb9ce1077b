//! What the Logbook says, event by event; and what each proposal needs a person to be allowed.

use std::sync::Arc;
use zastrugi_core::road::Tale;
use zastrugi_core::rooms::{clusters, edits, hosts, machines, networks, storage};
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{
        Array, ArrayCondition, ArrayKind, Backing, Controller, Demand, Estate, Fact, MachineState,
        NetRole, Network, Served, Service, Snaps, Switch, Wanted,
    },
    ids::{ArrayId, ClusterId, HostId, MachineId, NetworkId, SiteId, SwitchId, VolumeId},
    moment::{Moment, Span},
    permits::{Act, Permits, Role},
    rooms::clusters::CreateCluster,
    rooms::edits::{Set, Target},
    rooms::hosts::ClaimHosts,
    rooms::machines::{AfterGrace, PowerAct},
    rooms::networks::{ConnectSwitch, CreateNetwork},
    rooms::storage::{ConnectArray, ConnectVolume, VolumeSource},
    rooms::{Event, Proposal},
    testkit::{self, paths, read},
    units::Bytes,
};

fn array(condition: ArrayCondition) -> Array {
    Array {
        user: "keeper".into(),
        condition,
        ..testkit::array(ArrayId(700), "basalt", SiteId(900))
    }
}

fn lost() -> ArrayCondition {
    ArrayCondition::Lost {
        since: Moment(0),
        why: "no answer".into(),
    }
}

fn switch(known: bool, silent: Option<&str>) -> Switch {
    Switch {
        id: SwitchId(850),
        name: "sw1".into(),
        site: SiteId(900),
        access: Controller {
            address: "10.0.8.1:8443".into(),
            pin: "p".into(),
            silent: silent.map(str::to_owned),
        },
        user: "reader".into(),
        key: None,
        ports: Default::default(),
        known,
    }
}

fn network() -> Network {
    testkit::network(NetworkId(800), "crew")
}

fn estate() -> Estate {
    let small =
        read("cluster eider\nhost 1 64\nhost 2 64\nmachine 7 db 8 on 1\nmachine 8 web 8 off");
    let mut estate = Estate::clone(&small.view.estate);
    estate.put(Fact::Network(Arc::new(network())));
    estate
}

fn told(estate: &Estate, event: &Event) -> Option<(String, String, Vec<String>)> {
    let told = event.tell(estate)?;
    Some((told.kind, told.text, told.about))
}

#[test]
#[expect(clippy::too_many_lines, reason = "a table, one line for each event")]
fn each_event_is_a_line_that_names_what_it_is_about() {
    let estate = estate();
    let quay = |edit: fn(&mut zastrugi_core::estate::Volume)| {
        let mut v = (*estate.volumes[&VolumeId(951)]).clone();
        edit(&mut v);
        Box::new(v)
    };
    let slab = VolumeId(951);
    let lines = [
        (
            Event::Storage(storage::Event::VolumePlanned(quay(|_| {}))),
            "storage",
            "Volume slab-951 is being connected",
            "volume-951",
        ),
        (
            Event::Storage(storage::Event::VolumeReady { volume: slab }),
            "storage",
            "slab-951 is connected",
            "volume-951",
        ),
        (
            Event::Storage(storage::Event::VolumeGone {
                volume: slab,
                handed_back: true,
            }),
            "storage",
            "slab-951 was handed back",
            "volume-951",
        ),
        (
            Event::Storage(storage::Event::VolumeGone {
                volume: slab,
                handed_back: false,
            }),
            "storage",
            "slab-951 was not connected",
            "volume-951",
        ),
        (
            Event::Storage(storage::Event::VolumeMade {
                volume: slab,
                uid: "naa.1".into(),
                backing: Backing {
                    array: ArrayId(700),
                    lun: "1".into(),
                    pool: "fast".into(),
                },
            }),
            "storage",
            "slab-951 was made on its array",
            "volume-951",
        ),
        (
            Event::Storage(storage::Event::Mounts {
                host: HostId(1),
                initiator: String::new(),
                mounts: [(slab, paths(0))].into(),
            }),
            "storage",
            "h1 has no path to slab-951 any more",
            "host-1",
        ),
        (
            Event::Networks(networks::Event::Planned(Box::new(network()))),
            "network",
            "Network crew is being made",
            "network-800",
        ),
        (
            Event::Networks(networks::Event::Ready {
                network: NetworkId(800),
            }),
            "network",
            "crew is ready",
            "network-800",
        ),
        (
            Event::Networks(networks::Event::Gone {
                network: NetworkId(800),
                removed: true,
            }),
            "network",
            "crew was removed",
            "network-800",
        ),
        (
            Event::Networks(networks::Event::Gone {
                network: NetworkId(800),
                removed: false,
            }),
            "network",
            "crew was not made",
            "network-800",
        ),
        (
            Event::Hosts(hosts::Event::Released { host: HostId(2) }),
            "host",
            "h2 was handed back",
            "host-2",
        ),
        (
            Event::Hosts(hosts::Event::Left { host: HostId(2) }),
            "host",
            "h2 left its cluster",
            "host-2",
        ),
        (
            Event::Clusters(clusters::Event::Ready {
                cluster: ClusterId(901),
            }),
            "cluster",
            "Cluster eider is ready",
            "cluster-901",
        ),
        (
            Event::Machines(machines::Event::Purged {
                machine: MachineId(8),
            }),
            "machine",
            "web was removed for good",
            "machine-8",
        ),
        (
            Event::Machines(machines::Event::Recovered {
                machine: MachineId(8),
            }),
            "machine",
            "web was brought back",
            "machine-8",
        ),
        (
            Event::Machines(machines::Event::Wanted {
                machine: MachineId(8),
                wanted: Wanted::On,
                host: None,
            }),
            "machine",
            "web shall be on",
            "machine-8",
        ),
        (
            Event::Machines(machines::Event::Seen {
                machine: MachineId(7),
                state: MachineState::Paused("slab-951 is full".into()),
                host: Some(HostId(1)),
                generation: 1,
                as_of: None,
            }),
            "machine",
            "db was paused on h1: slab-951 is full",
            "machine-7",
        ),
        (
            Event::Edits(edits::Event::Edited {
                target: Target::Volume(slab),
                sets: vec![Set::Intended(None)],
            }),
            "edit",
            "slab-951: all hosts of the cluster shall mount it",
            "volume-951",
        ),
        (
            Event::Edits(edits::Event::Edited {
                target: Target::Network(NetworkId(800)),
                sets: vec![Set::Reserved(Default::default())],
            }),
            "edit",
            "crew: 0 addresses are kept",
            "network-800",
        ),
    ];
    for (event, kind, text, about) in lines {
        let said = told(&estate, &event).unwrap_or_else(|| panic!("nothing is said of {event:?}"));
        assert_eq!((said.0.as_str(), said.1.as_str()), (kind, text));
        assert!(said.2.contains(&about.to_owned()), "{text}: {:?}", said.2);
    }
}

#[test]
fn what_happens_all_the_time_is_no_line() {
    let estate = estate();
    for event in [
        Event::Storage(storage::Event::Mounts {
            host: HostId(1),
            initiator: String::new(),
            mounts: [(VolumeId(951), paths(1))].into(),
        }),
        Event::Storage(storage::Event::VolumeSeen {
            volume: VolumeId(951),
            capacity: Bytes::gib(1),
            used: Bytes::ZERO,
        }),
        Event::Machines(machines::Event::Seen {
            machine: MachineId(7),
            state: MachineState::Starting("kernel".into()),
            host: Some(HostId(1)),
            generation: 1,
            as_of: None,
        }),
        Event::Machines(machines::Event::Home {
            machine: MachineId(7),
            volume: VolumeId(951),
        }),
    ] {
        assert_eq!(told(&estate, &event), None, "{event:?}");
    }
}

/// If this fails, an array that takes snapshots no more is shown as one that still does, or as one that never did; or what it has
/// done for a year looks as if it began today.
#[test]
fn what_an_array_does_is_held_with_since_when_and_a_change_is_told() {
    let served = |every: Option<Span>, at: i64| Served {
        service: Service {
            class: "fast".into(),
            snapshots: every.map(|every| Snaps {
                every,
                keep: Some(Span::days(2)),
            }),
            ..Service::default()
        },
        group: None,
        since: Moment(at),
        before: None,
    };
    let with = |s: Served| Array {
        served: [(VolumeId(951), s)].into(),
        ..array(ArrayCondition::Steady)
    };
    let hour = Some(Span::mins(60));
    let held = with(served(hour, 5));
    let same = held.as_read(&with(served(hour, 9)));
    assert_eq!(same, held, "unchanged since then");
    assert_eq!(same.serves_otherwise(&held).count(), 0);
    let less = held.as_read(&with(served(None, 9)));
    assert_eq!(less.served[&VolumeId(951)].since, Moment(9));
    let all: Vec<_> = less.serves_otherwise(&held).collect();
    assert_eq!(all.len(), 1);
    let (volume, was, now) = all[0];
    let (was, now) = (was.words(), now.words());
    let event = Event::Storage(storage::Event::Served { volume, was, now });
    let text = told(&read("cluster eider\nhost 1 64").view.estate, &event)
        .unwrap()
        .1;
    assert_eq!(
        text,
        "The array of slab-951 does something else for it: fast: no snapshots, no copy elsewhere; before it was fast: snapshots every 60 min, kept 2 days, no copy elsewhere"
    );
    // Nothing is told of what was not known before.
    assert_eq!(
        held.serves_otherwise(&array(ArrayCondition::Steady))
            .count(),
        0
    );
}

#[test]
fn arrays_and_switches_say_when_they_fall_silent_and_come_back() {
    let with_array = |condition| {
        let mut estate = estate();
        estate.put(Fact::Array(Arc::new(array(condition))));
        estate
    };
    let seen = |condition| Event::Storage(storage::Event::ArraySeen(Box::new(array(condition))));
    let text = |estate: &Estate, event: &Event| told(estate, event).map(|t| t.1);
    let steady = || ArrayCondition::Steady;
    assert_eq!(
        text(&with_array(ArrayCondition::Connecting), &seen(steady())).as_deref(),
        Some("basalt was connected")
    );
    assert_eq!(
        text(&with_array(steady()), &seen(lost())).as_deref(),
        Some("basalt does not answer: no answer")
    );
    assert_eq!(
        text(&with_array(lost()), &seen(steady())).as_deref(),
        Some("basalt answers again")
    );
    assert_eq!(
        text(&with_array(steady()), &seen(steady())),
        None,
        "pools fill all the time"
    );
    let with_switch = |s: Switch| {
        let mut estate = estate();
        estate.put(Fact::Switch(Arc::new(s)));
        estate
    };
    let read = |s: Switch| Event::Networks(networks::Event::SwitchSeen(Box::new(s)));
    let fine = || switch(true, None);
    let silent = || switch(true, Some("gone"));
    for (before, after, words) in [
        (switch(false, None), fine(), "sw1 was connected"),
        (fine(), silent(), "sw1 does not answer: gone"),
        (silent(), fine(), "sw1 answers again"),
        (fine(), fine(), "Ports of sw1 changed"),
    ] {
        assert_eq!(
            text(&with_switch(before), &read(after)).as_deref(),
            Some(words)
        );
    }
}

#[expect(clippy::too_many_lines, reason = "a table, one row for each proposal")]
fn proposals() -> Vec<(Proposal, Act)> {
    let target = || Endpoint {
        address: "10.0.0.1:7443".into(),
        pin: "p".into(),
    };
    let machines = || vec![MachineId(7)];
    let edit = |target| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![target],
            sets: vec![Set::Note("x".into())],
        })
    };
    let power = PowerAct::Stop {
        grace: Span::secs(1),
        then: AfterGrace::LeaveOn,
    };
    let password = Password::Missing;
    let site = || "Quayside".to_owned();
    let user = || "u".to_owned();
    vec![
        (
            Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
                targets: vec![target()],
                site: (site()).into(),
                password,
            })),
            Act::Hosts,
        ),
        (
            Proposal::Hosts(hosts::Ask::HandBack { hosts: vec![] }),
            Act::Hosts,
        ),
        (
            Proposal::Clusters(clusters::Ask::Create(CreateCluster {
                time: vec![],
                kind: Default::default(),
                name: "a".into(),
                hosts: vec![],
                level: None,
                volume: None,
                demand: Demand {
                    failures: 0,
                    domains: [false; 3],
                    enforced: false,
                },
            })),
            Act::Clusters,
        ),
        (
            Proposal::Machines(machines::Ask::Power {
                machines: machines(),
                act: power,
            }),
            Act::Machines,
        ),
        (
            Proposal::Machines(machines::Ask::Delete {
                machines: machines(),
            }),
            Act::Machines,
        ),
        (
            Proposal::Machines(machines::Ask::Recover {
                machines: machines(),
                how: Default::default(),
            }),
            Act::Machines,
        ),
        (
            Proposal::Machines(machines::Ask::Purge {
                machines: machines(),
                typed: "".into(),
            }),
            Act::Purge,
        ),
        (
            Proposal::Storage(storage::Ask::ConnectArray(ConnectArray {
                controllers: vec![target()],
                kind: ArrayKind::File,
                site: (site()).into(),
                user: (user()).into(),
                password,
            })),
            Act::Storage,
        ),
        (
            Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
                array: None,
                source: VolumeSource::Existing { lun: "1".into() },
                name: "v".into(),
                cluster: None,
                hosts: None,
                typed: "".into(),
            })),
            Act::Storage,
        ),
        (
            Proposal::Storage(storage::Ask::HealVolume {
                volume: VolumeId(951),
            }),
            Act::Storage,
        ),
        (
            Proposal::Storage(storage::Ask::ExtendVolume {
                volume: VolumeId(951),
                size: Bytes::gib(1),
            }),
            Act::Storage,
        ),
        (
            Proposal::Storage(storage::Ask::GiveVolume {
                volume: VolumeId(951),
            }),
            Act::Storage,
        ),
        (
            Proposal::Networks(networks::Ask::ConnectSwitch(ConnectSwitch {
                target: target(),
                site: (site()).into(),
                user: (user()).into(),
                password,
            })),
            Act::Storage,
        ),
        (
            Proposal::Networks(networks::Ask::Create(CreateNetwork {
                name: "n".into(),
                cluster: None,
                role: NetRole::Guest,
                vlan: None,
                mtu: 1500,
                subnets: vec![],
                uplinks: Default::default(),
            })),
            Act::Storage,
        ),
        (
            Proposal::Networks(networks::Ask::Heal {
                network: NetworkId(800),
            }),
            Act::Storage,
        ),
        (
            Proposal::Networks(networks::Ask::Remove {
                network: NetworkId(800),
                typed: "".into(),
            }),
            Act::Storage,
        ),
        (edit(Target::Machine(MachineId(7))), Act::Machines),
        (edit(Target::Host(HostId(1))), Act::Hosts),
        (edit(Target::Cluster(ClusterId(901))), Act::Clusters),
        (edit(Target::Volume(VolumeId(951))), Act::Storage),
        (edit(Target::Network(NetworkId(800))), Act::Storage),
    ]
}

#[test]
fn a_viewer_starts_nothing_an_operator_only_what_is_about_machines() {
    let small = read("cluster eider\nhost 1 64\nmachine 7 db 8 on 1");
    let view = small.view.with(estate());
    for (ask, act) in proposals() {
        assert_eq!(Vec::from_iter(ask.acts()), [act], "{ask:?}");
        for role in Role::ALL {
            let permits = Permits::of(role);
            let a = zastrugi_core::rooms::assess(&view, &permits, &ask, small.now);
            let refused = a
                .findings()
                .iter()
                .any(|f| f.text == "Your role does not allow this.");
            let may = match role {
                Role::Viewer => false,
                Role::Operator => act == Act::Machines,
                Role::Admin => true,
            };
            assert_eq!(refused, !may, "{role}: {ask:?}");
            assert!(may || a.accept().is_err(), "{role} can't begin {ask:?}");
        }
    }
}

#[test]
fn proposals_and_steps_are_kept_as_they_were() {
    for (ask, _) in proposals() {
        let text = serde_json::to_string(&ask).unwrap();
        assert_eq!(serde_json::from_str::<Proposal>(&text).unwrap(), ask);
    }
}
