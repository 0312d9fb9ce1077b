//! Hosts that leave their cluster for good: in which order, and what stands against it.

use crate::{moving::networked, put, worse};
use std::collections::BTreeSet;
use zastrugi_core::{
    estate::Estate,
    ids::{ClusterId, HostId, VolumeId},
    rooms::{
        Assessment, Event, Proposal, Step, clusters, hosts, keepers,
        leaving::{self, Ask, Leave},
        networks, storage,
    },
    testkit::{Small, read},
};

const THREE: &str =
    "cluster eider careless\nhost 1 256\nhost 2 256\nhost 3 256\nmachine 7 db 64 on 1";

fn leave(hosts: &[u64]) -> Proposal {
    Proposal::Leaving(Ask::Leave(Leave {
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        slow: false,
        force: false,
        wire: false,
        stop: false,
    }))
}

fn keep(small: &mut Small, hosts: &[u64]) {
    small.fold(&[Event::Keepers(keepers::Event::Named {
        cluster: ClusterId(901),
        volume: VolumeId(951),
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        last: 0,
    })]);
}

fn ours(step: &Step) -> &leaving::Step {
    match step {
        Step::Leaving(step) => step,
        other => panic!("{other:?} is of another room"),
    }
}

/// All that a step waits for, however far back.
fn before(said: &Assessment, step: usize) -> BTreeSet<usize> {
    let mut all = BTreeSet::new();
    let mut next = said.steps()[step].after.clone();
    while let Some(at) = next.pop() {
        if all.insert(at) {
            next.extend(&said.steps()[at].after);
        }
    }
    all
}

fn find(said: &Assessment, is: impl Fn(&leaving::Step) -> bool) -> usize {
    let found = said.steps().iter().position(|p| is(ours(&p.step)));
    found.unwrap_or_else(|| panic!("no such step in {:#?}", said.steps()))
}

/// If this fails, a host is cut off from its volume while a machine still runs on it, or is let go while it still has something.
#[test]
fn it_is_emptied_first_then_cut_off_then_handed_back() {
    let mut small = networked(THREE, 10_000);
    keep(&mut small, &[1, 2]);
    let said = put(&small, &leave(&[1]));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let moved = find(&said, |s| matches!(s, leaving::Step::Move(_)));
    let kept = find(
        &said,
        |s| matches!(s, leaving::Step::Keeper(keepers::Step::Take { host, .. }) if host.0 == 1),
    );
    let unmounted = find(
        &said,
        |s| matches!(s, leaving::Step::Storage(storage::Step::Unmount { host, .. }) if host.0 == 1),
    );
    let left = find(
        &said,
        |s| matches!(s, leaving::Step::Host(hosts::Step::Leave { host }) if host.0 == 1),
    );
    let released = find(&said, |s| {
        matches!(s, leaving::Step::Host(hosts::Step::Release { .. }))
    });
    assert!(before(&said, unmounted).is_superset(&[moved, kept].into()));
    assert!(before(&said, left).contains(&unmounted));
    assert!(before(&said, released).contains(&left));
    // The network over which it is told of all this stays until the end.
    let dropped = said.steps().iter().filter_map(|p| match ours(&p.step) {
        leaving::Step::Network(networks::Step::Drop { network, .. }) => Some(*network),
        _ => None,
    });
    for network in dropped {
        let role = small.view.estate.networks[&network].role;
        assert_ne!(role, zastrugi_core::estate::NetRole::Management);
    }
    let named = said.steps().iter().find_map(|p| match ours(&p.step) {
        leaving::Step::Keeper(keepers::Step::Name { hosts, .. }) => Some(hosts.clone()),
        _ => None,
    });
    assert!(!named.unwrap().contains(&HostId(1)));
}

/// If this fails, somebody takes away the room that machines were promised, or the last host from under them.
#[test]
fn the_last_host_and_the_one_that_is_promised_stay() {
    let promised = "cluster eider\nhost 1 256\nhost 2 256\nmachine 7 db 200 on 1";
    let small = networked(promised, 10_000);
    let said = worse(&put(&small, &leave(&[2]))).join("\n");
    assert!(said.contains("stop: eider"), "{said}");
    let small = read("cluster eider careless\nhost 1 256\nmachine 7 db 64 off");
    let said = worse(&put(&small, &leave(&[1]))).join("\n");
    assert!(
        said.contains("stop: These are all hosts of eider, and it has 1 machines."),
        "{said}"
    );
    assert!(said.contains("nobody would mount"), "{said}");
    let two = read(
        "cluster eider careless\nhost 1 256\ncluster smew careless\nhost 2 256\nhost 3 64 loose",
    );
    let says = |hosts: &[u64]| worse(&put(&two, &leave(hosts))).join("\n");
    assert!(says(&[1, 2]).contains("of different clusters"));
    assert!(says(&[3]).contains("h3 is in no cluster"));
    assert!(says(&[]).contains("No host is selected"));
}

/// If this fails, a cluster of which nothing is left stays in every list for ever.
#[test]
fn with_its_last_host_an_empty_cluster_is_dissolved() {
    let mut small = read("cluster eider careless\nhost 1 256");
    small.alter(|e: &mut Estate| {
        e.remove(zastrugi_core::estate::Kind::Volume, 951);
    });
    small.alter_host(1, |h| h.mounts.clear());
    let said = put(&small, &leave(&[1]));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let last = said.steps().last().unwrap();
    assert!(matches!(
        ours(&last.step),
        leaving::Step::Cluster(clusters::Step::Dissolve { .. })
    ));
    assert!(
        worse(&said)
            .iter()
            .any(|w| w.contains("is dissolved with its last host"))
    );
}
