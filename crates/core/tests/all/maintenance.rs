//! Hosts taken out of service: who goes where, what can't leave and why, and how they come back.

use crate::{
    moving::{fixture, go, networked},
    put, worse,
};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Attached, Condition, Fact, Machine, MachineState, Maintenance, Volume},
    finding::{Finding, Offer},
    guard::{Plan, Stamp},
    ids::{ClusterId, HostId, ImageId, MachineId, RunId, VolumeId},
    loads::{Loads, Writes},
    moment::{Moment, Span},
    placement::{Ledger, choose},
    road::{Urgency, Work},
    rooms::{
        Assessment, Proposal, Step, hosts,
        hosts::HostPower,
        machines, maintenance,
        maintenance::{Afterwards, Ask, Empty, Return},
        moving,
    },
    testkit::Small,
    units::{Bytes, Rate},
};

fn empty(hosts: &[u64], edit: impl FnOnce(&mut Empty)) -> Proposal {
    let mut ask = Empty {
        hosts: hosts.iter().map(|h| HostId(*h)).collect(),
        reason: "new fans".into(),
        lasts: Some(Span::mins(60)),
        slow: false,
        force: false,
        wire: false,
        stop: false,
        then: Afterwards::StaysOn,
    };
    edit(&mut ask);
    Proposal::Maintenance(Ask::Empty(ask))
}

fn back(hosts: &[u64], bring: bool) -> Proposal {
    let hosts = hosts.iter().map(|h| HostId(*h)).collect();
    Proposal::Maintenance(Ask::Return(Return { hosts, bring }))
}

fn says(small: &Small, ask: &Proposal) -> Vec<String> {
    let all = worse(&put(small, ask)).into_iter();
    all.filter(|line| !line.contains("is not connected"))
        .collect()
}

/// (machine, host) of each move, in the order of the plan.
fn moves(said: &Assessment) -> Vec<(u64, u64)> {
    let of = |step: &Step| match step {
        Step::Maintenance(maintenance::Step::Move(moving::Step::Move { machine, to, .. })) => {
            Some((machine.0, to.0))
        }
        _ => None,
    };
    said.steps().iter().filter_map(|p| of(&p.step)).collect()
}

fn host_step(step: &Step) -> Option<&hosts::Step> {
    match step {
        Step::Maintenance(maintenance::Step::Host(step)) => Some(step),
        _ => None,
    }
}

fn alter_machine(small: &mut Small, id: u64, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate| {
        let mut machine = Machine::clone(&estate.machines[&MachineId(id)]);
        change(&mut machine);
        estate.put(Fact::Machine(Arc::new(machine)));
    });
}

fn stop_about(said: &Assessment, subject: &str) -> Finding {
    let stops = said.findings().iter().filter(|f| f.stops());
    stops
        .clone()
        .find(|f| f.subject == subject)
        .cloned()
        .unwrap_or_else(|| panic!("{:?}", worse(said)))
}

#[test]
fn everything_leaves_and_the_host_is_called_empty_only_after_the_last() {
    let mut small = fixture(10_000, 100);
    let ask = empty(&[1], |_| {});
    let said = put(&small, &ask);
    assert_eq!(says(&small, &ask), Vec::<String>::new());
    assert_eq!(
        moves(&said),
        [(7, 2), (8, 3)],
        "the larger first, each to the emptier"
    );
    let last = said.steps().last().unwrap();
    assert!(matches!(
        host_step(&last.step),
        Some(hosts::Step::Vacate { host: HostId(1) })
    ));
    assert_eq!(last.after, [0, 1]);
    let urgencies: Vec<_> = said.steps().iter().map(|p| p.step.urgency()).collect();
    assert_eq!(
        urgencies,
        [Urgency::Maintenance; 3],
        "before ordinary work, behind availability"
    );
    let plan = said.accept().unwrap();
    small.begin(plan);
    let kept = small.view.estate.hosts[&HostId(1)]
        .maintenance
        .clone()
        .unwrap();
    assert_eq!((kept.reason.as_str(), kept.empty), ("new fans", false));
    assert_eq!(kept.until, Some(small.now.plus(Span::mins(60))));
    assert_eq!(kept.had.len(), 2);
}

