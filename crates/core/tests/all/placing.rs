//! Placement against an independent checker and brute force.

use proptest::prelude::*;
use std::collections::BTreeSet;
use zastrugi_core::{
    estate::{Machine, MachineState},
    ids::{ClusterId, HostId, MachineId},
    placement::{Ledger, choose, choose_all, cost},
    testkit::read,
    units::Bytes,
    view::View,
};

/// A small cluster, partly full: hosts as (GiB, cores), machines on them, machines to place as (GiB, vCPUs, group).
#[derive(Debug, Clone)]
struct Case {
    hosts: Vec<(u64, u32)>,
    there: Vec<(usize, u64)>,
    wanted: Vec<(u64, u32, Option<u8>)>,
}

fn cases() -> impl Strategy<Value = Case> {
    let hosts = prop::collection::vec(
        (16u64..128, prop::sample::select(vec![4u32, 8, 16, 32])),
        1..6,
    );
    let wanted = prop::collection::vec((1u64..64, 1u32..20, prop::option::of(0u8..2)), 1..10);
    (
        hosts,
        prop::collection::vec((0usize..6, 1u64..24), 0..8),
        wanted,
    )
        .prop_map(|(hosts, there, wanted)| Case {
            hosts,
            there,
            wanted,
        })
}

fn build(case: &Case) -> (View, Vec<Machine>) {
    let mut text = String::from("cluster a\n");
    for (i, (gib, cores)) in case.hosts.iter().enumerate() {
        text += &format!("host {} {gib} cores={cores}\n", i + 1);
    }
    for (i, (host, gib)) in case.there.iter().enumerate() {
        text += &format!(
            "machine {} there-{i} {gib} on {}\n",
            100 + i,
            host % case.hosts.len() + 1
        );
    }
    for (i, (gib, vcpus, group)) in case.wanted.iter().enumerate() {
        let apart = group.map(|g| format!(" apart=g{g}")).unwrap_or_default();
        text += &format!(
            "machine {} wanted-{i} {gib} off vcpus={vcpus}{apart}\n",
            200 + i
        );
    }
    let view = read(&text).view;
    let wanted = view
        .estate
        .machines
        .values()
        .filter(|m| m.state == MachineState::Off)
        .map(|m| (**m).clone())
        .collect();
    (view, wanted)
}

/// Written from the rules, not from the code: does everything on this host fit together?
fn holds(case: &Case, host: usize, on_it: &[&Machine]) -> Result<(), String> {
    let gib = 1u64 << 30;
    let mib = 1u64 << 20;
    let (installed, cores) = case.hosts[host];
    let reserve = 4 * gib + (installed * gib).div_ceil(50);
    let mut held = reserve;
    let mut size = 0;
    let mut vcpus = 0;
    let mut groups = BTreeSet::new();
    for m in on_it {
        let overhead = 128 * mib
            + 8 * mib * u64::from(m.vcpus)
            + (m.memory.size.0 * 4).div_ceil(1000)
            + 16 * mib
            + 16 * mib * 2;
        held += m.memory.kept.0 + overhead;
        size += m.memory.size.0;
        vcpus += m.vcpus;
        if m.vcpus > cores * 2 {
            return Err(format!("{} is wider than the host", m.name));
        }
        if let Some(g) = &m.apart
            && !groups.insert(g)
        {
            return Err(format!("two of {g}"));
        }
    }
    if held > installed * gib {
        return Err("memory".into());
    }
    if u128::from(size) * 100 > u128::from(installed * gib - reserve) * 151 {
        return Err("overcommit".into());
    }
    if vcpus > cores * 8 + cores / 100 {
        return Err("vCPUs".into());
    }
    Ok(())
}

fn ledger(view: &View) -> Ledger {
    Ledger::of(
        view,
        view.estate.hosts_in(ClusterId(901)).cloned(),
        &BTreeSet::new(),
    )
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]

    /// If this fails, an administrator is offered a host on which the machine does not fit.
    #[test]
    fn placement_never_breaks_a_hard_rule(case in cases()) {
        let (view, wanted) = build(&case);
        let cluster = view.estate.clusters[&ClusterId(901)].clone();
        let mut full = ledger(&view);
        let before = full.clone();
        let answers = choose_all(&view, &mut full, &cluster, &wanted, None);
        for host in 0..case.hosts.len() {
            let id = HostId(u64::try_from(host).unwrap() + 1);
            let there: Vec<&Machine> = view.estate.machines_on(id).map(|m| &**m).collect();
            let new: Vec<&Machine> = answers.iter().flatten().filter(|p| p.choice.host == id)
                .map(|p| wanted.iter().find(|m| m.id == p.machine).unwrap()).collect();
            if new.is_empty() { continue; }
            let all: Vec<&Machine> = there.iter().copied().chain(new).collect();
            prop_assert_eq!(holds(&case, host, &all), Ok(()), "{:?}", before.row(id).map(|r| r.held));
        }
    }

    /// If this fails, a machine is refused although a host has room, or not put on the best one.
    #[test]
    fn one_machine_goes_to_the_cheapest_host_that_fits(case in cases()) {
        let (view, wanted) = build(&case);
        let cluster = view.estate.clusters[&ClusterId(901)].clone();
        let ledger = ledger(&view);
        let machine = &wanted[0];
        let fitting: Vec<(f64, usize, String, HostId)> = (0..case.hosts.len()).filter_map(|host| {
            let id = HostId(u64::try_from(host).unwrap() + 1);
            let mut all: Vec<&Machine> = view.estate.machines_on(id).map(|m| &**m).collect();
            all.push(machine);
            // What is there already may break a rule by itself; only what the machine adds counts.
            holds(&case, host, &all).ok()?;
            let row = ledger.row(id)?;
            Some((cost(&view.loads, row, machine), row.machines, row.host.name.clone(), id))
        }).collect();
        let best = fitting.iter().min_by(|a, b| a.0.total_cmp(&b.0).then(a.1.cmp(&b.1)).then(a.2.cmp(&b.2)));
        match (choose(&view, &ledger, &cluster, machine, None), best) {
            (Ok(choice), Some(best)) => prop_assert_eq!(choice.host, best.3),
            (Err(_), None) => {}
            (Ok(choice), None) => prop_assert!(false, "chose {:?} though nothing fits", choice.host),
            (Err(why), Some(best)) => prop_assert!(false, "refused {:?} though {} fits", why, best.2),
        }
    }
}

