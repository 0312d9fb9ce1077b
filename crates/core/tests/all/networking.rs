//! What the sheets of networks say; fit by networks; addresses in the machines' sheet.

use crate::{put, worse};
use std::{
    collections::{BTreeMap, BTreeSet},
    net::IpAddr,
    sync::Arc,
};
use zastrugi_core::rooms::{edits, machines, moving, networks};
use zastrugi_core::{
    addressing::range,
    estate::{
        Controller, Estate, Fact, Host, HostNet, Machine, NetRole, Network, Nic, Part, Reservation,
        Standing, Subnet, Switch, SwitchPort, Uplink,
    },
    finding::{Rule, Severity},
    ids::{ClusterId, HostId, MachineId, NetworkId, SiteId, SwitchId},
    moment::Moment,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    rooms::machines::{CreateMachines, NewNic, PowerAct},
    rooms::networks::CreateNetwork,
    testkit::{self, Small, read},
};
use zastrugi_core::{road::Work, runs::Object};

const CREW: NetworkId = NetworkId(800);

fn subnet() -> Subnet {
    Subnet {
        net: "10.2.0.0/24".parse().unwrap(),
        gateway: "10.2.0.1".parse().ok(),
        ranges: vec![range("10.2.0.10-10.2.0.13", Part::Guests).unwrap()],
    }
}

fn both() -> BTreeSet<String> {
    ["uplink-1", "uplink-2"].map(str::to_owned).into()
}

fn crew() -> Network {
    Network {
        subnets: vec![subnet()],
        uplinks: both(),
        ..testkit::network(CREW, "crew")
    }
}

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn switch(n: u64, hosts: u64) -> Switch {
    let port = |h: u64| SwitchPort {
        up: true,
        mtu: 9216,
        untagged: 1,
        tagged: BTreeSet::from([20, 30]),
        neighbour: Some((format!("h{h}"), format!("uplink-{n}"))),
    };
    Switch {
        id: SwitchId(850 + n),
        name: format!("sw{n}"),
        site: SiteId(900),
        access: Controller {
            address: format!("10.0.8.{n}:8443"),
            pin: "p".into(),
            silent: None,
        },
        user: "reader".into(),
        key: None,
        ports: (1..=hosts).map(|h| (format!("eth{h}"), port(h))).collect(),
        known: true,
    }
}

/// Hosts with two uplinks each to two switches, and one network on all of them.
pub(crate) fn fixture(text: &str) -> Small {
    let mut small = read(text);
    let mut estate = Estate::clone(&small.view.estate);
    let hosts: Vec<Arc<Host>> = estate.hosts.values().cloned().collect();
    for host in &hosts {
        let mut host = Host::clone(host);
        host.uplinks = (1..=2)
            .map(|n| Uplink {
                name: format!("uplink-{n}"),
                mac: format!("06:00:00:00:0{n}:{:02x}", host.id.0),
                mbit: 10_000,
                up: true,
                switch: format!("sw{n}"),
                port: format!("eth{}", host.id.0),
            })
            .collect();
        let has = HostNet {
            vlan: Some(20),
            mtu: 1500,
            uplinks: both(),
        };
        host.networks.insert("crew".into(), has);
        estate.put(Fact::Host(Arc::new(host)));
    }
    let count = hosts.len() as u64;
    for n in 1..=2 {
        estate.put(Fact::Switch(Arc::new(switch(n, count))));
    }
    estate.put(Fact::Network(Arc::new(crew())));
    small.view = small.view.with(estate);
    small
}

pub(crate) const PLAIN: &str =
    "cluster eider careless\nhost 1 256\nhost 2 256\nmachine 7 db 64 off";

fn alter_switch(small: &mut Small, n: u64, change: impl FnOnce(&mut Switch)) {
    small.alter(|estate| {
        let mut switch = Switch::clone(&estate.switches[&SwitchId(850 + n)]);
        change(&mut switch);
        estate.put(Fact::Switch(Arc::new(switch)));
    });
}

fn standing(small: &Small, host: u64) -> String {
    let estate = &small.view.estate;
    estate.networks[&CREW]
        .standing(estate, &estate.hosts[&HostId(host)])
        .words()
}