#[test]
fn nothing_is_put_on_a_host_in_maintenance_and_headroom_does_without_it() {
    let mut small = fixture(10_000, 100);
    let plan = put(&small, &empty(&[2], |_| {})).accept().unwrap();
    small.begin(plan);
    let there = go(&[7], |m| m.to = Some(HostId(2)));
    let stop = stop_about(&put(&small, &there), "db");
    assert!(
        stop.evidence.contains("it is in maintenance"),
        "{}",
        stop.evidence
    );
    assert_eq!(moves_of(&put(&small, &go(&[7], |_| {}))), [(7, 3)]);
    let said = put(&small, &empty(&[3], |_| {}));
    let outlook = said.outlooks().first().unwrap();
    assert_ne!(outlook.before, outlook.after, "only h1 is left in service");
}

/// Of an ordinary move.
fn moves_of(said: &Assessment) -> Vec<(u64, u64)> {
    let of = |step: &Step| match step {
        Step::Moving(moving::Step::Move { machine, to, .. }) => Some((machine.0, to.0)),
        _ => None,
    };
    said.steps().iter().filter_map(|p| of(&p.step)).collect()
}

#[test]
fn several_are_emptied_at_once_and_none_takes_what_another_gives() {
    let small = networked(
        "cluster eider careless\nhost 1 128\nhost 2 128\nhost 3 256\nhost 4 256
        machine 7 a 32 on 1\nmachine 8 b 32 on 2\nmachine 9 c 16 on 2",
        10_000,
    );
    let said = put(&small, &empty(&[1, 2], |_| {}));
    let to: Vec<u64> = moves(&said).into_iter().map(|m| m.1).collect();
    assert_eq!(to.len(), 3);
    assert!(to.iter().all(|h| [3, 4].contains(h)), "{to:?}");
    let vacant: Vec<_> = said
        .steps()
        .iter()
        .filter_map(|p| Some((host_step(&p.step)?.host().0, p.after.len())))
        .collect();
    assert_eq!(vacant, [(1, 1), (2, 2)], "each waits for its own");
}

#[test]
fn a_group_kept_apart_that_is_as_large_as_the_cluster_is_named_and_one_of_it_can_be_stopped() {
    let small = networked(
        "cluster eider careless\nhost 1 256\nhost 2 256
        machine 7 a 16 on 1 apart=web\nmachine 8 b 16 on 2 apart=web\nmachine 9 c 16 on 1",
        10_000,
    );
    let said = put(&small, &empty(&[1], |_| {}));
    let stop = stop_about(&said, "a");
    assert!(
        stop.text.contains("No other host of eider takes a"),
        "{}",
        stop.text
    );
    assert!(
        stop.evidence.contains("web"),
        "the rule is named: {}",
        stop.evidence
    );
    assert_eq!(
        stop.offers,
        [Offer::Rules(ClusterId(901)), Offer::Stop(MachineId(7))]
    );
    assert_eq!(stop.field.as_deref(), Some("stop"));
    let mut small = small;
    let ask = empty(&[1], |a| a.stop = true);
    let said = put(&small, &ask);
    assert!(!said.blocked(), "{:?}", worse(&said));
    assert_eq!(moves(&said), [(9, 2)]);
    let interrupted: Vec<_> = said.interrupted().iter().map(|m| m.1.clone()).collect();
    assert_eq!(interrupted, ["a"], "it is down meanwhile, and that is said");
    let last = said.steps().last().unwrap();
    let before: Vec<_> = last
        .after
        .iter()
        .map(|n| said.steps()[*n].title.clone())
        .collect();
    assert_eq!(before, ["Wait until a is off", "Move c from h1 to h2"]);
    small.begin(said.accept().unwrap());
    let kept = small.view.estate.hosts[&HostId(1)]
        .maintenance
        .clone()
        .unwrap();
    assert_eq!(kept.stopped.iter().map(|m| m.0).collect::<Vec<_>>(), [7]);
}

/// A volume that only one host has.
fn local(small: &mut Small, host: u64) -> VolumeId {
    let id = VolumeId(77);
    small.alter(|e| {
        let shared = e.volumes.values().next().unwrap();
        let own = Volume {
            id,
            name: "local".into(),
            uid: "local".into(),
            ..Volume::clone(shared)
        };
        e.put(Fact::Volume(Arc::new(own)));
    });
    small.alter_host(host, |h| {
        let paths = h.mounts.values().next().unwrap().clone();
        h.mounts.insert(id, paths);
    });
    id
}

