//! Pledges: expressions of labels, which of two clauses counts, how each stands, and that keeping up with the estate says the
//! same as judging anew.

use crate::put;
use std::{collections::BTreeSet, sync::Arc};
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Array, ArrayCondition, Away, Backing, Clauses, Consistent, Estate, Fact, Machine, Offers,
        Pledge, Point, Remote, Schedule, Served, Service, Site, Snaps, Snapshot, Taker, Volume,
    },
    expression::Expression,
    finding::Severity,
    ids::{ArrayId, MachineId, PledgeId, ScheduleId, SiteId, VolumeId},
    limits,
    moment::{Moment, Span},
    pledges::{Lies, Promise, Sort, Standing},
    rooms::{
        Event, Proposal, arrays, moving,
        pledges::{Ask, Keep},
    },
    testkit::{self, Small, read},
};

pub(crate) const NOW: Moment = Moment(1_000_000_000_000);
pub(crate) const HOUR: Span = Span::mins(60);
pub(crate) const GOLD: PledgeId = PledgeId(700);
pub(crate) const VOLUME: VolumeId = VolumeId(951);
pub(crate) const ARRAY: ArrayId = ArrayId(800);

pub(crate) fn gold(clauses: Clauses) -> Pledge {
    Pledge {
        id: GOLD,
        name: "gold".into(),
        note: String::new(),
        to: Some(Expression::read("env=prod").unwrap()),
        clauses,
    }
}

pub(crate) fn hourly(taker: Taker) -> Clauses {
    Clauses {
        point: Some(Point {
            every: HOUR,
            taker,
            quiet: false,
        }),
        ..Clauses::default()
    }
}

/// 7 is of production and 8 is not; both lie on a volume of the array basalt at Quayside.
pub(crate) fn fixture(clauses: Clauses) -> Small {
    let mut small =
        read("cluster eider careless\nhost 1 512\nmachine 7 db 16 on 1\nmachine 8 web 16 off");
    small.now = NOW;
    small.alter(|e| {
        e.put(Fact::Site(Arc::new(Site {
            id: SiteId(990),
            name: "Hilltop".into(),
        })));
        e.put(Fact::Array(Arc::new(array())));
        let mut v = Volume::clone(&e.volumes[&VOLUME]);
        v.backing = Some(Backing {
            array: ARRAY,
            lun: "1".into(),
            pool: "fast".into(),
        });
        e.put(Fact::Volume(Arc::new(v)));
        e.put(Fact::Pledge(Arc::new(gold(clauses))));
    });
    on(&mut small, 7, |m| {
        drop(m.labels.insert("env".into(), "prod".into()))
    });
    small
}

fn array() -> Array {
    testkit::array(ARRAY, "basalt", SiteId(900))
}

pub(crate) fn on(small: &mut Small, id: u64, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&MachineId(id)]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

/// The array does this for the volume from now on.
pub(crate) fn serves(
    small: &mut Small,
    group: Option<&str>,
    since: Moment,
    volume: VolumeId,
    service: Service,
) {
    small.alter(|e| {
        let mut a = Array::clone(&e.arrays[&ARRAY]);
        a.served.insert(
            volume,
            Served {
                service,
                group: group.map(Into::into),
                since,
                before: None,
            },
        );
        e.put(Fact::Array(Arc::new(a)));
    });
}

pub(crate) fn class(every: Option<Span>, remote: Option<(&str, Span)>) -> Service {
    Service {
        class: "Gold".into(),
        latency_us: Some(700),
        spare: Some(2),
        snapshots: every.map(|every| Snaps {
            every,
            keep: Some(Span::days(2)),
        }),
        remote: remote.map(|(at, every)| Remote {
            at: at.into(),
            every,
        }),
    }
}

fn stands(small: &Small, id: u64) -> Option<Standing> {
    let m = &small.view.estate.machines[&MachineId(id)];
    Promise::of(&small.view.estate, m, small.now).map(|p| p.standing())
}

fn judged(small: &Small, sort: Sort) -> (Standing, Option<Moment>, String) {
    let m = &small.view.estate.machines[&MachineId(7)];
    let promise = Promise::of(&small.view.estate, m, small.now).unwrap();
    let j = promise.of_sort(sort).unwrap();
    assert!(
        !j.evidence.is_empty() || j.standing == Standing::Broken,
        "{}",
        j.why
    );
    (j.standing, j.since, j.why.clone())
}

pub(crate) fn snapshot(taken: Moment, consistent: Consistent) -> Snapshot {
    Snapshot {
        uuid: Uuid::from_u128(u128::from(taken.0.unsigned_abs())),
        name: "nightly".into(),
        note: String::new(),
        taken,
        parent: None,
        consistent,
        memory: None,
        disks: None,
        ends: None,
    }
}