#[test]
fn a_network_stands_as_host_and_wire_say() {
    let mut small = fixture(PLAIN);
    assert_eq!(standing(&small, 1), "fine");
    small.alter_host(1, |h| h.networks.get_mut("crew").unwrap().mtu = 9000);
    assert_eq!(standing(&small, 1), "its MTU is 9000 there, not 1500");
    small.alter_host(1, |h| h.networks.get_mut("crew").unwrap().vlan = None);
    assert_eq!(standing(&small, 1), "it is untagged there");
    small.alter_host(1, |h| h.networks.clear());
    assert_eq!(standing(&small, 1), "missing on the host");

    let port = |change: fn(&mut SwitchPort)| {
        let mut small = fixture(PLAIN);
        alter_switch(&mut small, 2, |s| change(s.ports.get_mut("eth2").unwrap()));
        assert_eq!(standing(&small, 1), "fine", "another host's port");
        standing(&small, 2)
    };
    assert_eq!(port(|p| p.up = false), "sw2 port eth2 is down");
    assert_eq!(
        port(|p| p.tagged.clear()),
        "sw2 port eth2 does not carry VLAN 20"
    );
    assert_eq!(
        port(|p| p.mtu = 1400),
        "sw2 port eth2 carries at most 1400 bytes, not 1500"
    );
    assert_eq!(
        port(|p| {
            p.tagged.clear();
            p.untagged = 20;
        }),
        "fine",
        "its own VLAN needs no tag"
    );

    let mut small = fixture(PLAIN);
    alter_switch(&mut small, 1, |s| s.access.silent = Some("gone".into()));
    assert_eq!(standing(&small, 1), "unchecked: sw1 does not answer");
    small.alter(|e| e.remove(zastrugi_core::estate::Kind::Switch, 851));
    assert_eq!(standing(&small, 1), "unchecked: sw1 is not connected");
}