#[test]
fn disks_and_images_that_the_others_do_not_reach_are_told_apart() {
    let mut small = fixture(10_000, 100);
    let own = local(&mut small, 1);
    alter_machine(&mut small, 7, |m| m.disks[0].volume = own);
    alter_machine(&mut small, 8, |m| {
        m.boot.attached = Some(Attached {
            image: ImageId(5),
            volume: own,
        });
    });
    let said = put(&small, &empty(&[1], |_| {}));
    assert_eq!(
        stop_about(&said, "db").offers,
        [Offer::MoveDisks(MachineId(7)), Offer::Stop(MachineId(7))]
    );
    assert_eq!(
        stop_about(&said, "web").offers,
        [Offer::TakeOut(MachineId(8)), Offer::Stop(MachineId(8))]
    );
}

#[test]
fn who_is_in_the_middle_of_something_is_waited_for_and_who_writes_too_fast_is_offered_all_ways() {
    let mut small = fixture(1000, 130);
    let said = put(&small, &empty(&[1], |_| {}));
    let stop = stop_about(&said, "db");
    assert!(stop.text.contains("writes faster than the line carries"));
    assert_eq!(
        (stop.field.as_deref(), stop.offers),
        (Some("slow"), vec![Offer::Stop(MachineId(7))])
    );
    alter_machine(&mut small, 8, |m| {
        m.state = MachineState::Starting("kernel".into())
    });
    alter_machine(&mut small, 7, |m| {
        m.state = MachineState::Paused("its volume is full".into())
    });
    let said = says(&small, &empty(&[1], |_| {}));
    assert_eq!(
        said,
        [
            "stop: db is halted by its host; it can't be moved, only stopped.",
            "stop: web is starting."
        ]
    );
    small.alter_host(1, |h| {
        h.condition = Condition::Lost {
            since: Moment(5),
            why: "silent".into(),
        }
    });
    assert!(says(&small, &empty(&[1], |_| {}))[0].contains("what is on it can't be moved"));
    let said = put(
        &small,
        &empty(&[2], |a| a.then = Afterwards::Power(HostPower::Off)),
    );
    let stop = stop_about(&said, "h2");
    assert_eq!(
        stop.field.as_deref(),
        Some("then"),
        "no controller is known: {}",
        stop.text
    );
}

/// Whether each machine can have a place at all, by trying everything.
fn some_way(small: &Small, ledger: &Ledger, left: &[Machine]) -> bool {
    let Some((first, rest)) = left.split_first() else {
        return true;
    };
    let cluster = small.view.estate.clusters.values().next().unwrap();
    let hosts: Vec<HostId> = ledger.rows().map(|r| r.host.id).collect();
    hosts.into_iter().any(|host| {
        choose(&small.view, ledger, cluster, first, Some(host)).is_ok() && {
            let mut next = ledger.clone();
            next.add(&small.view, host, first);
            some_way(small, &next, rest)
        }
    })
}

/// What would break for the user: an emptying that is called impossible although there is a way, or one that is begun and
/// overfills a host.
#[test]
fn a_way_is_found_wherever_there_is_one() {
    let mut seed = 20_261_128_u64;
    let mut next = |below: u64| {
        seed = seed
            .wrapping_mul(6_364_136_223_846_793_005)
            .wrapping_add(1_442_695_040_888_963_407);
        (seed >> 33) % below
    };
    let (mut ways, mut none) = (0, 0);
    for _ in 0..150 {
        let mut text =
            "cluster eider careless\nhost 1 512\nhost 2 80\nhost 3 64\nhost 4 48\n".to_owned();
        let on = 4 + next(4);
        for m in 0..on {
            text.push_str(&format!(
                "machine {} m{m} {} on 1\n",
                10 + m,
                8 + 4 * next(10)
            ));
        }
        for (h, m) in [(2, 30), (3, 31)] {
            text.push_str(&format!("machine {m} o{m} {} on {h}\n", 4 + 4 * next(8)));
        }
        let small = networked(&text, 10_000);
        let said = put(&small, &empty(&[1], |_| {}));
        let left: Vec<Machine> = small
            .view
            .estate
            .machines_on(HostId(1))
            .map(|m| Machine::clone(m))
            .collect();
        let hosts = small
            .view
            .estate
            .hosts
            .values()
            .filter(|h| h.id != HostId(1))
            .cloned();
        let ledger = Ledger::of(&small.view, hosts, &Default::default());
        let way = some_way(&small, &ledger, &left);
        assert_eq!(way, !said.blocked(), "{text}\n{:?}", worse(&said));
        if !way {
            none += 1;
            continue;
        }
        ways += 1;
        let mut after = ledger;
        for (machine, host) in moves(&said) {
            let machine = small.view.estate.machines[&MachineId(machine)].clone();
            after.add(&small.view, HostId(host), &machine);
        }
        assert!(after.rows().all(|r| r.held <= r.host.usable()), "{text}");
    }
    assert!(ways > 30 && none > 30, "{ways} ways, {none} without");
}

