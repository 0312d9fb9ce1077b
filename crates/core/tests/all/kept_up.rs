//! Keeping up with the estate says of every promise the same as judging all of them anew, and as what is told of each.

use crate::pledges::{
    ARRAY, HOUR, NOW, VOLUME, class, fixture, gold, hourly, on, schedule, serves, snapshot,
};
use proptest::prelude::*;
use std::{collections::BTreeSet, sync::Arc};
use zastrugi_core::{
    estate::{Array, ArrayCondition, Away, Consistent, Fact, Kind, Offers, Taker, Volume},
    ids::{ArrayId, MachineId, SiteId},
    moment::{Moment, Span},
    pledges::{Brief, Promise, Promises, Standing},
    testkit::{self, Small},
};

/// An array at the other site.
const FAR: ArrayId = ArrayId(801);

#[derive(Debug, Clone)]
enum Turn {
    Label(u64, bool),
    Snapshot(u64),
    Delete(u64),
    Serve(Option<u64>),
    Lose(bool),
    Schedule(Option<u64>),
    Wait(u64),
    Pledge(u64),
    Quality(bool),
    /// The array at the other site is there, under this name; or it is gone.
    Other(Option<&'static str>),
    /// A copy is kept at the other array.
    Copies(bool),
}

fn turns() -> impl Strategy<Value = Turn> {
    let machine = 7_u64..=8;
    prop_oneof![
        (machine.clone(), any::<bool>()).prop_map(|(m, on)| Turn::Label(m, on)),
        machine.clone().prop_map(Turn::Snapshot),
        machine.prop_map(Turn::Delete),
        prop::option::of(5_u64..120).prop_map(Turn::Serve),
        any::<bool>().prop_map(Turn::Lose),
        prop::option::of(15_u64..90).prop_map(Turn::Schedule),
        (1_u64..80).prop_map(Turn::Wait),
        (30_u64..90).prop_map(Turn::Pledge),
        any::<bool>().prop_map(Turn::Quality),
        prop::option::of(prop::sample::select(vec!["gneiss", "renamed"])).prop_map(Turn::Other),
        any::<bool>().prop_map(Turn::Copies),
    ]
}

fn play(small: &mut Small, turn: &Turn) {
    match turn {
        Turn::Label(m, set) => on(small, *m, |m| match set {
            true => drop(m.labels.insert("env".into(), "prod".into())),
            false => drop(m.labels.remove("env")),
        }),
        Turn::Snapshot(m) => {
            let at = small.now;
            on(small, *m, |m| {
                m.snapshots.take(snapshot(at, Consistent::Quiet))
            });
        }
        Turn::Delete(m) => on(small, *m, |m| m.deleted = m.deleted.xor(Some(NOW))),
        Turn::Serve(every) => {
            let at = small.now;
            serves(small, None, at, VOLUME, class(every.map(Span::mins), None));
        }
        Turn::Lose(lost) => small.alter(|e| {
            let mut a = Array::clone(&e.arrays[&ARRAY]);
            a.condition = match lost {
                true => ArrayCondition::Lost {
                    since: NOW,
                    why: "silent".into(),
                },
                false => ArrayCondition::Steady,
            };
            e.put(Fact::Array(Arc::new(a)));
        }),
        Turn::Schedule(every) => {
            let last = small.now;
            small.alter(|e| match every {
                Some(every) => e.put(Fact::Schedule(Arc::new(schedule(Span::mins(*every), last)))),
                None => e.remove(Kind::Schedule, 600),
            });
        }
        Turn::Wait(minutes) => small.now = small.now.plus(Span::mins(*minutes)),
        Turn::Pledge(every) => {
            let mut clauses = hourly(Taker::Any);
            clauses.storage = Some(Offers {
                qualities: BTreeSet::from(["fast".into()]),
                ..Offers::default()
            });
            clauses.point.as_mut().unwrap().every = Span::mins(*every);
            clauses.remote = Some(Away {
                site: Some(SiteId(990)),
                age: HOUR,
            });
            small.alter(|e| e.put(Fact::Pledge(Arc::new(gold(clauses)))));
        }
        Turn::Other(name) => small.alter(|e| match name {
            Some(name) => e.put(Fact::Array(Arc::new(testkit::array(
                FAR,
                name,
                SiteId(990),
            )))),
            None => e.remove(Kind::Array, FAR.0),
        }),
        Turn::Copies(copies) => {
            let at = small.now;
            let remote = copies.then_some(("gneiss", Span::mins(15)));
            serves(small, None, at, VOLUME, class(None, remote));
        }
        Turn::Quality(fast) => small.alter(|e| {
            let mut v = Volume::clone(&e.volumes[&VOLUME]);
            v.qualities = fast.then(|| "fast".into()).into_iter().collect();
            e.put(Fact::Volume(Arc::new(v)));
        }),
    }
}

/// All that a person sees of it.
fn shown(promises: &Promises) -> Shown {
    let row = |p: &Arc<Brief>| {
        let clauses = p.clauses().map(|(_, standing, since, _)| (standing, since));
        (p.machine, clauses.collect())
    };
    promises.iter().map(row).collect()
}

/// The same, from promises that say why.
fn told(small: &Small) -> Shown {
    let estate = &small.view.estate;
    let all = estate.machines.values();
    let promises = all.filter_map(|m| Promise::of(estate, m, small.now));
    let row = |p: Promise| {
        (
            p.machine,
            p.judged.iter().map(|j| (j.standing, j.since)).collect(),
        )
    };
    promises.map(row).collect()
}

type Shown = Vec<(MachineId, Vec<(Standing, Option<Moment>)>)>;

proptest! {
    /// If this fails, a pledge stays green on the page though it broke, until the server is started anew.
    #[test]
    fn keeping_up_says_the_same_as_judging_anew(all in prop::collection::vec(turns(), 1..25)) {
        let mut small = fixture(hourly(Taker::Any));
        let mut kept = Promises::all(&small.view.estate, small.now);
        for turn in &all {
            play(&mut small, turn);
            kept = kept.then(&small.view.estate, small.now);
            let anew = Promises::all(&small.view.estate, small.now);
            prop_assert_eq!(shown(&kept), shown(&anew), "after {:?}", turn);
            prop_assert_eq!(shown(&kept), told(&small), "and as it is told");
        }
    }
}