pub(crate) fn schedule(every: Span, last: Moment) -> Schedule {
    Schedule {
        id: ScheduleId(600),
        name: "often".into(),
        label: "env=prod".into(),
        every,
        keeps: Span::days(1),
        begins: last,
        last: Some(last),
        paused: false,
    }
}

/// If this fails, a machine seems to be promised something that it isn't, or isn't looked at though it is.
#[test]
fn who_has_the_labels_has_the_pledge_and_deleted_ones_have_none() {
    let mut small = fixture(hourly(Taker::Any));
    assert!(stands(&small, 7).is_some());
    assert_eq!(stands(&small, 8), None);
    on(&mut small, 8, |m| m.pledge(|p| _ = p.by_hand.insert(GOLD)));
    assert!(stands(&small, 8).is_some(), "by hand");
    on(&mut small, 8, |m| m.deleted = Some(NOW));
    assert_eq!(stands(&small, 8), None);
}

/// If this fails, a pledge is green while nobody takes any recovery point, or red while the array takes them.
#[test]
fn a_point_by_the_array_stands_by_what_the_array_says() {
    let mut small = fixture(hourly(Taker::Any));
    assert_eq!(
        stands(&small, 7),
        Some(Standing::Unchecked),
        "it says nothing"
    );
    serves(
        &mut small,
        None,
        Moment(5),
        VOLUME,
        class(Some(Span::mins(15)), None),
    );
    assert_eq!(judged(&small, Sort::Point).0, Standing::Kept);
    serves(
        &mut small,
        None,
        Moment(6),
        VOLUME,
        class(Some(Span::mins(55)), None),
    );
    assert_eq!(
        judged(&small, Sort::Point).0,
        Standing::AtRisk,
        "hardly anything may go wrong"
    );
    // Somebody changes the schedule there.
    serves(
        &mut small,
        None,
        Moment(7),
        VOLUME,
        class(Some(Span::mins(240)), None),
    );
    let (standing, since, why) = judged(&small, Sort::Point);
    assert_eq!((standing, since), (Standing::Broken, Some(Moment(7))));
    assert!(why.contains("every 4 h"), "{why}");
    small.alter(|e| {
        let mut a = Array::clone(&e.arrays[&ARRAY]);
        a.condition = ArrayCondition::Lost {
            since: Moment(8),
            why: "silent".into(),
        };
        e.put(Fact::Array(Arc::new(a)));
    });
    assert_eq!(
        judged(&small, Sort::Point).0,
        Standing::Unchecked,
        "what it said before says nothing about now"
    );
}

/// If this fails, the disks of a machine are brought back from different moments, and its data base is torn.
#[test]
fn disks_on_two_volumes_have_a_point_only_in_one_consistency_group() {
    let mut small = fixture(hourly(Taker::Array));
    let other = VolumeId(959);
    small.alter(|e| {
        let mut v = Volume::clone(&e.volumes[&VOLUME]);
        (v.id, v.name, v.uid) = (other, "logs".into(), "logs".into());
        e.put(Fact::Volume(Arc::new(v)));
    });
    on(&mut small, 7, |m| {
        let mut disk = m.disks[0];
        (disk.volume, disk.key) = (other, Uuid::from_u128(9));
        m.disks.push(disk);
    });
    let often = class(Some(Span::mins(15)), None);
    for group in [None, Some("a")] {
        serves(
            &mut small,
            Some("b").filter(|_| group.is_some()),
            NOW,
            VOLUME,
            often.clone(),
        );
        serves(&mut small, group, NOW, other, often.clone());
        assert_eq!(judged(&small, Sort::Point).0, Standing::Broken, "{group:?}");
    }
    serves(&mut small, Some("a"), NOW, VOLUME, often);
    assert_eq!(judged(&small, Sort::Point).0, Standing::Kept);
    // Nothing is promised of the second disk: its volume is nobody's business.
    serves(&mut small, None, NOW, other, class(None, None));
    on(&mut small, 7, |m| {
        m.pledge(|p| _ = p.except.insert(Uuid::from_u128(9)))
    });
    assert_eq!(judged(&small, Sort::Point).0, Standing::Kept);
    let promise = Promise::of(
        &small.view.estate,
        &small.view.estate.machines[&MachineId(7)],
        NOW,
    )
    .unwrap();
    assert_eq!(promise.uncovered.len(), 1, "and that is said");
}

