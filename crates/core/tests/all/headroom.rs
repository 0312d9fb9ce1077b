//! Headroom: every witness checked naively, the sentence by hand, and what must never change the answer.

use proptest::prelude::*;
use std::collections::BTreeMap;
use zastrugi_core::{
    availability::{
        Domain, Effort, Failure, HostRow, MEMORY, MachineRow, Raise, SIZES, Survival, Table, VCPUS,
        Verdict, fail, headroom, matrix, model,
    },
    estate::{Cluster, Demand},
    ids::{ClusterId, MachineId},
    moment::Span,
    testkit::{Small, read},
};

const GIB: u64 = 1 << 30;

fn host(name: &str, gib: u64) -> HostRow {
    HostRow {
        name: name.into(),
        room: [gib * GIB, u64::MAX / 8, 32_000, u64::MAX / 8, u64::MAX / 8],
        fencing: Some(Span::secs(6)),
        ..HostRow::default()
    }
}

fn machine(name: &str, gib: u64, tier: u8, at: usize) -> MachineRow {
    let mut needs = [0; 5];
    (needs[MEMORY], needs[VCPUS]) = (gib * GIB, 1000);
    MachineRow {
        name: name.into(),
        needs,
        kept: gib * GIB,
        tier,
        at: Some(at),
        ..MachineRow::default()
    }
}

/// Independent of how it was found: room, groups, and that nobody goes where they may not.
fn assert_witness(table: &Table, failure: &Failure) {
    let mut used: BTreeMap<usize, [u64; 5]> = BTreeMap::new();
    let mut groups: BTreeMap<usize, Vec<u32>> = BTreeMap::new();
    let staying = table
        .machines
        .iter()
        .enumerate()
        .filter_map(|(i, m)| Some((i, m.at?)));
    let staying = staying.filter(|(_, at)| !failure.hosts.contains(at));
    let there: Vec<(usize, usize)> = staying.chain(failure.restarted.iter().copied()).collect();
    for (i, at) in &there {
        let m = &table.machines[*i];
        let sum = used.entry(*at).or_default();
        (0..5).for_each(|d| sum[d] += m.needs[d]);
        groups.entry(*at).or_default().extend(&m.apart);
    }
    for (i, at) in &failure.restarted {
        assert!(
            !failure.hosts.contains(at),
            "restarted on a host that failed"
        );
        assert!(table.hosts[*at].closed.is_none());
        assert!(table.machines[*i].only.as_ref().is_none_or(|o| o[*at]));
        for d in [MEMORY, SIZES, VCPUS] {
            assert!(
                used[at][d] <= table.hosts[*at].room[d],
                "host {at} overflows in {d}"
            );
        }
        let mut all = groups[at].clone();
        let count = all.len();
        all.sort_unstable();
        all.dedup();
        assert_eq!(all.len(), count, "two of a group on host {at}");
    }
    let (restarted, left) = (failure.restarted.len(), failure.not_restarted.len());
    let failed = table
        .machines
        .iter()
        .filter(|m| m.at.is_some_and(|at| failure.hosts.contains(&at)));
    assert_eq!(
        restarted + left + failure.lost.len(),
        failed.count(),
        "everybody is told of"
    );
    assert_eq!(failure.verdict == Verdict::All, left == 0);
}

pub(crate) fn tables() -> impl Strategy<Value = Table> {
    let hosts = prop::collection::vec(8u64..40, 2..5);
    hosts
        .prop_flat_map(|hosts| {
            let n = hosts.len();
            let machine = (1u64..14, 1u8..4, 0..n, prop::option::weighted(0.2, 0u32..2));
            (Just(hosts), prop::collection::vec(machine, 0..10))
        })
        .prop_map(|(hosts, machines)| {
            let hosts: Vec<_> = hosts
                .iter()
                .enumerate()
                .map(|(i, g)| host(&format!("h{i}"), *g))
                .collect();
            let mut table = Table {
                hosts,
                ..Table::default()
            };
            for (i, (gib, tier, at, group)) in machines.into_iter().enumerate() {
                let mut row = machine(&format!("m{i}"), gib, tier, at);
                let full: u64 = table.on(at).map(|m| table.machines[m].needs[MEMORY]).sum();
                let taken = |g: &u32| table.on(at).any(|m| table.machines[m].apart.contains(g));
                row.apart = group.filter(|g| !taken(g)).into_iter().collect();
                if full + gib * GIB <= table.hosts[at].room[MEMORY] {
                    table.machines.push(row);
                }
            }
            table
        })
}

