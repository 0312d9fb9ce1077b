//! Moving machines: where to, what it will be like, what speaks against it, and how many at once.

use crate::{put, worse};
use std::{collections::BTreeMap, sync::Arc};
use zastrugi_core::rooms::moving;
use zastrugi_core::testkit::Folding;
use zastrugi_core::{
    estate::{Estate, Fact, HostNet, Machine, MachineState, NetRole, Network, Uplink},
    ids::{HostId, MachineId, NetworkId},
    loads::{HostLoad, Loads, MachineLoad, Writes},
    moment::Moment,
    placement::Ledger,
    road::Input,
    rooms::moving::Move,
    rooms::{Event, Proposal, Step},
    testkit::{Small, network, read},
    units::{Bytes, Mhz, Rate},
};

const THREE: &str = "cluster eider careless\nhost 1 512\nhost 2 512\nhost 3 512
    machine 7 db 64 on 1\nmachine 8 web 32 on 1\nmachine 9 old 16 off";

fn writes(dirty_mib: u64, set_gib: u64) -> Writes {
    Writes {
        dirty: Rate(dirty_mib << 20),
        touched: Bytes::gib(40),
        working_set: Bytes::gib(set_gib),
    }
}

/// Every host has the migration network on an uplink of so many Mbit/s; every machine was measured.
pub(crate) fn fixture(mbit: u64, dirty_mib: u64) -> Small {
    fixture_with(mbit, writes(dirty_mib, 8))
}

/// Every host has the migration network on an uplink of so many Mbit/s.
pub(crate) fn networked(text: &str, mbit: u64) -> Small {
    let mut small = read(text);
    let net = Network {
        role: NetRole::Migration,
        uplinks: ["uplink-1".to_owned()].into(),
        ..network(NetworkId(50), "migration")
    };
    small.alter(|e| e.put(Fact::Network(Arc::new(net.clone()))));
    let hosts: Vec<u64> = small.view.estate.hosts.keys().map(|h| h.0).collect();
    for id in hosts {
        small.alter_host(id, |h| {
            h.uplinks = vec![Uplink {
                up: true,
                name: "uplink-1".into(),
                mac: format!("06:00:00:00:00:0{id}"),
                mbit,
                switch: "s".into(),
                port: format!("p{id}"),
            }];
            let has = HostNet {
                vlan: Some(20),
                mtu: 1500,
                uplinks: ["uplink-1".to_owned()].into(),
            };
            h.networks = BTreeMap::from([("migration".to_owned(), has)]);
        });
    }
    small
}

fn fixture_with(mbit: u64, writes: Writes) -> Small {
    let mut small = networked(THREE, mbit);
    let mut loads = Loads::default();
    let load = MachineLoad {
        cpu: Mhz(1000),
        active: Bytes::gib(8),
        writes: Some(writes),
        disk: None,
    };
    let sample = HostLoad {
        at: Moment(1),
        cpu: Mhz(2000),
        active: Bytes::gib(16),
        machines: [7, 8, 9].map(|m| (MachineId(m), load)).to_vec(),
    };
    loads.take(HostId(1), sample);
    small.view.loads = loads.into();
    small
}

pub(crate) fn go(machines: &[u64], edit: impl FnOnce(&mut Move)) -> Proposal {
    let mut ask = Move {
        disks: None,
        machines: machines.iter().map(|m| MachineId(*m)).collect(),
        to: None,
        slow: false,
        force: false,
        wire: false,
    };
    edit(&mut ask);
    Proposal::Moving(moving::Ask::Move(ask))
}

/// Without the switch ports, which nobody reads in these fixtures.
fn says(small: &Small, ask: &Proposal) -> Vec<String> {
    let all = worse(&put(small, ask)).into_iter();
    all.filter(|line| !line.contains("is not connected"))
        .collect()
}

#[test]
fn it_goes_to_the_best_other_host_and_its_rounds_are_foretold() {
    let small = fixture(10_000, 100);
    let said = put(&small, &go(&[7], |_| {}));
    assert_eq!(says(&small, &go(&[7], |_| {})), Vec::<String>::new());
    assert_eq!(said.places()[0].host_name, "h2", "both are empty: by name");
    let [step] = said.steps() else {
        panic!("{:?}", said.steps())
    };
    let Step::Moving(moving::Step::Move {
        from,
        to,
        line,
        foretold,
        ..
    }) = &step.step
    else {
        panic!()
    };
    assert_eq!((*from, *to), (HostId(1), HostId(2)));
    // Nine tenths of 10 Gbit/s is beyond what one stream gets.
    assert_eq!(line.bandwidth, Rate(1_000_000_000));
    assert!(foretold.converges());
    // 40 GiB at 1 GB/s take 43 s; 8 GiB at most are dirty then.
    assert_eq!(foretold.rounds[0].bytes, Bytes::gib(40));
    assert!((foretold.rounds[0].seconds - 42.95).abs() < 0.01);
    assert!(said.time().0 > 43_000, "{}", said.time());
    assert!(said.interrupted().is_empty());
}