/// If this fails, nobody is told before the newest snapshot is too old, or it is told of one that comes in time.
#[test]
fn a_point_by_snapshots_ages_and_is_renewed() {
    let mut small = fixture(hourly(Taker::Snapshot));
    assert_eq!(
        stands(&small, 7),
        Some(Standing::Broken),
        "none was ever taken"
    );
    let taken = NOW.before(Span::mins(50));
    on(&mut small, 7, |m| {
        m.snapshots.take(snapshot(taken, Consistent::Crash))
    });
    assert_eq!(
        judged(&small, Sort::Point).0,
        Standing::AtRisk,
        "nobody takes the next"
    );
    // The next is due in 10 minutes' time at the latest.
    small.alter(|e| {
        e.put(Fact::Schedule(Arc::new(schedule(
            Span::mins(30),
            NOW.before(Span::mins(25)),
        ))))
    });
    assert_eq!(judged(&small, Sort::Point).0, Standing::Kept);
    small.alter(|e| {
        e.put(Fact::Schedule(Arc::new(schedule(
            Span::mins(30),
            NOW.before(Span::mins(5)),
        ))))
    });
    let (standing, _, why) = judged(&small, Sort::Point);
    assert_eq!(standing, Standing::AtRisk, "{why}");
    assert!(why.contains("due in 25 min"), "{why}");
    small.now = NOW.plus(Span::mins(11));
    let (standing, since, _) = judged(&small, Sort::Point);
    assert_eq!(
        (standing, since),
        (Standing::Broken, Some(taken.plus(HOUR)))
    );
    // A pledge that asks for file systems that stood still is not kept by one as after a power cut.
    let mut quiet = gold(hourly(Taker::Snapshot));
    quiet.clauses.point.as_mut().unwrap().quiet = true;
    small.alter(|e| e.put(Fact::Pledge(Arc::new(quiet))));
    let now = small.now;
    on(&mut small, 7, |m| {
        m.snapshots.take(snapshot(now, Consistent::Crash))
    });
    assert_eq!(judged(&small, Sort::Point).0, Standing::Broken);
    on(&mut small, 7, |m| {
        m.snapshots
            .take(snapshot(now.before(Span(1)), Consistent::Quiet))
    });
    assert_eq!(judged(&small, Sort::Point).0, Standing::Kept);
}

/// If this fails, a promise counts as broken from a time at which another means still kept it, or as kept where there is nothing
/// to keep, or by a schedule that has taken nothing.
#[test]
fn it_is_broken_since_the_last_means_failed_and_nothing_is_kept_of_nothing() {
    let mut small = fixture(hourly(Taker::Any));
    let failed = NOW.before(Span::mins(120));
    serves(&mut small, None, failed, VOLUME, class(None, None));
    let taken = NOW.before(Span::mins(90));
    on(&mut small, 7, |m| {
        m.snapshots.take(snapshot(taken, Consistent::Quiet))
    });
    let (standing, since, _) = judged(&small, Sort::Point);
    assert_eq!(
        (standing, since),
        (Standing::Broken, Some(taken.plus(HOUR)))
    );
    on(&mut small, 7, |m| m.disks.clear());
    assert_eq!(stands(&small, 7), Some(Standing::Unchecked));

    let mut small = fixture(Clauses {
        kept: Some(Span::days(1)),
        ..Clauses::default()
    });
    let mut fresh = schedule(HOUR, NOW);
    fresh.last = None;
    small.alter(|e| e.put(Fact::Schedule(Arc::new(fresh))));
    assert_eq!(judged(&small, Sort::Kept).0, Standing::Unchecked);
    small.alter(|e| e.put(Fact::Schedule(Arc::new(schedule(HOUR, NOW)))));
    assert_eq!(judged(&small, Sort::Kept).0, Standing::Kept);
}

/// If this fails, “Move its disks to where it holds” leads to where it doesn't, and nobody says so.
#[test]
fn moving_disks_says_what_does_not_hold_where_they_go() {
    let mut small = fixture(Clauses {
        storage: Some(Offers {
            qualities: BTreeSet::from(["fast".into()]),
            ..Offers::default()
        }),
        ..Clauses::default()
    });
    let other = VolumeId(959);
    let with = |small: &mut Small, quality: &str| {
        small.alter(|e| {
            let mut v = Volume::clone(&e.volumes[&VOLUME]);
            (v.id, v.name, v.uid) = (other, "logs".into(), "logs".into());
            v.qualities = BTreeSet::from([quality.into()]);
            e.put(Fact::Volume(Arc::new(v)));
        });
    };
    with(&mut small, "slow");
    small.alter_host(1, |h| {
        let paths = h.mounts[&VOLUME].clone();
        h.mounts.insert(other, paths);
    });
    let ask = Proposal::Moving(moving::Ask::Move(moving::Move {
        machines: vec![MachineId(7)],
        to: None,
        disks: Some(moving::DisksTo {
            volume: Some(other),
            stay: true,
        }),
        slow: false,
        force: false,
        wire: false,
    }));
    let said = |small: &Small| {
        let seen = put(small, &ask);
        let mut all = seen.findings().iter();
        all.any(|f| {
            f.text
                .contains("holds on logs: logs does not offer fast (gold)")
        })
    };
    assert!(said(&small));
    with(&mut small, "fast");
    assert!(!said(&small));
}