pub(crate) fn create(edit: impl FnOnce(&mut CreateNetwork)) -> Proposal {
    let mut ask = CreateNetwork {
        name: "tickets".into(),
        cluster: Some(ClusterId(901)),
        role: NetRole::Guest,
        vlan: Some(30),
        mtu: 1500,
        subnets: vec![Subnet {
            net: "10.3.0.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }],
        uplinks: both(),
    };
    edit(&mut ask);
    Proposal::Networks(networks::Ask::Create(ask))
}

#[test]
fn a_network_is_set_up_on_every_host_in_one_run() {
    let small = fixture(PLAIN);
    let a = put(&small, &create(|_| {}));
    assert_eq!(worse(&a), Vec::<String>::new());
    assert_eq!(a.steps().len(), 3);
    assert_eq!(
        a.steps()[2].after,
        [0, 1],
        "it opens when every host has it"
    );
    let silent = fixture("cluster eider\nhost 1 256\nhost 2 256 down");
    assert_eq!(
        worse(&put(&silent, &create(|_| {}))),
        ["stop: h2 does not answer; it would be left out."]
    );
}

#[test]
fn wrong_fields_of_a_network_are_said_where_they_are() {
    let small = fixture(PLAIN);
    let wrong: [(&str, Proposal); 9] = [
        ("name", create(|n| n.name = "crew".into())),
        ("name", create(|n| n.name = "Crew Deck".into())),
        ("cluster", create(|n| n.cluster = None)),
        ("vlan", create(|n| n.vlan = Some(0))),
        ("vlan", create(|n| n.vlan = Some(4095))),
        ("mtu", create(|n| n.mtu = 1279)),
        ("mtu", create(|n| n.mtu = 9217)),
        ("uplinks", create(|n| n.uplinks.clear())),
        (
            "gateway",
            create(|n| n.subnets[0].gateway = Some(ip("10.4.0.1"))),
        ),
    ];
    for (field, ask) in wrong {
        let a = put(&small, &ask);
        assert!(a.at_field(field).is_some(), "{field}: {:?}", worse(&a));
    }
    let one = create(|n| n.uplinks = ["uplink-1".to_owned()].into());
    assert!(worse(&put(&small, &one))[0].starts_with("mind: One uplink alone"));
    let storage = create(|n| n.role = NetRole::Storage);
    assert!(worse(&put(&small, &storage))[0].contains("below 25 Gbit/s with crew"));
    let migration = create(|n| n.role = NetRole::Migration);
    assert_eq!(worse(&put(&small, &migration)), Vec::<String>::new());
}

#[test]
fn two_sites_may_carry_the_same_range_on_purpose() {
    let mut small = fixture(PLAIN);
    let again = create(|n| {
        n.vlan = Some(20);
        n.subnets = vec![subnet()];
    });
    assert!(put(&small, &again).blocked(), "here it would meet crew");
    small.alter(|estate| {
        let mut cluster = (*estate.clusters[&ClusterId(901)]).clone();
        (cluster.id, cluster.name, cluster.site) = (ClusterId(990), "Fulmar".into(), SiteId(899));
        cluster.hosts.clear();
        estate.put(Fact::Cluster(Arc::new(cluster)));
    });
    let there = create(|n| {
        n.cluster = Some(ClusterId(990));
        n.vlan = Some(20);
        n.subnets = vec![subnet()];
    });
    assert!(!put(&small, &there).blocked(), "another broadcast domain");
}

#[test]
fn drift_is_mended_on_the_hosts_that_differ_and_the_wire_is_only_told() {
    let mut small = fixture(PLAIN);
    let heal = Proposal::Networks(networks::Ask::Heal { network: CREW });
    assert!(put(&small, &heal).blocked(), "there is nothing to mend");
    small.alter_host(2, |h| h.networks.clear());
    alter_switch(&mut small, 1, |s| {
        s.ports.get_mut("eth1").unwrap().tagged.clear()
    });
    let a = put(&small, &heal);
    assert_eq!(
        worse(&a),
        ["mind: h1: sw1 port eth1 does not carry VLAN 20."]
    );
    assert_eq!(a.steps().len(), 1);
    assert_eq!(
        a.steps()[0].step.device(&small.view.estate),
        Some(Object::Host(HostId(2)))
    );
}

fn carded(machine: &Machine, address: &str) -> Machine {
    Machine {
        nics: vec![Nic {
            mac: "02:5a:00:00:00:01".into(),
            network: Some(CREW),
            addresses: vec![ip(address)],
        }],
        ..machine.clone()
    }
}

/// The fixture's machine has a card on crew.
fn on_crew() -> Small {
    let mut small = fixture(PLAIN);
    small.alter(|estate| {
        let db = carded(&estate.machines[&MachineId(7)], "10.2.0.10");
        estate.put(Fact::Machine(Arc::new(db)));
    });
    small
}

#[test]
fn a_machine_goes_only_where_its_network_is_carried() {
    let on = |host: u64| {
        Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act: PowerAct::On {
                host: Some(HostId(host)),
            },
        })
    };
    let mut small = on_crew();
    assert_eq!(worse(&put(&small, &on(1))), Vec::<String>::new());
    alter_switch(&mut small, 1, |s| {
        s.ports.get_mut("eth1").unwrap().tagged.clear()
    });
    let a = put(&small, &on(1));
    assert!(a.blocked());
    assert!(
        a.findings()[0]
            .evidence
            .contains("network crew: sw1 port eth1 does not carry VLAN 20")
    );
    assert!(!put(&small, &on(2)).blocked());
    let mut small = on_crew();
    alter_switch(&mut small, 1, |s| s.access.silent = Some("gone".into()));
    let a = put(&small, &on(1));
    let found = a
        .findings()
        .iter()
        .find(|f| f.text.contains("crew"))
        .unwrap();
    assert_eq!(
        found.severity,
        Severity::Unchecked,
        "never clear, and no stop"
    );
}

#[test]
fn a_network_with_machines_is_not_removed() {
    let remove = Proposal::Networks(networks::Ask::Remove {
        network: CREW,
        typed: "".into(),
    });
    let found = worse(&put(&on_crew(), &remove));
    assert_eq!(found, ["stop: 1 machines have a card on crew."]);
    let a = put(&fixture(PLAIN), &remove);
    assert_eq!(a.steps().len(), 3, "taken off two hosts, then forgotten");
}

fn machines(count: u32, nics: Vec<NewNic>) -> Proposal {
    Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
        pledge: None,
        nics,
        start: false,
        ..testkit::machines("gate-{01}", count, Some(ClusterId(901)), 4)
    })))
}

