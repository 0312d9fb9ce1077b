//! A sheet for a cluster from bare hosts that is right, and an estate with all that was asked before it: for tests and benchmarks.

use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Demand, NetRole, PsabiLevel, Subnet},
    evidence::{Answer, Beneath, Medium, Port, Probe},
    ids::SecretRef,
    rooms::{
        building::Build,
        installing::{BareHost, Install},
        networks::CreateNetwork,
    },
    testkit::{Small, read},
    units::Bytes,
};

const SECRET: SecretRef = SecretRef(uuid::Uuid::from_u128(7));
const OURS: &str = "cluster eider\nhost 1 256\nhost 2 256";

fn beneath(n: usize) -> Beneath {
    let port = |i: usize| Port {
        name: format!("uplink-{i}"),
        mac: format!("06:00:00:00:0{n}:0{i}"),
        mbit: 25_000,
        up: true,
    };
    Beneath {
        maker: "Brattholm".into(),
        model: "R9".into(),
        serial: format!("SN-{n}"),
        on: false,
        cpu: "K64".into(),
        sockets: 2,
        cores: 32,
        threads: 64,
        memory: Bytes::gib(128),
        ports: vec![port(1), port(2)],
        disks: vec![],
        drives: vec![],
        slots: 2,
    }
}

pub(crate) fn controller(n: usize) -> String {
    format!("10.1.101.{n}:8443")
}

pub(crate) fn build(hosts: usize) -> Build {
    let row = |n: usize| BareHost {
        site: "".into(),
        controller: Endpoint {
            address: controller(n).into(),
            pin: "aa".into(),
        },
        name: format!("tern-{n}").into(),
        address: format!("10.1.2.{}", 60 + n).into(),
        overwrite: false,
    };
    Build {
        names: None,
        into: None,
        name: "tern".into(),
        kind: Default::default(),
        install: Install {
            hosts: (1..=hosts).map(row).collect(),
            site: "Hilltop".into(),
            image: "any.iso".into(),
            user: "operator".into(),
            password: Password::Kept(SECRET),
            subnet: "10.1.2.0/24".into(),
            gateway: "10.1.2.1".into(),
            vlan: Some(10),
            time: vec![],
        },
        networks: vec![
            network("management", NetRole::Management, 10),
            network("crew", NetRole::Guest, 20),
        ],
        level: Some(PsabiLevel::V2),
        demand: Demand {
            failures: 1,
            domains: [false; 3],
            enforced: false,
        },
        volume: None,
        keepers: false,
        fencing: false,
    }
}

fn network(name: &str, role: NetRole, vlan: u16) -> CreateNetwork {
    CreateNetwork {
        cluster: None,
        name: name.into(),
        role,
        vlan: Some(vlan),
        mtu: 1500,
        subnets: vec![Subnet {
            net: "10.1.2.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }],
        uplinks: ["uplink-1", "uplink-2"].map(str::to_owned).into(),
    }
}

/// The estate with what controllers and this manager said.
pub(crate) fn told(build: &Build, change: impl Fn(usize, &mut Beneath)) -> Small {
    let mut small = read(OURS);
    let now = small.now;
    let mut book = (*small.view.evidence).clone();
    for (i, row) in build.install.hosts.iter().enumerate() {
        let mut found = beneath(i + 1);
        change(i + 1, &mut found);
        let probe = Probe::Beneath {
            address: row.controller.address.to_string(),
            pin: row.controller.pin.to_string(),
            user: "operator".into(),
            password: SECRET,
        };
        book.put(probe, Answer::Beneath(Box::new(found)), now);
        let nobody = Answer::Silent {
            why: "nobody answers".into(),
        };
        book.put(
            Probe::Greeting(format!("{}:7443", row.address)),
            nobody,
            now,
        );
    }
    let medium = |file: &str, maker: Option<&str>| Medium {
        file: file.into(),
        version: "4.2.1".into(),
        maker: maker.map(str::to_owned),
        size: Bytes::mib(600),
    };
    let media = vec![
        medium("any.iso", None),
        medium("korsnes.iso", Some("Korsnes")),
    ];
    book.put(Probe::Installations, Answer::Installations { media }, now);
    small.view.evidence = book.into();
    small
}