/// If this fails, a copy at the same place, at a wrong one, or one that is too old counts as one elsewhere.
#[test]
fn a_copy_elsewhere_is_at_the_site_that_was_promised_and_young_enough() {
    let away = |site| Clauses {
        remote: Some(Away { site, age: HOUR }),
        ..Clauses::default()
    };
    let mut small = fixture(away(Some(SiteId(990))));
    for (remote, standing) in [
        (None, Standing::Broken),
        (Some(("Hilltop", Span::mins(15))), Standing::Kept),
        (Some(("hilltop", Span::mins(50))), Standing::AtRisk),
        (Some(("Hilltop", Span::mins(61))), Standing::Broken),
        (Some(("Quayside", Span::mins(15))), Standing::Broken),
        (Some(("the cellar", Span::mins(15))), Standing::Broken),
    ] {
        serves(&mut small, None, NOW, VOLUME, class(None, remote));
        assert_eq!(judged(&small, Sort::Remote).0, standing, "{remote:?}");
    }
    small.alter(|e| e.put(Fact::Pledge(Arc::new(gold(away(None))))));
    assert_eq!(
        judged(&small, Sort::Remote).0,
        Standing::Kept,
        "anywhere but here"
    );
}

/// If this fails, a machine that two pledges are about is held to the laxer one, or nobody knows which one asks.
#[test]
fn of_two_pledges_the_stricter_clause_counts_and_both_are_named() {
    let mut small = fixture(hourly(Taker::Any));
    let day = Clauses {
        point: Some(Point {
            every: Span::days(1),
            taker: Taker::Any,
            quiet: false,
        }),
        tier: Some(1),
        ..Clauses::default()
    };
    let silver = Pledge {
        id: PledgeId(701),
        name: "silver".into(),
        ..gold(day)
    };
    small.alter(|e| e.put(Fact::Pledge(Arc::new(silver))));
    let promise = Promise::of(
        &small.view.estate,
        &small.view.estate.machines[&MachineId(7)],
        NOW,
    )
    .unwrap();
    let of: Vec<_> = promise
        .judged
        .iter()
        .map(|j| (j.demand.words(&small.view.estate), j.by.clone()))
        .collect();
    assert_eq!(
        of,
        [
            (
                "every 60 min, by whatever means".to_owned(),
                vec!["gold".to_owned(), "silver".to_owned()]
            ),
            ("1".to_owned(), vec!["silver".to_owned()]),
        ]
    );
}

/// If this fails, new machines are put where what they are promised can't be kept, or nowhere though it could.
#[test]
fn a_volume_says_why_a_machine_would_not_have_there_what_it_is_promised() {
    let mut small = fixture(Clauses {
        storage: Some(Offers {
            qualities: BTreeSet::from(["fast".into()]),
            latency_us: Some(500),
            spare: Some(1),
        }),
        ..hourly(Taker::Snapshot)
    });
    let lacks = |small: &Small| {
        let e = &small.view.estate;
        Lies::on(e, &e.volumes[&VOLUME]).lacks(&e.machines[&MachineId(7)], NOW)
    };
    assert!(
        lacks(&small)
            .unwrap()
            .contains("does not offer fast (gold)")
    );
    small.alter(|e| {
        let mut v = Volume::clone(&e.volumes[&VOLUME]);
        v.qualities = BTreeSet::from(["fast".into()]);
        e.put(Fact::Volume(Arc::new(v)));
    });
    serves(&mut small, None, NOW, VOLUME, class(None, None));
    assert!(lacks(&small).unwrap().contains("700 µs"));
    let mut quick = class(None, None);
    quick.latency_us = Some(400);
    serves(&mut small, None, NOW, VOLUME, quick);
    assert_eq!(
        lacks(&small),
        None,
        "that it has no snapshot yet is not the volume's fault"
    );
}

fn keep(to: &str, clauses: Clauses) -> Proposal {
    Ask::Keep(Box::new(Keep {
        pledge: Some(GOLD),
        name: "gold".into(),
        note: "".into(),
        to: to.into(),
        clauses,
    }))
    .into()
}