fn card(address: Option<&str>) -> Vec<NewNic> {
    vec![NewNic {
        network: Some(CREW),
        address: address.map(ip),
    }]
}

#[test]
fn addresses_are_the_next_free_one_for_each_machine() {
    let small = on_crew();
    let a = put(&small, &machines(3, card(None)));
    assert_eq!(worse(&a), Vec::<String>::new());
    let text = &a
        .findings()
        .iter()
        .find(|f| f.text.contains("Addresses"))
        .unwrap()
        .text;
    assert_eq!(text, "Addresses are free, beginning with 10.2.0.11.");
    let four = put(&small, &machines(4, card(None)));
    assert_eq!(
        worse(&four),
        ["stop: No address for guests is free in 10.2.0.0/24 of crew."]
    );
    assert_eq!(
        four.at_field("nics").map(|f| f.rule.word()),
        Some("addresses")
    );
}

#[test]
fn an_address_that_is_typed_must_be_in_the_subnet_and_nobodys() {
    let mut small = on_crew();
    small.alter(|estate| {
        let mut net = crew();
        let kept = Reservation {
            what: "printer".into(),
            since: Moment(5),
        };
        net.reserved.insert(ip("10.2.0.12"), kept);
        estate.put(Fact::Network(Arc::new(net)));
    });
    let said = |count, address| worse(&put(&small, &machines(count, card(Some(address)))));
    assert_eq!(
        said(1, "10.2.0.77"),
        Vec::<String>::new(),
        "outside of the ranges is allowed by hand"
    );
    assert_eq!(
        said(1, "10.9.0.1"),
        ["stop: 10.9.0.1 is in no subnet of crew."]
    );
    assert_eq!(said(1, "10.2.0.10"), ["stop: 10.2.0.10 is taken: db."]);
    assert_eq!(said(1, "10.2.0.12"), ["stop: 10.2.0.12 is taken: printer."]);
    assert_eq!(
        said(1, "10.2.0.1"),
        ["stop: 10.2.0.1 is the gateway of 10.2.0.0/24."]
    );
    assert_eq!(
        said(2, "10.2.0.77"),
        ["stop: Several machines can't have one address."]
    );
}

#[test]
fn what_is_kept_lies_in_the_network_and_is_no_machines() {
    let small = on_crew();
    let keep = |address: &str| {
        let kept = Reservation {
            what: "printer".into(),
            since: Moment(0),
        };
        worse(&put(
            &small,
            &Proposal::Edits(edits::Ask::Edit {
                targets: vec![Target::Network(CREW)],
                sets: vec![Set::Reserved(BTreeMap::from([(ip(address), kept)]))],
            }),
        ))
    };
    assert_eq!(keep("10.2.0.13"), Vec::<String>::new());
    assert_eq!(
        keep("10.9.0.1"),
        ["stop: 10.9.0.1 is in no subnet of crew."]
    );
    assert_eq!(keep("10.2.0.10"), ["stop: db has 10.2.0.10."]);
}

#[test]
fn each_card_of_a_batch_has_a_mac_of_its_own() {
    let mut small = fixture(PLAIN);
    let two = vec![
        card(None)[0].clone(),
        NewNic {
            network: None,
            address: None,
        },
    ];
    let plan = put(&small, &machines(2, two)).accept().unwrap();
    let (_, events) = small.begin(plan);
    let macs: BTreeSet<String> = events
        .iter()
        .filter_map(|e| match e {
            zastrugi_core::rooms::Event::Machines(machines::Event::Planned(m)) => {
                Some(m.nics.clone())
            }
            _ => None,
        })
        .flatten()
        .map(|n| n.mac)
        .collect();
    assert_eq!(macs.len(), 4);
    assert!(
        macs.iter().all(|m| m.starts_with("02:5a:")),
        "with the local bit: {macs:?}"
    );
    assert!(matches!(
        small.view.estate.networks[&CREW]
            .standing(&small.view.estate, &small.view.estate.hosts[&HostId(1)]),
        Standing::Fine
    ));
}

