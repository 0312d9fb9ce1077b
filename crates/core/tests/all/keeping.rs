//! Keepers: where they are put, what is said against it, what they are given, and what the manager makes of their journal.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    epoch::Epoch,
    estate::{Condition, Fact, FailureStage, Host, Keeper, Keeping, MachineState},
    guard::{Act, Line, Note, Plan, Proof, Told},
    ids::{ClusterId, HostId, MachineId, VolumeId},
    loads::MachineLoad,
    moment::{Moment, Span},
    papers::Papers,
    recounting::read_line,
    rooms::{
        Event, Plans, Proposal, Step, hosts, keepers,
        keepers::{Ask, Place, choose},
    },
    testkit::{Small, read},
    units::{Bytes, Mhz},
};

const EIDER: ClusterId = ClusterId(901);
const SLAB: VolumeId = VolumeId(951);
const FIVE: &str = "cluster eider\nhost 1 256\nhost 2 256\nhost 3 256\nhost 4 256\nhost 5 256
    machine 7 db 64 on 1 tier=1\nmachine 8 web 16 on 1 tier=3\nmachine 10 dns 8 on 2";

fn in_rack(small: &mut Small, racks: &[(u64, &str)]) {
    for (host, rack) in racks {
        small.alter_host(*host, |h| {
            h.labels.insert("rack".into(), (*rack).into());
        });
    }
}

fn keep(small: &mut Small, hosts: &[u64]) {
    small.fold(&[Event::Keepers(keepers::Event::Named {
        cluster: EIDER,
        volume: SLAB,
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        last: 0,
    })]);
}

fn place(hosts: &[u64]) -> Proposal {
    Proposal::Keepers(Ask::Place(Place {
        cluster: EIDER,
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
    }))
}

fn chosen(small: &Small) -> Vec<u64> {
    let cluster = &small.view.estate.clusters[&EIDER];
    let all = choose(&small.view.estate, cluster, SLAB);
    all.into_iter().map(|h| h.0).collect()
}

/// If this fails, one rack takes all keepers with it although another one was there.
#[test]
fn they_are_put_on_hosts_that_fail_apart_and_serve() {
    let mut small = read(FIVE);
    assert_eq!(chosen(&small), [1, 2, 3]);
    in_rack(
        &mut small,
        &[(1, "a"), (2, "a"), (3, "a"), (4, "b"), (5, "c")],
    );
    assert_eq!(chosen(&small), [1, 4, 5]);
    small.alter_host(4, |h| {
        h.condition = Condition::Lost {
            since: Moment(1),
            why: "silent".into(),
        };
    });
    small.alter_host(5, |h| {
        h.mounts.clear();
    });
    assert_eq!(
        chosen(&small),
        [1, 2, 3],
        "who does not serve is not chosen"
    );
    keep(&mut small, &[3]);
    assert_eq!(chosen(&small)[0], 3, "who has one keeps it");
}

#[test]
fn two_hosts_have_a_witness_of_another_cluster() {
    let mut small =
        read("cluster eider\nhost 1 64\nhost 2 64\ncluster tern\nhost 7 64\nhost 8 64\nhost 9 64");
    assert_eq!(chosen(&small), [1, 2, 7]);
    let said = put(&small, &place(&[1, 2, 7]));
    assert_eq!(worse(&said), Vec::<String>::new());
    small.alter_host(7, |h| h.site = zastrugi_core::ids::SiteId(900));
    small.alter_host(8, |h| h.site = zastrugi_core::ids::SiteId(999));
    assert_eq!(chosen(&small), [1, 2, 8], "one at another site is better");
    small.alter_host(9, |h| h.cluster = None);
    assert_eq!(chosen(&small), [1, 2, 8], "that is more than to be alone");
    small.alter_host(9, |h| h.site = zastrugi_core::ids::SiteId(999));
    assert_eq!(chosen(&small), [1, 2, 9], "one with nothing else on it");
    let said = put(&small, &place(&[1, 2, 9]));
    assert_eq!(worse(&said), Vec::<String>::new());
}

