//! Fit, rule by rule, at the figures where an answer turns (rules, section 1). Figures are reckoned by hand beside them.

use std::collections::BTreeSet;
use zastrugi_core::{
    finding::Severity,
    ids::{ClusterId, HostId, MachineId},
    placement::{Ask, Ledger, Obstacle, obstacles},
    testkit::read,
};

/// What speaks against machine 7 on host 1.
fn against(host: &str, machine: &str) -> Vec<Obstacle> {
    against_beside(host, "", machine)
}

/// The same with other machines there.
fn against_beside(host: &str, others: &str, machine: &str) -> Vec<Obstacle> {
    let small = read(&format!(
        "cluster eider\nhost 1 {host}\n{others}\nmachine 7 new {machine}"
    ));
    let estate = &small.view.estate;
    let ledger = Ledger::of(
        &small.view,
        estate.hosts_in(ClusterId(901)).cloned(),
        &BTreeSet::from([MachineId(7)]),
    );
    let row = ledger.rows().find(|r| r.host.id == HostId(1)).unwrap();
    obstacles(Ask {
        machine: &estate.machines[&MachineId(7)],
        row,
        cluster: estate.clusters.get(&ClusterId(901)).map(|c| &**c),
        estate,
    })
}

fn words(found: &[Obstacle]) -> Vec<String> {
    let one = |o: &Obstacle| format!("{}: {}", o.severity().word(), o.words());
    found.iter().map(one).collect()
}

#[test]
fn a_machine_within_all_limits_meets_nothing() {
    assert_eq!(against("256", "16 off"), []);
}

#[test]
fn memory_is_refused_one_step_after_the_last_that_fits() {
    // 64 GiB less 4 GiB and 2 % (1.28 GiB) are 58.72 GiB. The machine takes 128 + 16 + 16 + 32 MiB (0.1875 GiB) and
    // 0.4 % besides its own: 58.2 * 1.004 + 0.1875 = 58.62 fit; 59 * 1.004 + 0.1875 = 59.42 don't.
    assert_eq!(against("64", "58 off"), []);
    let found = against("64", "59 off");
    assert!(
        matches!(found[..], [Obstacle::Memory { needs, free, .. }] if needs > free),
        "{found:?}"
    );
    assert!(found[0].stops());
}

#[test]
fn what_others_hold_is_not_free_and_what_they_could_use_is_promised_once() {
    // 128 GiB less 6.56 are 121.44 usable. Machine 8 keeps 20 of 100 GiB; 60 more fit, but sizes are then 160 / 121.44.
    let found = against_beside("128", "machine 8 there 100 on 1 kept=20", "60 off");
    assert_eq!(
        words(&found),
        ["mind: memory would be promised 1.31 times over"]
    );
    let found = against_beside("128", "machine 8 there 130 on 1 kept=20", "60 off");
    assert_eq!(
        words(&found),
        ["stop: memory would be promised 1.56 times over"]
    );
    let found = against_beside("128", "machine 8 there 80 on 1", "60 off");
    assert!(
        found.iter().any(|o| matches!(o, Obstacle::Memory { .. })),
        "{found:?}"
    );
}

#[test]
fn a_machine_that_is_off_holds_nothing_on_any_host() {
    assert_eq!(
        against_beside("128", "machine 8 resting 110 off", "100 off"),
        []
    );
}

#[test]
fn vcpus_against_cores_then_threads() {
    assert_eq!(against("256 cores=8", "16 off vcpus=8"), []);
    assert_eq!(
        words(&against("256 cores=8", "16 off vcpus=9")),
        ["mind: 9 vCPUs on 8 cores"]
    );
    assert_eq!(
        words(&against("256 cores=8", "16 off vcpus=16")),
        ["mind: 16 vCPUs on 8 cores"]
    );
    assert_eq!(
        words(&against("256 cores=8", "16 off vcpus=17")),
        ["stop: 17 vCPUs, but only 16 hardware threads"]
    );
}

#[test]
fn the_ratio_of_vcpus_to_cores_minds_above_four_and_stops_above_eight() {
    let beside = |n: u32| format!("machine 8 there 16 on 1 vcpus={n}");
    assert_eq!(
        against_beside("256 cores=8", &beside(24), "16 off vcpus=8"),
        []
    );
    let found = against_beside("256 cores=8", &beside(25), "16 off vcpus=8");
    assert_eq!(words(&found), ["mind: 4.12 vCPUs per core"]);
    let found = against_beside("256 cores=8", &beside(57), "16 off vcpus=8");
    assert_eq!(words(&found), ["stop: 8.12 vCPUs per core"]);
}

#[test]
fn wider_than_a_numa_node_is_worth_a_thought_and_one_node_never_is() {
    assert_eq!(against("256 cores=32 numa=2", "16 off vcpus=16"), []);
    let found = against("256 cores=32 numa=2", "16 off vcpus=17");
    assert_eq!(
        words(&found),
        ["mind: wider than one NUMA node (16 cores, 128\u{a0}GiB)"]
    );
    let found = against("256 cores=32 numa=2", "129 off");
    assert!(
        matches!(found[..], [Obstacle::Numa { .. }]),
        "larger than its memory: {found:?}"
    );
    assert_eq!(against("256 cores=32", "129 off vcpus=32"), []);
}

#[test]
fn processors_that_can_less_or_come_from_elsewhere_are_refused() {
    // The fixture's cluster starts its machines at v2 of the maker Korund.
    assert_eq!(against("256 level=v2", "16 off"), []);
    assert_eq!(
        words(&against("256 level=v1", "16 off")),
        ["stop: its CPU is x86-64-v1, the cluster asks for x86-64-v2"]
    );
    assert_eq!(
        words(&against("256 maker=Sealand", "16 off")),
        ["stop: its CPU is from Sealand, the cluster's from Korund"]
    );
}

#[test]
fn newer_virtual_hardware_than_the_host_knows_is_refused() {
    assert_eq!(against("256 hardware=3", "16 off hardware=3"), []);
    assert_eq!(
        words(&against("256 hardware=2", "16 off hardware=3")),
        ["stop: it runs virtual hardware up to 2, the machine has 3"]
    );
}

#[test]
fn two_of_one_group_never_meet_and_a_stopped_one_is_no_neighbour() {
    let found = against_beside("256", "machine 8 web 16 on 1 apart=g", "16 off apart=g");
    assert_eq!(
        words(&found),
        ["stop: another machine of “g”, which are kept apart, is there"]
    );
    assert_eq!(
        against_beside("256", "machine 8 web 16 on 1 apart=f", "16 off apart=g"),
        []
    );
    assert_eq!(
        against_beside("256", "machine 8 web 16 off apart=g", "16 off apart=g"),
        []
    );
}

#[test]
fn every_rule_is_evaluated_not_only_the_first() {
    let found = against(
        "32 cores=4 level=v1 maker=Sealand hardware=2 down",
        "64 off vcpus=40 hardware=3",
    );
    let stops = found.iter().filter(|o| o.severity() == Severity::Stop);
    assert_eq!(
        stops.count(),
        8,
        "open, memory, overcommit, threads, ratio, level, maker, hardware: {:?}",
        words(&found)
    );
    // Each names the field that a person would change.
    for obstacle in &found {
        let finding = obstacle.finding("new", "h1");
        assert!(finding.field.is_some(), "{}", finding.text);
        assert!(finding.text.starts_with("new on h1: "), "{}", finding.text);
    }
}