/// If this fails, somebody changes a pledge and learns only afterwards whom they left without.
#[test]
fn a_change_says_who_enters_who_leaves_and_which_clause_gives_way() {
    let small = fixture(hourly(Taker::Any));
    let day = Clauses {
        point: Some(Point {
            every: Span::days(1),
            taker: Taker::Any,
            quiet: false,
        }),
        ..Clauses::default()
    };
    let seen = put(&small, &keep("not env=prod", day));
    let said = |word: &str| {
        seen.findings()
            .iter()
            .find(|f| f.text.contains(word))
            .unwrap_or_else(|| panic!("{word}"))
    };
    assert!(said("enter").text.contains("web"));
    assert_eq!(said("leave").severity, Severity::Mind);
    assert!(said("leave").text.contains("db"));
    assert!(
        said("Less is promised").text.contains("every 24 h"),
        "{}",
        said("Less").text
    );
    let same = put(&small, &keep("env=prod", hourly(Taker::Any)));
    assert!(same.blocked(), "nothing is changed");
    assert!(put(&small, &keep("env=prod and", hourly(Taker::Any))).blocked());
    assert!(
        put(&small, &keep("env=prod", Clauses::default())).blocked(),
        "nothing is promised"
    );
}

/// If this fails, somebody has an array set back and learns only afterwards for whom else that changes something, or that it mends
/// nothing.
#[test]
fn setting_an_array_back_says_what_was_and_what_that_mends() {
    let mut small = fixture(hourly(Taker::Array));
    let back = Proposal::Arrays(arrays::Ask::SetBack {
        array: ARRAY,
        volume: VOLUME,
    });
    let stopped = |small: &Small| put(small, &back).blocked();
    assert!(stopped(&small), "it says nothing at all");
    let often = class(Some(Span::mins(15)), None);
    serves(&mut small, None, Moment(5), VOLUME, often.clone());
    assert!(stopped(&small), "nothing was changed there");
    // Read again, otherwise: what it did before is kept with it.
    small.alter(|e| {
        let held = e.arrays[&ARRAY].clone();
        let mut read = Array::clone(&held);
        read.served.get_mut(&VOLUME).unwrap().service = class(Some(Span::mins(240)), None);
        read.served.get_mut(&VOLUME).unwrap().since = Moment(7);
        e.put(Fact::Array(Arc::new(held.as_read(&read))));
    });
    let served = |small: &Small| small.view.estate.arrays[&ARRAY].served[&VOLUME].clone();
    assert_eq!(served(&small).before, Some(Box::new(often)));
    assert_eq!(stands(&small, 7), Some(Standing::Broken));
    let seen = put(&small, &back);
    assert!(!seen.blocked(), "{:#?}", seen.findings());
    let said = |word: &str| seen.findings().iter().any(|f| f.text.contains(word));
    assert!(
        said("snapshots every 15 min, kept 2 days of"),
        "{:#?}",
        seen.findings()
    );
    assert!(said(
        "Promises to one machine on it are broken now; to no machine then."
    ));
    assert!(said("perhaps for a reason"));
    // It does so.
    let event = Event::Arrays(arrays::Event::SetBack {
        array: ARRAY,
        volume: VOLUME,
        snaps: served(&small).before.unwrap().snapshots.unwrap(),
        at: Moment(9),
    });
    small.fold(&[event]);
    assert_eq!(
        (stands(&small, 7), served(&small).since),
        (Some(Standing::Kept), Moment(9))
    );
}

/// If this fails, pledges without end make every page slow.
#[test]
fn the_estate_has_so_many_pledges_and_no_more() {
    let mut small = fixture(hourly(Taker::Any));
    let another = |n: usize| Pledge {
        id: PledgeId(2000 + u64::try_from(n).unwrap()),
        name: format!("p{n}"),
        ..gold(hourly(Taker::Any))
    };
    let new = Ask::Keep(Box::new(Keep {
        pledge: None,
        name: "one more".into(),
        note: "".into(),
        to: "".into(),
        clauses: hourly(Taker::Any),
    }));
    let all = limits::PLEDGES.most;
    small.alter(|e| (2..all).for_each(|n| e.put(Fact::Pledge(Arc::new(another(n))))));
    assert!(!put(&small, &new.clone().into()).blocked());
    small.alter(|e| e.put(Fact::Pledge(Arc::new(another(all)))));
    let refused = put(&small, &new.into());
    assert!(
        refused
            .findings()
            .iter()
            .any(|f| f.stops() && f.text.contains("200"))
    );
}