/// If this fails, the site that is lost takes every keeper with it, although the cluster is built to survive that.
#[test]
fn two_sites_have_one_each_and_one_at_a_third() {
    let mut small =
        read("cluster eider\nhost 1 64\nhost 2 64\nhost 3 64\nhost 4 64\ncluster tern\nhost 7 64");
    for id in [3, 4] {
        small.alter_host(id, |h| h.site = zastrugi_core::ids::SiteId(77));
    }
    small.alter(|e| {
        let mut eider = (*e.clusters[&EIDER]).clone();
        eider.kind = zastrugi_core::estate::ClusterKind::TwoSites;
        e.put(Fact::Cluster(eider.into()));
    });
    assert_eq!(
        chosen(&small),
        [1, 3, 2],
        "nobody is at a third: the third is at either"
    );
    small.alter_host(7, |h| h.site = zastrugi_core::ids::SiteId(999));
    assert_eq!(chosen(&small), [1, 3, 7]);
    let one_sided = worse(&put(&small, &place(&[1, 2]))).join("\n");
    assert!(
        one_sided.contains("mind: All of them are at Quayside: when it is lost"),
        "{one_sided}"
    );
    let said = worse(&put(&small, &place(&[1, 3, 7])));
    assert!(said.is_empty(), "{said:?}");
}

#[test]
fn what_is_said_against_a_place_is_said_and_the_steps_are_in_order() {
    let mut small = read(FIVE);
    in_rack(&mut small, &[(1, "a"), (2, "a"), (3, "a")]);
    let said = worse(&put(&small, &place(&[1, 2, 3])));
    assert!(
        said.iter()
            .any(|l| l.contains("rack a: they fail together")),
        "{said:?}"
    );
    let said = worse(&put(&small, &place(&[4])));
    assert!(said.iter().any(|l| l.contains("One keeper")), "{said:?}");
    keep(&mut small, &[1, 2, 3]);
    let said = worse(&put(&small, &place(&[1, 2, 3])));
    assert!(
        said.iter().any(|l| l.contains("on these hosts already")),
        "{said:?}"
    );
    small.alter_host(3, |h| {
        h.condition = Condition::Lost {
            since: Moment(1),
            why: "silent".into(),
        };
    });
    let moved = put(&small, &place(&[1, 4]));
    let steps: Vec<&Step> = moved.steps().iter().map(|s| &s.step).collect();
    assert!(
        matches!(steps[0], Step::Keepers(keepers::Step::Name { hosts, .. }) if hosts.len() == 2),
        "{steps:?}"
    );
    assert!(matches!(
        steps[1],
        Step::Keepers(keepers::Step::Give {
            host: HostId(4),
            ..
        })
    ));
    assert!(matches!(
        steps[2],
        Step::Keepers(keepers::Step::Take {
            host: HostId(2),
            ..
        })
    ));
    assert_eq!(steps.len(), 3, "nothing is asked of a host that is silent");
    assert!(moved.steps()[1].after == [0] && moved.steps()[2].after == [0]);
    let none = worse(&put(&small, &place(&[])));
    assert!(
        none.iter()
            .any(|l| l.contains("while it or its database is down, nothing restarts")),
        "{none:?}"
    );
    let stop = worse(&put(&small, &place(&[3, 4])));
    assert!(
        !stop.iter().any(|l| l.starts_with("stop")),
        "one that had it may keep it: {stop:?}"
    );
}

/// If this fails, a host is handed back with the keeper on it, or taken out of service without a word of that.
#[test]
fn a_host_with_a_keeper_is_not_let_go_unheard() {
    let mut small = read(FIVE);
    keep(&mut small, &[3, 4, 5]);
    let ask = Proposal::Hosts(hosts::Ask::HandBack {
        hosts: vec![HostId(5)],
    });
    let said = worse(&put(&small, &ask));
    assert!(
        said.iter().any(|l| l.contains("A keeper of eider is on")),
        "{said:?}"
    );
    let ask = Proposal::Maintenance(zastrugi_core::rooms::maintenance::Ask::Empty(
        zastrugi_core::rooms::maintenance::Empty {
            hosts: vec![HostId(4), HostId(5)],
            reason: "fans".into(),
            lasts: None,
            slow: false,
            force: false,
            wire: false,
            stop: false,
            then: zastrugi_core::rooms::maintenance::Afterwards::StaysOn,
        },
    ));
    let said = worse(&put(&small, &ask));
    assert!(
        said.iter()
            .any(|l| l.contains("Of the keepers of eider one is left")),
        "{said:?}"
    );
}

