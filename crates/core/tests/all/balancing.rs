//! Balance: by hand, and that its moves can be carried out one after the other.

use proptest::prelude::*;
use zastrugi_core::{
    availability::{CPU, Effort, HostRow, MEMORY, MachineRow, Table, VCPUS, evacuate, place},
    balance::{Measure, balance, imbalance},
};

const MEASURE: Measure = Measure {
    cpu: VCPUS,
    memory: MEMORY,
    must_fit: CPU,
};

fn table(hosts: &[u64], machines: &[(u64, Option<usize>)]) -> Table {
    let room = |gib: u64| [gib, u64::MAX / 8, 64_000, u64::MAX / 8, u64::MAX / 8];
    let host = |(n, gib): (usize, &u64)| HostRow {
        name: format!("h{n}"),
        room: room(*gib),
        ..HostRow::default()
    };
    let machine = |(n, (gib, at)): (usize, &(u64, Option<usize>))| MachineRow {
        name: format!("m{n}"),
        needs: [*gib, 0, 1000, 0, 0],
        kept: *gib,
        tier: 2,
        at: *at,
        ..MachineRow::default()
    };
    Table {
        hosts: hosts.iter().enumerate().map(host).collect(),
        machines: machines.iter().enumerate().map(machine).collect(),
        ..Table::default()
    }
}

#[test]
fn one_move_by_hand() {
    // 60 % and 20 %: the mean is 40 %, so both are 20 % off. Moving the 20 makes both 40 %.
    let t = table(&[100, 100], &[(40, Some(0)), (20, Some(0)), (20, Some(1))]);
    assert!((imbalance(&t, MEASURE) - 0.20).abs() < 1e-9);
    let b = balance(&t, MEASURE, 3);
    assert_eq!(b.moves, [(1, 0, 1)], "no more than helps");
    assert!(b.after < 1e-9);
}

#[test]
fn a_swap_is_found_where_no_single_move_helps() {
    let t = table(
        &[100, 100],
        &[(60, Some(0)), (30, Some(1)), (20, Some(0)), (30, Some(1))],
    );
    let (one, two) = (balance(&t, MEASURE, 1), balance(&t, MEASURE, 2));
    assert!(two.after <= one.after, "{one:?} {two:?}");
}

#[test]
fn a_machine_that_is_kept_apart_is_not_moved_beside_its_like() {
    let mut t = table(&[100, 100], &[(50, Some(0)), (10, Some(0)), (5, Some(1))]);
    t.machines[1].apart = vec![1];
    t.machines[2].apart = vec![1];
    let moved = balance(&t, MEASURE, 1).moves;
    assert!(moved.iter().all(|m| m.0 != 1), "{moved:?}");
}

proptest! {
    #[test]
    fn every_move_has_room_when_it_comes_and_what_is_said_is_so(
        hosts in prop::collection::vec(50u64..100, 2..5),
        sizes in prop::collection::vec((1u64..40, 0usize..4), 0..12),
        moves in 0usize..4,
    ) {
        let n = hosts.len();
        let machines: Vec<_> = sizes.iter().map(|(gib, at)| (*gib, Some(at % n))).collect();
        let t = table(&hosts, &machines);
        let b = balance(&t, MEASURE, moves);
        prop_assert!(b.moves.len() <= moves && b.after <= b.before + 1e-12);
        let mut now = t.clone();
        for (m, from, to) in &b.moves {
            prop_assert_eq!(now.machines[*m].at, Some(*from));
            now.machines[*m].at = Some(*to);
            let used: u64 = now.on(*to).map(|i| now.machines[i].needs[MEMORY]).sum();
            prop_assert!(used <= now.hosts[*to].room[MEMORY], "no room when it comes");
        }
        prop_assert!((imbalance(&now, MEASURE) - b.after).abs() < 1e-9);
    }

    #[test]
    fn who_is_placed_or_evacuated_has_room_and_nobody_is_forgotten(
        hosts in prop::collection::vec(20u64..60, 2..5),
        sizes in prop::collection::vec((1u64..30, prop::option::of(0usize..4)), 0..10),
    ) {
        let n = hosts.len();
        let machines: Vec<_> = sizes.iter().map(|(gib, at)| (*gib, at.map(|a| a % n))).collect();
        let t = table(&hosts, &machines);
        for (p, expected) in [
            (place(&t, Effort::QUICK), t.machines.iter().filter(|m| m.at.is_none()).count()),
            (evacuate(&t, 0, Effort::QUICK), t.on(0).count()),
        ] {
            prop_assert_eq!(p.placed.len() + p.left.len(), expected);
            for host in 0..n {
                let coming: u64 = p.placed.iter().filter(|(_, h)| *h == host).map(|(m, _)| t.machines[*m].needs[MEMORY]).sum();
                let there: u64 = t.on(host).map(|m| t.machines[m].needs[MEMORY]).sum();
                prop_assert!(coming == 0 || coming + there <= t.hosts[host].room[MEMORY]);
            }
        }
    }
}
