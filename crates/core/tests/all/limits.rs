//! Every limit of what is typed, by their list: one more than it is stopped, in words that name it.

use crate::put;
use std::{collections::BTreeMap, net::IpAddr};
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{
        ArrayKind, Clauses, NetRole, PlaceRule, Provisioning, Reservation, RuleKind, Subnet, Who,
    },
    ids::{ClusterId, MachineId, NetworkId, VolumeId},
    limits::{self, Limit},
    moment::Moment,
    rooms::{
        Proposal, answers, edits,
        edits::{Set, Target},
        first_boot::{self, Keep},
        hosts, images,
        images::AddImage,
        machines::{self, CreateMachines, NewDisk, NewNic, PowerAct},
        networks::{self, CreateNetwork},
        pledges, qualities, sharing, snapshots, spares, storage,
        storage::ConnectArray,
    },
    testkit::{self, read},
    text::{Line, check},
    units::Bytes,
};

const HOUSE: &str = "cluster a\nhost 1 64\nmachine 7 db 8 on 1";

fn create(change: impl FnOnce(&mut CreateMachines)) -> Proposal {
    let mut ask = testkit::machines("new", 1, Some(ClusterId(901)), 8);
    change(&mut ask);
    machines::Ask::Create(Box::new(ask)).into()
}

fn edit(target: Target, sets: Vec<Set>) -> Proposal {
    edits::Ask::Edit {
        targets: vec![target],
        sets,
    }
    .into()
}

fn targets(n: usize) -> Vec<Endpoint> {
    let target = |i| Endpoint {
        address: format!("10.0.{}.{}:7443", i / 250, i % 250).into(),
        pin: "p".into(),
    };
    (0..n).map(target).collect()
}

/// One more than the limit; none where it is no sheet of core that takes it.
fn beyond(limit: &Limit) -> Option<Proposal> {
    machine(limit).or_else(|| other(limit))
}

/// A pool of so many.
fn pool(spare: usize, most: usize) -> Proposal {
    let count = |n: usize| u32::try_from(n).unwrap();
    spares::Ask::Keep(Box::new(spares::Keep {
        pool: None,
        name: "trainers".into(),
        template: None,
        cluster: None,
        pattern: "trainer-{01}".into(),
        spare: count(spare),
        most: count(most),
        vcpus: 1,
        memory: Bytes::gib(1),
        dependent: true,
        networks: vec![],
        document: None,
        ends_off: false,
    }))
    .into()
}

/// A pledge for whoever has one of so many labels.
fn pledge(labels: usize) -> Proposal {
    pledges::Ask::Keep(Box::new(pledges::Keep {
        pledge: None,
        name: "gold".into(),
        note: "".into(),
        to: vec!["a"; labels].join(" or ").into(),
        clauses: Clauses {
            tier: Some(1),
            ..Clauses::default()
        },
    }))
    .into()
}

/// What is said of machines.
fn machine(limit: &Limit) -> Option<Proposal> {
    let n = limit.most + 1;
    let long = "x".repeat(n);
    let db = Target::Machine(MachineId(7));
    let label = |key: &str, value: &str| Set::Label {
        key: key.into(),
        value: value.into(),
    };
    Some(match *limit {
        limits::NAME => create(|a| a.pattern = long.into()),
        limits::LABEL_KEY => edit(db, vec![label(&long, "")]),
        limits::LABEL_VALUE => edit(db, vec![label("team", &long)]),
        limits::LABELS => edit(db, (0..n).map(|i| label(&format!("l{i}"), "")).collect()),
        limits::AT_ONCE => create(|a| a.count = u32::try_from(n).unwrap()),
        limits::DISKS => create(|a| {
            let disk = NewDisk {
                size: Bytes::gib(1),
                provisioning: Provisioning::Thin,
            };
            a.disks = vec![disk; n];
        }),
        limits::SPARES => pool(n, 1000),
        limits::OF_POOL => pool(1, n),
        limits::NODES => sharing::Ask::Make(sharing::Make {
            name: "quorum".into(),
            volume: None,
            source: sharing::Source::Empty {
                size: Bytes::gib(1),
                provisioning: Provisioning::Thin,
            },
            nodes: (0..n as u64).map(MachineId).collect(),
        })
        .into(),
        limits::QUESTIONS => {
            let questions: Vec<String> = (1..=n).map(|i| format!("tcp {i}")).collect();
            answers::Ask::Must {
                machines: vec![MachineId(7)],
                questions: questions.join("\n").as_str().into(),
            }
            .into()
        }
        limits::TOGETHER => snapshots::Ask::Take(snapshots::Take {
            machines: (0..n as u64).map(MachineId).collect(),
            name: "all".into(),
            note: "".into(),
            quiet: snapshots::Quiet::Only,
            memory: false,
            together: true,
            ends: None,
        })
        .into(),
        limits::CARDS => create(|a| {
            let card = NewNic {
                network: None,
                address: None,
            };
            a.nics = vec![card; n];
        }),
        limits::CHOSEN => machines::Ask::Power {
            machines: (0..n as u64).map(MachineId).collect(),
            act: PowerAct::On { host: None },
        }
        .into(),
        _ => return None,
    })
}