/// If this fails, keepers lose what they agree by to somebody who clears a volume up.
#[test]
fn the_volume_on_which_they_agree_is_not_handed_back() {
    let mut small = read("cluster eider\nhost 1 256\nhost 2 256");
    let ask = Proposal::Storage(zastrugi_core::rooms::storage::Ask::GiveVolume { volume: SLAB });
    let said = |small: &Small| worse(&put(small, &ask));
    assert!(!said(&small).iter().any(|l| l.contains("agree on")));
    keep(&mut small, &[1]);
    assert!(
        said(&small)
            .iter()
            .any(|l| l.contains("The keepers of eider agree on"))
    );
}

fn papers(small: &Small) -> Papers {
    let epoch = Epoch {
        number: 3,
        history: uuid::Uuid::nil(),
    };
    Papers::of(&small.view, EIDER, epoch, SLAB).unwrap()
}

/// If this fails, a keeper plans otherwise than the manager would have.
#[test]
fn a_keeper_s_plan_is_the_manager_s() {
    let mut small = read(FIVE);
    keep(&mut small, &[1, 2, 3]);
    let loads = Arc::make_mut(&mut small.view.loads);
    let load = MachineLoad {
        cpu: Mhz(9_000),
        active: Bytes(7 << 30),
        writes: None,
        disk: None,
    };
    loads.typical.insert(MachineId(7), load);
    let pace = Arc::make_mut(&mut small.view.pace);
    for _ in 0..8 {
        pace.note("guest answers", Span::secs(15), Span::secs(40));
        pace.note("something else", Span::secs(1), Span::secs(2));
    }
    let given = papers(&small);
    let text = serde_json::to_string(&given).unwrap();
    let read: Papers = serde_json::from_str(&text).unwrap();
    let view = read.view(&[]).unwrap();
    let plan = |view: &zastrugi_core::view::View| {
        let cluster = &view.estate.clusters[&EIDER];
        Plan::of(view, cluster, given.stamp(), small.now)
    };
    assert_eq!(plan(&view), plan(&small.view));
    assert!(plan(&view).charges[&MachineId(7)].boots_in.is_some());
    assert!(!text.contains("something else"), "no more than is wanted");
}

fn line(index: u64, at: i64, told: Told, on: &[u64]) -> Line {
    Line {
        index,
        at: Moment(at),
        told,
        on: on.iter().map(|m| MachineId(*m)).collect(),
        foretold: (index == 1).then(|| Span::secs(77)),
    }
}

/// Host 1 failed while the manager was gone; a keeper started what ran there on 2, one after the other.
fn journal() -> Vec<Line> {
    let one = HostId(1);
    let note = |n| Told::Note(n);
    let starts = |m| {
        note(Note::Starts {
            machine: MachineId(m),
            from: one,
            to: HostId(2),
        })
    };
    let up = |m| {
        note(Note::Up {
            machine: MachineId(m),
            from: one,
            on: HostId(2),
            took: Span::secs(10),
        })
    };
    let judged = Note::Judged {
        host: one,
        since: Moment(10_000),
        evidence: "not heard for 15 s".into(),
        act: Act::Prove,
    };
    let fenced = Note::Fenced {
        host: one,
        proof: Proof::Controller,
    };
    vec![
        line(1, 25_000, note(judged), &[7, 8]),
        line(2, 26_000, note(fenced), &[7, 8]),
        line(3, 27_000, starts(7), &[]),
        line(4, 37_000, up(7), &[]),
        line(5, 38_000, starts(8), &[]),
        line(6, 48_000, up(8), &[]),
    ]
}

fn take_in(small: &mut Small, lines: &[Line]) {
    for line in lines {
        let mut events = read_line(&small.view, &Plans::default(), EIDER, line, &Host::reports);
        events.push(Event::Keepers(keepers::Event::TookIn {
            cluster: EIDER,
            last: line.index,
        }));
        small.fold(&events);
    }
}