#[test]
fn what_is_off_gone_there_already_or_on_its_way_is_said() {
    let mut small = fixture(10_000, 100);
    assert!(says(&small, &go(&[], |_| {}))[0].contains("No machine is selected"));
    assert!(says(&small, &go(&[9], |_| {}))[0].contains("old is off"));
    assert!(says(&small, &go(&[77], |_| {}))[0].contains("gone"));
    let there = go(&[7], |m| m.to = Some(HostId(1)));
    assert_eq!(says(&small, &there), ["stop: db is there already."]);
    small.alter(|e| {
        let moving = Event::Moving(moving::Event::Moving {
            machine: MachineId(7),
            to: Some(HostId(3)),
        });
        e.absorb(&moving);
        let mut web = Machine::clone(&e.machines[&MachineId(8)]);
        web.state = MachineState::Starting("kernel".into());
        e.put(Fact::Machine(Arc::new(web)));
    });
    assert!(says(&small, &go(&[7], |_| {}))[0].contains("being moved already"));
    assert!(says(&small, &go(&[8], |_| {}))[0].contains("not up"));
}

#[test]
fn who_writes_faster_than_the_line_is_stopped_slowed_or_forced_with_the_price() {
    let small = fixture(1000, 130);
    let said = says(&small, &go(&[7], |_| {}));
    assert_eq!(
        said,
        ["stop: db writes faster than the line carries: it never gets there."]
    );
    let stop = put(&small, &go(&[7], |_| {}));
    let stop = stop.at_field("slow").unwrap();
    assert!(
        stop.remedy
            .as_ref()
            .unwrap()
            .contains("stand still for about")
    );
    let forced = put(&small, &go(&[7], |m| m.force = true));
    assert!(!forced.blocked());
    assert_eq!(forced.interrupted().len(), 1);
    // 8 GiB at 112.5 MB/s: more than a minute.
    assert!(
        worse(&forced)
            .iter()
            .any(|w| w.contains("stands still for about 77 s")),
        "{:?}",
        worse(&forced)
    );
    let slowed = says(
        &fixture_with(2500, writes(743, 1)),
        &go(&[7], |m| m.slow = true),
    );
    assert!(
        slowed[0].starts_with("mind: db is there in about"),
        "{slowed:?}"
    );
    assert!(slowed[0].contains("slowed by up to"));
}

#[test]
fn what_nobody_measured_is_unchecked_and_without_a_network_nothing_moves() {
    let mut small = fixture(10_000, 100);
    small.view.loads = Loads::default().into();
    let said = says(&small, &go(&[7], |_| {}));
    assert!(
        said[0].starts_with("unchecked: Nobody measured how db writes"),
        "{said:?}"
    );
    let without = |role: Option<NetRole>| {
        let mut small = fixture(10_000, 100);
        small.alter(|e| {
            let mut net = Network::clone(&e.networks[&NetworkId(50)]);
            net.role = role.unwrap_or(NetRole::Guest);
            e.put(Fact::Network(Arc::new(net)));
        });
        says(&small, &go(&[7], |_| {}))
    };
    assert!(without(None)[0].starts_with("stop: eider has no network over which"));
    assert!(without(Some(NetRole::Management))[0].starts_with("mind: eider has no network for"));
    let mut cut = fixture(10_000, 100);
    cut.alter_host(2, |h| h.networks.clear());
    let to = go(&[7], |m| m.to = Some(HostId(2)));
    assert_eq!(
        says(&cut, &to),
        ["stop: migration on h2: missing on the host."]
    );
}

#[test]
fn many_share_the_lanes_of_their_hosts_and_one_waits_for_another() {
    let small = fixture(1000, 1);
    let said = put(&small, &go(&[7, 8], |_| {}));
    // One at a time on 1 Gbit/s: the second waits for the first.
    let after: Vec<_> = said.steps().iter().map(|s| s.after.clone()).collect();
    assert_eq!(after, [vec![], vec![0]]);
    let wide = fixture(25_000, 1);
    let said = put(&wide, &go(&[7, 8], |_| {}));
    assert!(
        said.steps().iter().all(|s| s.after.is_empty()),
        "four lanes"
    );
    let Step::Moving(moving::Step::Move { line, .. }) = &said.steps()[0].step else {
        panic!()
    };
    assert_eq!(
        line.bandwidth,
        Rate(1_000_000_000),
        "25 Gbit/s carry two of them"
    );
}

#[test]
fn room_is_held_at_both_ends_until_it_is_over() {
    let mut small = fixture(10_000, 100);
    let plan = put(&small, &go(&[7], |m| m.to = Some(HostId(2))))
        .accept()
        .unwrap();
    let (run, _) = small.begin(plan);
    let held = |estate: &Estate, view: &Small, host: u64| {
        let host = estate.hosts.get(&HostId(host)).cloned();
        let ledger = Ledger::of(&view.view, host, &Default::default());
        ledger.rows().next().unwrap().held
    };
    let db = small.view.estate.machines[&MachineId(7)].held();
    assert!(held(&small.view.estate, &small, 1) >= db);
    assert_eq!(held(&small.view.estate, &small, 2), db);
    // Given up on the way: the room there is free again.
    let mut given_up = Small {
        view: small.view.clone(),
        plans: small.plans.clone(),
        permits: small.permits,
        now: small.now,
    };
    for input in [
        Input::Cancel,
        Input::NotYet {
            step: 0,
            said: "cancelled".into(),
        },
    ] {
        given_up.tell(run, input);
    }
    assert!(given_up.view.runs.is_empty());
    assert_eq!(held(&given_up.view.estate, &given_up, 2), Bytes::ZERO);
    assert_eq!(
        given_up.view.estate.machines[&MachineId(7)].host,
        Some(HostId(1))
    );
}