proptest! {
    #[test]
    fn every_witness_holds(table in tables()) {
        let (_, failures) = headroom(&table, 2, Effort::THOROUGH);
        failures.iter().for_each(|f| assert_witness(&table, f));
    }

    #[test]
    fn another_host_never_lowers_it(table in tables(), gib in 0u64..40) {
        let before = headroom(&table, 2, Effort::THOROUGH).0;
        let mut more = table.clone();
        more.hosts.push(host("new", gib));
        prop_assert!(headroom(&more, 2, Effort::THOROUGH).0 >= before);
    }

    #[test]
    fn the_order_of_hosts_and_machines_does_not_matter(table in tables()) {
        let mut turned = table.clone();
        turned.machines.reverse();
        turned.hosts.reverse();
        let n = table.hosts.len();
        turned.machines.iter_mut().for_each(|m| m.at = m.at.map(|at| n - 1 - at));
        let count = |t: &Table, at: usize| {
            let f = fail(t, &[at], Effort::THOROUGH);
            let mut tiers: Vec<u8> = f.restarted.iter().map(|(m, _)| t.machines[*m].tier).collect();
            tiers.sort_unstable();
            (f.verdict, tiers)
        };
        for at in 0..n {
            prop_assert_eq!(count(&table, at), count(&turned, n - 1 - at));
        }
    }

    #[test]
    fn a_higher_tier_never_loses_to_a_lower_one(table in tables()) {
        for at in 0..table.hosts.len() {
            let whole = fail(&table, &[at], Effort::THOROUGH);
            // Without the lower tiers no more of the first would restart.
            let mut first = table.clone();
            let lower = |m: &mut MachineRow| m.at == Some(at) && m.tier > 1;
            first.machines.retain_mut(|m| !lower(m));
            let alone = fail(&first, &[at], Effort::THOROUGH).restarted.len();
            let with = whole.restarted.iter().filter(|(m, _)| table.machines[*m].tier == 1).count();
            prop_assert_eq!(with, alone);
        }
    }
}

#[test]
fn headroom_by_hand() {
    // 6, 3 and 1 on hosts of 10, 10 and 9. Any one finds room. Without a and b, 6 + 3 is more than c's 8; a and c, b and c do.
    let table = Table {
        hosts: vec![host("a", 10), host("b", 10), host("c", 9)],
        machines: vec![
            machine("x", 6, 1, 0),
            machine("y", 3, 2, 1),
            machine("z", 1, 3, 2),
        ],
        ..Table::default()
    };
    let answer = Survival::from(table.clone(), vec![], true);
    assert_eq!(answer.matrix.headroom, 1);
    assert_eq!(
        answer.sentence(),
        "survives any one host; two only if a is not among them; limited by memory"
    );
    let pair = fail(&table, &[0, 1], Effort::QUICK);
    assert_eq!(
        (pair.verdict, &pair.restarted),
        (Verdict::Some, &vec![(0, 2)]),
        "tier 1 first"
    );
    assert_eq!(
        pair.proof,
        "all of them need 9\u{a0}GiB of memory; all hosts that are left have 8\u{a0}GiB of memory free"
    );
    assert_eq!(headroom(&table, 2, Effort::QUICK).0, 1);
}

