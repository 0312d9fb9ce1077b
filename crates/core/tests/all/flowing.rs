//! Who speaks to whom: whatever has an address and is spoken to stands in the list, once, and nothing else does.

use std::{collections::BTreeSet, sync::Arc};
use zastrugi_core::{
    estate::{Bmc, Cluster, Fact, Keeping, NetRole, Subnet},
    flows::{Flow, Own, Port, Protocol, flows},
    ids::{ClusterId, HostId, NetworkId, VolumeId},
    testkit::{Small, network, read},
};

const TWO: &str =
    "cluster eider\nhost 1 256\nhost 2 256\ncluster smew\nhost 3 256\nhost 4 64 loose";

fn alter_cluster(small: &mut Small, id: u64, change: impl FnOnce(&mut Cluster)) {
    small.alter(|e| {
        let mut cluster = Cluster::clone(&e.clusters[&ClusterId(id)]);
        change(&mut cluster);
        e.put(Fact::Cluster(Arc::new(cluster)));
    });
}

fn estate() -> Small {
    let mut small = read(TWO);
    for host in 1..=4u64 {
        small.alter_host(host, |h| {
            h.bmc = Some(Bmc {
                address: format!("10.0.100.{host}:8443"),
                pin: String::new(),
                user: "zastrugi".into(),
                key: None,
            });
        });
    }
    alter_cluster(&mut small, 901, |c| {
        c.time = vec!["10.0.9.9:123".into()];
        c.keeping = Some(Keeping {
            volume: VolumeId(951),
            hosts: [HostId(1), HostId(3)].into(),
            taken: 0,
        });
    });
    small.alter(|e| {
        let mut net = network(NetworkId(50), "migration");
        net.role = NetRole::Migration;
        net.subnets = vec![Subnet {
            net: "10.0.50.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }];
        e.put(Fact::Network(Arc::new(net)));
    });
    small
}

fn pairs(all: &[Flow]) -> BTreeSet<(&str, &str)> {
    all.iter()
        .map(|f| (f.from.who.as_str(), f.to.who.as_str()))
        .collect()
}

/// If this fails, a firewall that was made by the list cuts something off, or lets in what nobody needs.
#[test]
fn each_pair_that_speaks_stands_there_once() {
    let small = estate();
    let all = flows(&small.view.estate, Own { media: Some(8470) });
    let expected = [
        ("controllers of hosts in no cluster", "this manager"),
        ("controllers of hosts of eider", "this manager"),
        ("controllers of hosts of smew", "this manager"),
        ("hosts of eider", "hosts of eider"),
        ("hosts of eider", "time sources"),
        ("keepers of eider", "controllers of hosts of eider"),
        ("keepers of eider", "hosts of eider"),
        ("this manager", "controllers of hosts in no cluster"),
        ("this manager", "controllers of hosts of eider"),
        ("this manager", "controllers of hosts of smew"),
        ("this manager", "hosts in no cluster"),
        ("this manager", "hosts of eider"),
        ("this manager", "hosts of smew"),
        ("this manager", "time sources"),
    ];
    assert_eq!(pairs(&all), expected.into());
    assert_eq!(all.len(), expected.len(), "none twice");
    let none = flows(&small.view.estate, Own::default());
    assert!(
        none.iter().all(|f| f.to.who != "this manager"),
        "no media, nobody reads them"
    );
}

/// If this fails, addresses of one cluster are opened for another, or one is left out.
#[test]
fn each_address_is_that_of_its_own_side() {
    let small = estate();
    let all = flows(&small.view.estate, Own { media: Some(8470) });
    let agents = |of: &str| -> BTreeSet<String> {
        let to = all
            .iter()
            .filter(|f| f.to.who == of && f.from.who == "this manager");
        to.flat_map(|f| f.to.addresses.clone()).collect()
    };
    let ips = |all: &[&str]| {
        all.iter()
            .map(|ip| (*ip).to_owned())
            .collect::<BTreeSet<_>>()
    };
    assert_eq!(agents("hosts of eider"), ips(&["10.0.0.1", "10.0.0.2"]));
    assert_eq!(agents("hosts of smew"), ips(&["10.0.0.3"]));
    assert_eq!(
        agents("controllers of hosts in no cluster"),
        ips(&["10.0.100.4"])
    );
    // One of its keepers is on a host of another cluster.
    let keepers = all
        .iter()
        .find(|f| f.from.who == "keepers of eider")
        .unwrap();
    assert_eq!(keepers.from.addresses, ["10.0.0.1", "10.0.0.3"]);
    let time = all.iter().find(|f| f.to.who == "time sources").unwrap();
    assert_eq!((time.protocol, time.port), (Protocol::Udp, Port::One(123)));
    let moves = all.iter().find(|f| f.role == NetRole::Migration).unwrap();
    assert_eq!(moves.port, Port::Named);
    assert_eq!(moves.from.addresses, ["10.0.50.0/24"]);
}