fn change(edit: impl FnOnce(&mut networks::ChangeNetwork)) -> Proposal {
    let was = crew();
    let mut ask = networks::ChangeNetwork {
        network: CREW,
        role: was.role,
        mtu: was.mtu,
        subnets: was.subnets,
        uplinks: was.uplinks,
    };
    edit(&mut ask);
    Proposal::Networks(networks::Ask::Change(ask))
}

#[test]
fn a_network_that_is_there_is_changed_with_what_follows() {
    let small = on_crew();
    let said = |ask: &Proposal| worse(&put(&small, ask));
    assert_eq!(said(&change(|_| {})), ["stop: Nothing is changed yet."]);
    let larger = put(&small, &change(|c| c.mtu = 9000));
    assert!(!larger.blocked(), "{:?}", worse(&larger));
    assert_eq!(larger.steps().len(), 2, "each host is set up again");
    let named = put(&small, &change(|c| c.role = NetRole::Storage));
    assert_eq!(named.steps().len(), 0, "what it is for is Zastrugi's own");
    assert!(said(&change(|c| c.mtu = 9300))[0].contains("An MTU is from"));
    assert!(said(&change(|c| c.uplinks.clear()))[0].contains("Choose the uplinks"));
    let elsewhere = |c: &mut networks::ChangeNetwork| {
        c.subnets[0] = Subnet {
            net: "10.3.0.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }
    };
    let out = said(&change(elsewhere));
    assert!(
        out[0].starts_with("stop: 10.2.0.") && out[0].contains("in no subnet any more"),
        "{out:?}"
    );
}

/// A port that is wrong is said at the field that can mend it, and nothing beside it says that ports are fine.
#[test]
fn a_port_that_is_too_narrow_is_a_stop_at_the_mtu_and_no_port_is_called_clear() {
    let mut small = on_crew();
    alter_switch(&mut small, 2, |s| {
        s.ports.get_mut("eth2").unwrap().mtu = 1500
    });
    let a = put(&small, &change(|c| c.mtu = 9000));
    let ports: Vec<_> = a
        .findings()
        .iter()
        .filter(|f| f.rule == Rule::Wire)
        .collect();
    let said: Vec<_> = ports
        .iter()
        .map(|f| (f.field.as_deref(), f.text.as_str()))
        .collect();
    let words = "h2, uplink-2: sw2 port eth2 carries at most 1500 bytes, not 9000.";
    assert_eq!(said, [(Some("mtu"), words)]);
    alter_switch(&mut small, 2, |s| {
        s.ports.get_mut("eth2").unwrap().mtu = 9216
    });
    let a = put(&small, &change(|c| c.mtu = 9000));
    assert!(!a.blocked(), "{:?}", worse(&a));
}

#[test]
fn a_network_that_hosts_need_is_removed_only_by_its_name() {
    let mut small = fixture(PLAIN);
    small.alter(|e| {
        let mut n = (*e.networks[&CREW]).clone();
        n.role = NetRole::Migration;
        e.put(Fact::Network(n.into()));
    });
    let remove = |typed: &str| {
        Proposal::Networks(networks::Ask::Remove {
            network: CREW,
            typed: typed.into(),
        })
    };
    let said = worse(&put(&small, &remove("")));
    assert!(
        said.contains(&"stop: Type crew to confirm.".to_owned()),
        "{said:?}"
    );
    assert!(
        said.iter()
            .any(|l| l
                .contains("none can be moved without one for it. It is the only one for that.")),
        "{said:?}"
    );
    assert!(!put(&small, &remove("crew")).blocked());
}

#[test]
fn addresses_that_nobody_can_use_are_refused_at_the_field() {
    let mut small = on_crew();
    small.alter(|e| {
        let mut n = (*e.networks[&CREW]).clone();
        n.subnets[0]
            .ranges
            .push(range("10.2.0.200-10.2.0.209", Part::Hosts).unwrap());
        e.put(Fact::Network(n.into()));
    });
    for (address, words) in [
        ("10.2.0.0", "is the network address of 10.2.0.0/24"),
        ("10.2.0.255", "is the broadcast address of 10.2.0.0/24"),
        ("10.2.0.1", "is the gateway of 10.2.0.0/24"),
        (
            "10.2.0.205",
            "is in 10.2.0.200–10.2.0.209, which is for hosts",
        ),
        ("fd00::7", "is IPv6; crew has only IPv4"),
        ("10.9.0.7", "is in no subnet of crew"),
    ] {
        let a = put(&small, &machines(1, card(Some(address))));
        let stop = a
            .at_field("nics")
            .unwrap_or_else(|| panic!("{address} is taken"));
        assert!(stop.text.contains(words), "{address}: {}", stop.text);
    }
    assert!(
        put(&small, &machines(1, card(Some("10.2.0.50"))))
            .at_field("nics")
            .is_none()
    );
    let keep = |address: &str| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Network(CREW)],
            sets: vec![Set::Reserved(BTreeMap::from([(
                ip(address),
                Reservation {
                    what: "printer".into(),
                    since: Moment(0),
                },
            )]))],
        })
    };
    assert!(
        put(&small, &keep("10.2.0.255"))
            .at_field("reserved")
            .is_some()
    );
    assert!(
        put(&small, &keep("10.2.0.77"))
            .at_field("reserved")
            .is_none()
    );
}