#[test]
fn the_tightest_row_and_what_would_raise_it() {
    // b's machine of 8 finds no room: a has 7 and c has 5. With u on b, a has 8, and c takes u.
    let table = Table {
        hosts: ["a", "b", "c"].map(|n| host(n, 10)).to_vec(),
        machines: vec![
            machine("u", 1, 2, 0),
            machine("v", 8, 1, 1),
            machine("w", 4, 2, 2),
            machine("x", 1, 2, 2),
            machine("y", 2, 2, 0),
        ],
        ..Table::default()
    };
    let answer = Survival::from(table, vec![], false);
    assert_eq!(answer.matrix.headroom, 0);
    let row = answer.matrix.tightest().unwrap();
    assert_eq!(row.domain, Domain::Host("b".into()));
    let why = &row.failure.not_restarted[0].why;
    assert!(why.contains("needs 8\u{a0}GiB of memory"), "{why}");
    assert_eq!(
        answer.sentence(),
        "survives one host only if it is not b; limited by memory"
    );
    assert_eq!(
        answer.raise(),
        Raise::Move { machine: 0, to: 1 },
        "the smallest"
    );
}

#[test]
fn one_shrunk_one_stopped_or_more_memory() {
    let of = |machines: Vec<MachineRow>| {
        let table = Table {
            hosts: ["a", "b"].map(|n| host(n, 10)).to_vec(),
            machines,
            ..Table::default()
        };
        Survival::from(table, vec![], false).raise()
    };
    let full = |gib: u64| vec![machine("x", gib, 1, 0), machine("y", gib, 2, 1)];
    // 6 and 6 on 10: three quarters are 10.5, half are 9.
    let shrinkable = |gib: u64| {
        let mut all = full(gib);
        for row in &mut all {
            row.kept = gib << 30;
            row.needs[SIZES] = gib << 30;
        }
        all
    };
    let half = Raise::Shrink {
        machine: 0,
        to: 3 << 30,
    };
    assert_eq!(of(shrinkable(6)), half);
    // Half of 9 beside 9 is too much: the one of the lower tier goes.
    assert_eq!(of(shrinkable(9)), Raise::Stop { machine: 1 });
    let mut large = full(6);
    large.iter_mut().for_each(|row| row.kept = 0);
    assert_eq!(
        of(large),
        Raise::Stop { machine: 1 },
        "what it always keeps is nothing"
    );
    let many = |n: usize| {
        let at = |i: usize| machine(&format!("m{i}"), 1, 1, i % 2);
        (0..n).map(at).collect::<Vec<_>>()
    };
    assert_eq!(
        of(many(12)),
        Raise::Memory { percent: 25 },
        "11 are too many for 10"
    );
    assert_eq!(of(many(18)), Raise::Memory { percent: 100 });
}

#[test]
fn a_rule_that_is_in_the_way_is_named() {
    let full = |gib: u64| Table {
        hosts: ["a", "b"].map(|n| host(n, 10)).to_vec(),
        machines: vec![machine("x", gib, 1, 0), machine("y", gib, 1, 1)],
        ..Table::default()
    };
    let mut apart = full(3);
    apart.machines.iter_mut().for_each(|m| m.apart = vec![7]);
    let answer = Survival::from(apart, vec![], false);
    assert!(
        answer.matrix.rows[0].failure.not_restarted[0]
            .why
            .contains("must be apart from")
    );
    // Stopping one of them would do as well, and is more to ask for.
    assert_eq!(answer.raise(), Raise::Apart { group: 7 });
}

#[test]
fn machines_that_stay_together_restart_together() {
    let mut table = Table {
        hosts: ["a", "b", "c"].map(|n| host(n, 10)).to_vec(),
        machines: vec![
            machine("x", 4, 1, 0),
            machine("y", 4, 1, 0),
            machine("z", 5, 1, 1),
            machine("w", 5, 1, 2),
        ],
        ..Table::default()
    };
    assert_eq!(
        fail(&table, &[0], Effort::QUICK).verdict,
        Verdict::All,
        "one each"
    );
    table.machines[..2]
        .iter_mut()
        .for_each(|m| m.together = Some(1));
    let failure = fail(&table, &[0], Effort::QUICK);
    assert_eq!(failure.not_restarted.len(), 2, "8 together fit nowhere");
}