#[test]
fn it_comes_back_with_what_had_been_there_and_what_was_stopped_is_started() {
    let mut small = fixture(10_000, 100);
    small.begin(put(&small, &empty(&[1], |_| {})).accept().unwrap());
    alter_machine(&mut small, 7, |m| {
        (m.host, m.arriving) = (Some(HostId(2)), None)
    });
    alter_machine(&mut small, 8, |m| {
        (m.host, m.arriving, m.state) = (None, None, MachineState::Off);
    });
    small.alter_host(1, |h| {
        let maintenance = h.maintenance.as_mut().unwrap();
        maintenance.empty = true;
        maintenance.stopped.insert(MachineId(8));
    });
    let titles = |said: &Assessment| {
        said.steps()
            .iter()
            .map(|p| (p.title.clone(), p.after.clone()))
            .collect::<Vec<_>>()
    };
    let said = put(&small, &back(&[1], false));
    assert_eq!(
        titles(&said),
        [("h1 takes machines again".to_owned(), vec![])]
    );
    let said = put(&small, &back(&[1], true));
    assert!(!said.blocked(), "{:?}", worse(&said));
    assert_eq!(
        titles(&said),
        [
            ("h1 takes machines again".to_owned(), vec![]),
            ("Move db from h2 to h1".to_owned(), vec![0]),
            ("Power on web".to_owned(), vec![0]),
            ("Wait until web answers".to_owned(), vec![2]),
        ]
    );
    let started = said.steps().iter().find_map(|p| match &p.step {
        Step::Maintenance(maintenance::Step::Machine(machines::Step::Start { host, .. })) => {
            Some(*host)
        }
        _ => None,
    });
    assert_eq!(started, Some(HostId(1)));
    assert!(says(&small, &back(&[2], true))[0].contains("h2 is in service"));
    small.alter_host(1, |h| {
        h.condition = Condition::Off {
            since: Moment(5),
            proof: "its controller said so twice".into(),
        }
    });
    let stop = stop_about(&put(&small, &back(&[1], true)), "h1");
    assert!(stop.remedy.unwrap().contains("Bring it up first"));
}

#[test]
fn who_works_on_an_empty_host_has_nobody_switch_it_off_and_one_with_machines_stays_guarded() {
    let mut small = fixture(10_000, 100);
    small.begin(put(&small, &empty(&[1], |_| {})).accept().unwrap());
    let wards = |small: &Small| {
        let cluster = small.view.estate.clusters.values().next().unwrap().clone();
        let plan = Plan::of(&small.view, &cluster, Stamp(1, 1), small.now);
        plan.wards.keys().map(|h| h.0).collect::<Vec<_>>()
    };
    assert_eq!(wards(&small), [1, 2, 3], "two machines are on it still");
    for id in [7, 8] {
        alter_machine(&mut small, id, |m| {
            (m.host, m.arriving) = (Some(HostId(2)), None)
        });
    }
    assert_eq!(wards(&small), [2, 3]);
}

/// If one can't come back, the others still do.
#[test]
fn who_can_not_come_back_stays_where_it_is_and_the_others_come() {
    let mut small = fixture(1000, 130);
    small.alter_host(1, |h| {
        h.maintenance = Some(Box::new(Maintenance {
            since: Moment(1),
            reason: "".into(),
            until: None,
            run: RunId(1),
            had: [MachineId(7), MachineId(8)].into(),
            stopped: [].into(),
            empty: true,
        }));
    });
    for id in [7, 8] {
        alter_machine(&mut small, id, |m| m.host = Some(HostId(2)));
    }
    let mut loads = Loads::clone(&small.view.loads);
    loads.machines.get_mut(&MachineId(8)).unwrap().writes = Some(Writes {
        dirty: Rate(1 << 20),
        touched: Bytes::gib(1),
        working_set: Bytes::gib(1),
    });
    small.view.loads = loads.into();
    let said = put(&small, &back(&[1], true));
    assert_eq!(moves(&said), [(8, 1)]);
    let words = says(&small, &back(&[1], true));
    assert_eq!(words.len(), 1, "{words:?}");
    assert!(
        words[0].starts_with("mind: db stays where it is. db writes faster"),
        "{words:?}"
    );
}