/// What is said of everything else.
fn other(limit: &Limit) -> Option<Proposal> {
    let n = limit.most + 1;
    let long = "x".repeat(n);
    Some(match *limit {
        limits::GROUP => edit(
            Target::Cluster(ClusterId(901)),
            vec![Set::Name(long.into())],
        ),
        limits::IMAGE_NAME => images::Ask::Add(AddImage {
            holds: Default::default(),
            name: long.into(),
            volume: None,
            size: Bytes::gib(1),
            mark: "".into(),
            label: Ok("".into()),
            expected: "".into(),
        })
        .into(),
        limits::QUALITIES => qualities::Ask::State {
            volume: VolumeId(951),
            qualities: (0..n).map(|i| Line::from(format!("q{i}"))).collect(),
        }
        .into(),
        limits::DEVICES => hosts::Ask::Claim(hosts::ClaimHosts {
            targets: targets(n),
            site: "Quayside".into(),
            password: Password::Typed,
        })
        .into(),
        limits::CONTROLLERS => storage::Ask::ConnectArray(ConnectArray {
            controllers: targets(n),
            kind: ArrayKind::Block,
            site: "Quayside".into(),
            user: "keeper".into(),
            password: Password::Typed,
        })
        .into(),
        limits::SUBNETS => networks::Ask::Create(CreateNetwork {
            name: "n".into(),
            cluster: Some(ClusterId(901)),
            role: NetRole::Guest,
            vlan: Some(7),
            mtu: 1500,
            subnets: (0..n).map(subnet).collect(),
            uplinks: Default::default(),
        })
        .into(),
        limits::RESERVED => {
            let kept = |i: usize| {
                let at: IpAddr = format!("10.9.{}.{}", i / 250, i % 250).parse().unwrap();
                let what = Reservation {
                    what: "printer".into(),
                    since: Moment(0),
                };
                (at, what)
            };
            let all: BTreeMap<_, _> = (0..n).map(kept).collect();
            edit(Target::Network(NetworkId(1)), vec![Set::Reserved(all)])
        }
        limits::RULES => {
            let rule = |i| PlaceRule {
                name: format!("rule {i}").into(),
                kind: RuleKind::Apart,
                who: Who::Label("app".into()),
                required: true,
            };
            let rules = (0..n).map(rule).collect();
            edit(Target::Cluster(ClusterId(901)), vec![Set::Rules(rules)])
        }
        limits::TERMS => pledge(n),
        limits::GUEST_KEYS => first_boot(|k| k.keys = vec![KEY.into(); n]),
        limits::NAME_SERVERS => first_boot(|k| k.dns = vec!["10.1.2.53".into(); n]),
        limits::COMMANDS => first_boot(|k| k.commands = vec!["true".into(); n]),
        _ => return None,
    })
}

const KEY: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICqXUWw1S2iEjNvY9UoiagpVsh7ROOIHrWxcu5wAqlrq ops@desk";

fn first_boot(change: impl FnOnce(&mut Keep)) -> Proposal {
    let mut keep = Keep {
        of: None,
        name: "ops".into(),
        host_name: "{name}".into(),
        user: "ops".into(),
        keys: vec![],
        password: Password::Missing,
        no_password: false,
        dns: vec![],
        search: vec![],
        zone: "".into(),
        commands: vec![],
    };
    change(&mut keep);
    Proposal::FirstBoot(first_boot::Ask::Keep(Box::new(keep)))
}

fn subnet(i: usize) -> Subnet {
    Subnet {
        net: format!("10.3.{i}.0/24").parse().unwrap(),
        gateway: None,
        ranges: vec![],
    }
}

/// Held at other edges, with tests there: texts, scans, management networks, passwords, people, pledges, jobs, locks, pairs, plans.
const ELSEWHERE: [Limit; 16] = [
    limits::PLANS,
    limits::DRILLED,
    limits::STAGES,
    limits::BETWEEN,
    limits::JOBS,
    limits::LOCKED,
    limits::PAIRS,
    limits::MAPS,
    limits::PLEDGES,
    limits::LINE,
    limits::NOTE,
    limits::LIST,
    limits::SCAN,
    limits::MANAGEMENT,
    limits::PASSWORD,
    limits::PERSON,
];

/// If this fails, somebody makes a page, a run or the database as large as they like.
#[test]
fn one_more_than_any_limit_is_stopped_in_words_that_name_it() {
    let house = read(HOUSE);
    for limit in limits::TYPED {
        let Some(ask) = beyond(limit) else {
            assert!(ELSEWHERE.contains(limit), "{}: try it here", limit.what);
            continue;
        };
        let assessed = put(&house, &ask);
        let most = [limit.most.to_string(), limits::grouped(limit.most)];
        let named = |text: &str| most.iter().any(|m| text.contains(m.as_str()));
        let stopped = assessed
            .findings()
            .iter()
            .any(|f| f.stops() && named(&f.text));
        let said: Vec<&str> = assessed
            .findings()
            .iter()
            .map(|f| f.text.as_str())
            .take(5)
            .collect();
        assert!(stopped, "{}: {said:?}", limit.what);
    }
    for (limit, lines) in [
        (limits::LINE, false),
        (limits::NOTE, true),
        (limits::LIST, true),
    ] {
        assert!(check(&"x".repeat(limit.most), &limit, lines).is_ok());
        assert!(check(&"x".repeat(limit.most + 1), &limit, lines).is_err());
    }
}