#[test]
fn a_machine_too_large_for_any_empty_host_is_told_from_one_that_only_finds_them_full() {
    let view = read("cluster a\nhost 1 64\nmachine 1 there 50 on 1\nmachine 2 big 80 off\nmachine 3 small 16 off").view;
    let cluster = view.estate.clusters[&ClusterId(901)].clone();
    let never = |id| {
        choose(
            &view,
            &ledger(&view),
            &cluster,
            &view.estate.machines[&MachineId(id)],
            None,
        )
        .unwrap_err()
        .never
    };
    assert!(never(2).is_some_and(|by| by > Bytes::gib(21) && by < Bytes::gib(23)));
    assert_eq!(never(3), None);
}

#[test]
fn a_higher_tier_is_placed_first() {
    let view =
        read("cluster a\nhost 1 32\nmachine 1 low 16 off tier=4\nmachine 2 high 16 off tier=1")
            .view;
    let cluster = view.estate.clusters[&ClusterId(901)].clone();
    let wanted: Vec<Machine> = view
        .estate
        .machines
        .values()
        .map(|m| (**m).clone())
        .collect();
    let answers = choose_all(&view, &mut ledger(&view), &cluster, &wanted, None);
    assert!(
        answers[0].is_err() && answers[1].is_ok(),
        "there is room for one of them only"
    );
}

/// Which of three hosts has how many working paths, and whether it has the network.
fn beneath() -> impl Strategy<Value = Vec<(usize, bool)>> {
    prop::collection::vec((0usize..3, any::<bool>()), 3)
}

proptest! {
    /// If this fails, a machine is started where its disks or its network can't be reached.
    #[test]
    fn a_machine_is_never_placed_where_its_disks_or_network_are_not(hosts in beneath()) {
        use zastrugi_core::{estate::{Estate, Fact, Host, HostNet, Network, Nic}, ids::{NetworkId, VolumeId}, testkit};
        let small = read("cluster a\nhost 1 64\nhost 2 64\nhost 3 64\nmachine 7 db 8 off");
        let mut estate = Estate::clone(&small.view.estate);
        let uplinks: BTreeSet<String> = BTreeSet::new();
        for (id, (up, has)) in (1u64..).zip(&hosts) {
            let mut host = Host::clone(&estate.hosts[&HostId(id)]);
            host.mounts.insert(VolumeId(951), testkit::paths(*up));
            if *has {
                let net = HostNet { vlan: Some(20), mtu: 1500, uplinks: uplinks.clone() };
                host.networks.insert("crew".into(), net);
            }
            estate.put(Fact::Host(host.into()));
        }
        estate.put(Fact::Network(Network {uplinks, ..testkit::network(NetworkId(800), "crew")}.into()));
        let mut machine = (*estate.machines[&MachineId(7)]).clone();
        machine.nics = vec![Nic { mac: "02:5a:00:00:00:01".into(), network: Some(NetworkId(800)), addresses: vec![] }];
        let view = small.view.with(estate);
        let cluster = view.estate.clusters[&ClusterId(901)].clone();
        let answer = choose(&view, &ledger(&view), &cluster, &machine, None);
        let may: BTreeSet<u64> = (1u64..).zip(&hosts).filter(|(_, (up, has))| *up > 0 && *has).map(|(id, _)| id).collect();
        match answer {
            Ok(choice) => {
                prop_assert!(may.contains(&choice.host.0));
                let (up, _) = hosts[usize::try_from(choice.host.0).unwrap() - 1];
                prop_assert_eq!(choice.minds.len(), usize::from(up == 1), "one path alone is said");
                prop_assert_eq!(choice.others.len() + 1, may.len());
            }
            Err(why) => {
                prop_assert!(may.is_empty());
                prop_assert_eq!(why.refused.len(), 3);
            }
        }
    }
}

#[test]
fn a_batch_that_fits_only_one_way_is_packed_that_way() {
    // Hosts with 100 GiB for machines: least cost puts 60 and 40 where 50 and 50 would have gone.
    let small = read("cluster eider careless\nhost 1 107\nhost 2 107");
    let view = &small.view;
    let cluster = view.estate.clusters.values().next().unwrap().clone();
    let hosts = || view.estate.hosts.values().cloned();
    let fixture = read(
        "cluster x\nmachine 21 a 48 off\nmachine 22 b 58 off\nmachine 23 c 48 off\nmachine 24 d 38 off",
    );
    let batch: Vec<_> = fixture
        .view
        .estate
        .machines
        .values()
        .map(|m| {
            let mut m = (**m).clone();
            m.cluster = Some(cluster.id);
            (m.disks, m.tier) = (vec![], 3);
            m
        })
        .collect();
    let mut ledger = Ledger::of(view, hosts(), &Default::default());
    let answers = choose_all(view, &mut ledger, &cluster, &batch, None);
    assert!(answers.iter().all(Result::is_ok), "{answers:?}");
    for row in ledger.rows() {
        assert!(row.held <= row.host.usable());
    }
}