const TWO: &str = "cluster eider
    host 1 64 cores=16\nhost 2 64 cores=16\nhost 3 64 cores=16
    machine 11 db 30 on 1 tier=1 apart=dbs\nmachine 12 db-2 30 on 2 tier=1 apart=dbs
    machine 13 web 16 on 3\nmachine 14 batch 20 on 3 unprotected\nmachine 15 app 8 on 1 after=11";

fn answer(small: &Small) -> Survival {
    let estate = &small.view.estate;
    Survival::of(&small.view, &estate.clusters[&ClusterId(901)])
}

#[test]
fn a_cluster_of_the_estate_becomes_a_table() {
    let small = read(TWO);
    let answer = answer(&small);
    let row = |n: usize| &answer.matrix.rows[n];
    assert_eq!(row(0).domain, Domain::Host("h1".into()));
    // db must be apart from db-2 and so goes to h3, where web and batch leave 20.7 GiB: not enough.
    assert_eq!(
        row(0).failure.verdict,
        Verdict::Some,
        "{:?}",
        row(0).failure
    );
    let who = |m: usize| answer.table.machines[m].name.as_str();
    assert_eq!(who(row(0).failure.not_restarted[0].machine), "db");
    assert_eq!(
        row(2).failure.lost.len(),
        1,
        "batch is lost until somebody acts"
    );
    assert_eq!(who(row(2).failure.lost[0].machine), "batch");
    let volume = answer.matrix.rows.last().unwrap();
    assert_eq!(volume.domain, Domain::Volume("slab-951".into()));
    assert_eq!(volume.failure.lost.len(), 5);
    assert!(
        row(0).waits == [0],
        "without a controller somebody must look"
    );
}

#[test]
fn racks_fail_as_one() {
    let mut small = read(TWO);
    for (id, rack) in [(1, "a1"), (2, "a1"), (3, "a2")] {
        small.alter_host(id, |h| drop(h.labels.insert("rack".into(), rack.into())));
    }
    let answer = answer(&small);
    let rack = answer
        .matrix
        .rows
        .iter()
        .find(|r| r.domain == Domain::Of("rack".into(), "a1".into()));
    assert_eq!(rack.unwrap().failure.hosts, [0, 1]);
    assert!(!rack.unwrap().passes());
}

#[test]
fn the_time_is_that_of_boots_in_order() {
    let small = read(TWO);
    let (table, volumes) = model(&small.view, &small.view.estate.clusters[&ClusterId(901)]);
    let all = matrix(&table, &volumes, Effort::QUICK);
    // h2 fails: db-2 can't be beside db, so it goes to h3 or nowhere; detection 15 s, fencing 6 s, one boot 60 s.
    let alone = &all.rows[1];
    assert_eq!(alone.failure.restarted.len(), 0);
    assert_eq!(alone.time.0, 0);
    let mut order = Table {
        hosts: ["a", "b"].map(|n| host(n, 100)).to_vec(),
        machines: (0..6).map(|i| machine(&format!("m{i}"), 1, 2, 0)).collect(),
        ..Table::default()
    };
    order.machines[0].tier = 1;
    order.machines[5].after = Some(1);
    let rows = matrix(&order, &[], Effort::QUICK).rows;
    // Tier 1, then four at once, then the one that waits: three boots in a row.
    assert_eq!(rows[0].time.0, 1000 * (15 + 6 + 3 * 60));
}

#[test]
fn a_machine_on_its_way_is_counted_at_both_ends_and_restarts_from_one() {
    let mut small = read("cluster eider\nhost 1 64\nhost 2 64\nhost 3 64\nmachine 11 db 30 on 1");
    small.alter(|e| {
        let mut m = (*e.machines[&MachineId(11)]).clone();
        m.arriving = Some(zastrugi_core::ids::HostId(2));
        e.put(zastrugi_core::estate::Fact::Machine(m.into()));
    });
    let answer = answer(&small);
    assert_eq!(answer.table.machines.len(), 2);
    assert_eq!(answer.matrix.rows[0].failure.restarted.len(), 1);
    assert_eq!(
        answer.matrix.rows[1].failure.restarted.len(),
        0,
        "the copy on its way is nobody's loss"
    );
}

