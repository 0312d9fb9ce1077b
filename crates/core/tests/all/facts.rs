//! Facts: what is stored rebuilds to the same estate, indices and all.

use proptest::prelude::*;
use zastrugi_core::{
    estate::{Change, Estate, Fact, MachineState, Site, Touched, Wanted},
    event::Event,
    ids::{HostId, MachineId, SiteId},
    moment::Moment,
    proposal::{Set, Target},
    testkit::read,
};

const START: &str = "cluster a\nhost 1 64\nhost 2 64\nhost 3 64 loose\nmachine 11 m1 8 on 1 label=app:x\nmachine 12 m2 8 off\nmachine 13 m3 8 on 2 apart=g";

fn events() -> impl Strategy<Value = Event> {
    let machine = (11u64..15).prop_map(MachineId);
    let host = prop::option::of((1u64..4).prop_map(HostId));
    prop_oneof![
        (machine.clone(), host.clone(), 0u64..4).prop_map(|(machine, host, generation)| {
            Event::MachineSeen {
                machine,
                state: if host.is_some() {
                    MachineState::Running { guest: true }
                } else {
                    MachineState::Off
                },
                host,
                generation,
            }
        }),
        (machine.clone(), host).prop_map(|(machine, host)| Event::MachineWanted {
            machine,
            wanted: Wanted::On,
            host
        }),
        machine.clone().prop_map(|machine| Event::MachineDeleted {
            machine,
            at: Moment(5)
        }),
        machine
            .clone()
            .prop_map(|machine| Event::MachineRecovered { machine }),
        machine
            .clone()
            .prop_map(|machine| Event::MachinePurged { machine }),
        (machine, "[a-c]", "[a-c]?").prop_map(|(m, key, value)| Event::Edited {
            target: Target::Machine(m),
            sets: vec![
                Set::Label {
                    key: key.clone(),
                    value
                },
                Set::Unlabel {
                    key: if key == "a" { "app".into() } else { key }
                }
            ],
        }),
        (1u64..4).prop_map(|h| Event::HostReleased { host: HostId(h) }),
        (1u64..4).prop_map(|h| Event::HostLeft { host: HostId(h) }),
        (50u64..60).prop_map(|s| Event::SiteAdded(Site {
            id: SiteId(s),
            name: format!("site {s}")
        })),
    ]
}

/// What another process does with the changes that it reads from the store.
fn follow(estate: &mut Estate, change: Change) {
    for ((kind, id), touched) in change.touched {
        match touched {
            Touched::Put(fact) => {
                let body = fact.body().unwrap();
                estate.put(Fact::read(kind.word(), id, Fact::VERSION, body).unwrap());
            }
            Touched::Gone => estate.remove(kind, id),
        }
    }
}

proptest! {
    /// If this fails, a restarted process shows another estate than the one that wrote it.
    #[test]
    fn stored_facts_rebuild_to_the_same_estate(events in prop::collection::vec(events(), 0..40)) {
        let mut estate = (*read(START).view.estate).clone();
        for event in &events {
            estate.absorb(event);
        }
        let stored: Vec<Fact> = estate.facts()
            .map(|f| Fact::read(f.kind().word(), f.id(), Fact::VERSION, f.body().unwrap()).unwrap())
            .collect();
        let forward = Estate::from_facts(estate.revision, stored.clone());
        let backward = Estate::from_facts(estate.revision, stored.into_iter().rev());
        prop_assert_eq!(&forward, &estate, "indices are part of the comparison");
        prop_assert_eq!(&backward, &estate);
    }

    /// If this fails, a second process on the same database drifts away from the first.
    #[test]
    fn a_process_that_follows_changes_holds_the_same_estate(events in prop::collection::vec(events(), 0..40)) {
        let mut first = (*read(START).view.estate).clone();
        let mut second = first.clone();
        for batch in events.chunks(7) {
            let change = first.absorb_all(batch);
            follow(&mut second, change);
            prop_assert_eq!(&first, &second);
        }
    }
}

#[test]
fn a_fact_of_a_newer_version_is_refused_in_words() {
    let words = Fact::read("machine", 7, 99, serde_json::Value::Null)
        .unwrap_err()
        .to_string();
    assert!(words.contains("run a newer Zastrugi"), "{words}");
}

#[test]
fn a_number_is_never_given_twice_even_after_a_purge() {
    let mut estate = (*read(START).view.estate).clone();
    estate.absorb(&Event::SiteAdded(Site {
        id: SiteId(2000),
        name: "x".into(),
    }));
    assert_eq!(estate.next, 2001);
    estate.absorb(&Event::MachinePurged {
        machine: MachineId(11),
    });
    assert_eq!(estate.next, 2001);
}