/// If this fails, the manager tells a wrong story of what happened without it, or one with the wrong times.
#[test]
fn what_keepers_did_is_told_with_its_times_and_its_machines() {
    let mut small = read(FIVE);
    keep(&mut small, &[3, 4, 5]);
    // By the time the manager looks its machines run elsewhere.
    for id in [7, 8] {
        let mut moved = (*small.view.estate.machines[&MachineId(id)]).clone();
        moved.host = Some(HostId(2));
        moved.generation += 1;
        moved.state = MachineState::Running { guest: true };
        small.alter(|e| e.put(Fact::Machine(moved.into())));
    }
    small.alter_host(1, |h| {
        h.condition = Condition::Lost {
            since: Moment(12_000),
            why: "silent".into(),
        };
    });
    take_in(&mut small, &journal());
    let estate = &small.view.estate;
    let story = estate.failures.values().next().unwrap();
    assert_eq!(
        (story.since, story.fenced),
        (Moment(10_000), Some(Moment(26_000)))
    );
    assert_eq!(
        story.foretold,
        Some(Span::secs(77)),
        "as it was before, not with nothing left there"
    );
    let ups: Vec<_> = story
        .machines
        .iter()
        .map(|m| (m.machine.0, m.started, m.up))
        .collect();
    assert_eq!(
        ups,
        [
            (7, Some(Moment(27_000)), Some(Moment(37_000))),
            (8, Some(Moment(38_000)), Some(Moment(48_000)))
        ]
    );
    assert!(matches!(
        estate.hosts[&HostId(1)].condition,
        Condition::Off {
            since: Moment(26_000),
            ..
        }
    ));
    assert_eq!(
        estate.machines[&MachineId(7)].host,
        Some(HostId(2)),
        "nothing is taken from where it runs"
    );
    assert_eq!(
        estate.clusters[&EIDER].keeping.as_ref().map(|k| k.taken),
        Some(6)
    );
}

/// If this fails, a host that serves again is taken for off because of an old journal.
#[test]
fn of_a_host_that_serves_again_only_the_story_is_told() {
    let mut small = read(FIVE);
    keep(&mut small, &[3, 4, 5]);
    take_in(&mut small, &journal());
    let estate = &small.view.estate;
    assert_eq!(estate.hosts[&HostId(1)].condition, Condition::Steady);
    assert_eq!(estate.machines[&MachineId(7)].host, Some(HostId(1)));
    let story = estate.failures.values().next().unwrap();
    assert_eq!(story.stage, FailureStage::Fenced);
    assert!(
        zastrugi_core::recounting::is_over(&small.view, story, small.now),
        "and it has an end"
    );
}

/// If this fails, a keeper that takes over from another forgets what that one had begun, or tells twice what the manager knows.
#[test]
fn papers_are_told_on_by_the_journal_from_where_the_manager_had_read() {
    let mut small = read(FIVE);
    keep(&mut small, &[3, 4, 5]);
    small.alter_host(1, |h| {
        h.condition = Condition::Lost {
            since: Moment(12_000),
            why: "silent".into(),
        };
    });
    let lines = journal();
    let view = papers(&small).view(&lines[..2]).unwrap();
    assert!(matches!(
        view.estate.hosts[&HostId(1)].condition,
        Condition::Off { .. }
    ));
    assert_eq!(
        view.estate.machines[&MachineId(7)]
            .fell
            .as_ref()
            .map(|f| f.host),
        Some(HostId(1))
    );
    take_in(&mut small, &lines[..2]);
    let known = papers(&small).view(&lines[..2]).unwrap();
    let story = known.estate.failures.values().next().unwrap();
    assert_eq!(known.estate.failures.len(), 1);
    assert_eq!(
        story.lines.len(),
        small
            .view
            .estate
            .failures
            .values()
            .next()
            .unwrap()
            .lines
            .len()
    );
}

#[test]
fn named_again_on_the_same_volume_they_go_on_where_the_journal_was_read() {
    let mut small = read(FIVE);
    keep(&mut small, &[1, 2]);
    let keeping = |small: &Small| small.view.estate.clusters[&EIDER].keeping.clone();
    small.fold(&[Event::Keepers(keepers::Event::TookIn {
        cluster: EIDER,
        last: 9,
    })]);
    keep(&mut small, &[1, 3]);
    assert_eq!(keeping(&small).unwrap().taken, 9);
    keep(&mut small, &[]);
    assert_eq!(keeping(&small), None);
    small.fold(&[Event::Keepers(keepers::Event::Named {
        cluster: EIDER,
        volume: SLAB,
        hosts: [HostId(1)].into(),
        last: 12,
    })]);
    let expected = Keeping {
        volume: SLAB,
        hosts: [HostId(1)].into(),
        taken: 12,
    };
    assert_eq!(
        keeping(&small),
        Some(expected),
        "what others wrote before is not told again"
    );
    let seen = keepers::Event::Seen {
        host: HostId(1),
        keepers: [(EIDER, Keeper { keeps: true })].into(),
        began: vec![EIDER],
    };
    small.fold(&[Event::Keepers(seen)]);
    let host: &Host = &small.view.estate.hosts[&HostId(1)];
    assert!(host.keepers[&EIDER].keeps);
}