#[test]
fn that_not_two_hosts_may_fail_carries_its_proof() {
    let small = read(
        "cluster a\nhost 1 128\nhost 2 128\nhost 3 128\nmachine 7 db 70 on 1\nmachine 8 web 40 on 2\nmachine 9 dns 70 on 3",
    );
    let cluster = &small.view.estate.clusters[&ClusterId(901)];
    let answer = Survival::of(&small.view, cluster).with_pairs();
    assert!(
        answer.sentence().contains("not two") || answer.sentence().contains("two only"),
        "{}",
        answer.sentence()
    );
    let pairs = answer.matrix.pairs.as_ref().unwrap();
    let example = pairs.counterexample.as_ref().unwrap();
    assert_eq!(example.hosts.len(), 2);
    assert!(!example.not_restarted.is_empty() && !example.proof.is_empty());
    assert_witness(&answer.table, example);
}

/// A cluster over three racks that must survive any one of them, whose machines fit on any two hosts less, but not racks.
#[test]
fn a_demand_names_racks_and_what_is_in_no_rack_stands_for_itself() {
    let small = |rack3: &str| {
        let mut small = read(
            "cluster eider\nhost 1 64\nhost 2 64\nhost 3 64\nhost 4 64
             machine 11 a 40 on 1\nmachine 12 b 24 on 2\nmachine 13 c 22 on 2\nmachine 14 d 12 on 3\nmachine 15 e 6 on 3",
        );
        for (host, rack) in [(1, "a1"), (2, "a1"), (3, rack3), (4, rack3)] {
            if !rack.is_empty() {
                small.alter_host(host, |h| drop(h.labels.insert("rack".into(), rack.into())));
            }
        }
        small
    };
    let demand = |racks: bool| Demand {
        failures: 1,
        domains: [racks, false, false],
        enforced: true,
    };
    let said = |small: &Small, racks: bool| {
        let cluster = Cluster {
            demand: demand(racks),
            ..Cluster::clone(&small.view.estate.clusters[&ClusterId(901)])
        };
        let answer = Survival::of(&small.view, &cluster);
        let weakest = answer.weakest(&cluster).unwrap().domain.words();
        (
            answer.meets(&cluster),
            answer.sentence_of(&cluster),
            weakest,
        )
    };
    let two = small("b2");
    assert!(said(&two, false).0, "{:?}", said(&two, false));
    let (meets, sentence, weakest) = said(&two, true);
    assert!(
        !meets,
        "the three of a1 find no place on what is left of b2"
    );
    assert!(
        sentence.ends_with("; any one rack but rack a1"),
        "{sentence}"
    );
    assert_eq!(weakest, "rack a1");
    // Nobody says in which rack the others are: each counts by itself.
    let (_, sentence, _) = said(&small(""), true);
    assert!(sentence.ends_with("; not rack a1"), "{sentence}");
    assert_eq!(demand(true).words(), "1 host failure and any one rack");
}

/// A host is lost; stopping or shrinking one of its machines would help, and nobody can do it.
#[test]
fn nothing_is_proposed_of_a_machine_whose_host_is_gone() {
    let mut table = Table {
        hosts: ["a", "b", "c"].map(|n| host(n, 10)).to_vec(),
        machines: vec![
            machine("x", 9, 4, 0),
            machine("y", 2, 1, 1),
            machine("z", 2, 1, 2),
        ],
        ..Table::default()
    };
    table.hosts[0].gone = true;
    table.hosts[0].closed = Some("it is gone".into());
    for row in &mut table.machines {
        row.needs[SIZES] = row.needs[MEMORY];
    }
    let answer = Survival::from(table, vec![], false);
    assert_eq!(answer.matrix.headroom, 0, "x finds no place");
    match answer.raise() {
        Raise::Stop { machine } | Raise::Shrink { machine, .. } | Raise::Move { machine, .. } => {
            assert_ne!(machine, 0, "x can't be told anything");
        }
        _ => {}
    }
}