/// A host with a bad port must be able to get rid of its machines: that is what one does with such a host.
#[test]
fn one_bad_port_off_a_host_does_not_keep_its_machines_there() {
    let ask = |wire: bool| {
        let ask = moving::Move {
            machines: vec![MachineId(7)],
            to: Some(HostId(2)),
            disks: None,
            slow: false,
            force: true,
            wire,
        };
        Proposal::Moving(moving::Ask::Move(ask))
    };
    type Change = fn(&mut SwitchPort);
    let bad = |ports: &[(u64, Change)], wire: bool| {
        let mut small =
            fixture("cluster eider careless\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1");
        small.alter(|e| {
            let mut net = Network::clone(&e.networks[&CREW]);
            net.role = NetRole::Migration;
            e.put(Fact::Network(Arc::new(net)));
        });
        for (n, change) in ports {
            alter_switch(&mut small, *n, |s| change(s.ports.get_mut("eth1").unwrap()));
        }
        let said = put(&small, &ask(wire));
        let lines = worse(&said).into_iter().filter(|l| l.contains("sw"));
        (said.blocked(), lines.collect::<Vec<_>>())
    };
    let down: Change = |p| p.up = false;
    let narrow: Change = |p| p.mtu = 1400;
    let (blocked, said) = bad(&[(1, down)], false);
    assert!(!blocked, "{said:?}");
    assert_eq!(
        said,
        ["mind: crew on h1: sw1 port eth1 is down. It goes over uplink-2."]
    );
    let (blocked, said) = bad(&[(1, down), (2, down)], false);
    assert!(
        blocked && said[0].starts_with("stop: crew on h1"),
        "{said:?}"
    );
    assert!(
        bad(&[(1, narrow)], false).0,
        "what is spread meets the narrow one too"
    );
    let (blocked, said) = bad(&[(1, down), (2, down)], true);
    assert!(
        !blocked && said[0].contains("tried all the same"),
        "{said:?}"
    );
}

/// If this fails, guests that nobody may reach get a wire, or somebody is told that they reach each other when they don't.
#[test]
fn a_network_of_guests_that_no_uplink_carries_ends_at_each_host_and_says_so() {
    let mut small = fixture(PLAIN);
    let alone = |name: &str| {
        let name = name.to_owned();
        create(|n| {
            n.name = name.as_str().into();
            n.vlan = None;
            n.uplinks.clear();
        })
    };
    let said = put(&small, &alone("lab"));
    assert_eq!(
        worse(&said),
        ["mind: No uplink carries lab: machines on it reach only those on the same host."]
    );
    let accepted = said.accept().unwrap();
    small.begin(accepted);
    // The same addresses on another one meet nobody.
    assert!(!put(&small, &alone("lab-2")).blocked());
    let tagged = create(|n| n.uplinks.clear());
    assert!(worse(&put(&small, &tagged))[0].contains("Choose the uplinks that carry it"));
    let hosts = create(|n| {
        n.role = NetRole::Storage;
        n.vlan = None;
        n.uplinks.clear();
    });
    assert!(put(&small, &hosts).blocked(), "hosts need a wire");
}
