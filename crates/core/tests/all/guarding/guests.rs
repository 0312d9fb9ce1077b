//! Guests that hang: who is restarted when, and who never is.

use std::collections::BTreeMap;
use zastrugi_core::{
    guard::{Charge, Guard, Input, Note, Order, Plan, Pulse, Refusal, Running, Stamp, Times, Ward},
    ids::{HostId, MachineId},
    moment::{Moment, Span},
};

const HOST: HostId = HostId(1);
const DB: MachineId = MachineId(7);

/// One host with one guest, looked at once a second.
struct Bed {
    guard: Guard,
    now: i64,
    pulse: Pulse,
    generation: u64,
    held: bool,
    /// The host tells nothing.
    mute: bool,
    orders: Vec<(i64, Order)>,
}

impl Bed {
    /// A guest that has been up for a while.
    fn new() -> Bed {
        let ward = Ward {
            name: "h1".into(),
            serial: "S1".into(),
            controller: true,
            storage: false,
            off: false,
            judged: None,
            switched: None,
        };
        let charge = Charge {
            name: "db".into(),
            host: HOST,
            generation: 1,
            fallen: false,
            tier: 1,
            shared: false,
            unsure: false,
            after: None,
            boots_in: Some(Span::secs(20)),
        };
        let plan = Plan {
            stamp: Stamp(1, 1),
            wards: BTreeMap::from([(HOST, ward)]),
            charges: BTreeMap::from([(DB, charge)]),
            ..Plan::default()
        };
        let mut guard = Guard::new(Times::default(), Moment(0));
        guard.advance(Input::Plan(Box::new(plan)), Moment(0));
        let mut bed = Bed {
            guard,
            now: 0,
            pulse: Pulse::default(),
            generation: 1,
            held: false,
            mute: false,
            orders: vec![],
        };
        bed.play(120, 1, 1);
        assert!(bed.orders.is_empty());
        bed
    }
    /// So many seconds, in each of which it beats and works so often.
    fn play(&mut self, seconds: i64, beats: u64, moved: u64) {
        for _ in 0..seconds {
            self.now += 1;
            self.pulse.beats += beats;
            self.pulse.moved += moved;
            let input = if self.mute {
                Input::Tick
            } else {
                Input::Heard {
                    host: HOST,
                    boot: 1,
                    watchdog: true,
                    running: vec![Running {
                        machine: DB,
                        generation: self.generation,
                        answers: beats > 0,
                        pulse: Some(self.pulse),
                        held: self.held,
                        lacks: None,
                    }],
                }
            };
            self.tell(input);
        }
    }
    fn tell(&mut self, input: Input) {
        let orders = self.guard.advance(input, Moment(self.now * 1000));
        self.orders
            .extend(orders.into_iter().map(|o| (self.now, o)));
    }
    /// When it was first said that it hangs, from here; none if it wasn't.
    fn hangs(&mut self) -> Option<i64> {
        let hangs = |o: &Order| matches!(o, Order::Record(Note::Hangs { .. }));
        let found = self
            .orders
            .iter()
            .find(|(_, o)| hangs(o))
            .map(|(at, _)| *at);
        self.orders.clear();
        found
    }
    fn resets(&mut self) -> usize {
        let all = self.orders.drain(..);
        all.filter(|(_, o)| matches!(o, Order::Reset { .. }))
            .count()
    }
    fn reset(&mut self) {
        self.generation += 1;
        self.pulse = Pulse::default();
        let result = Ok(self.generation);
        self.tell(Input::WasReset {
            machine: DB,
            result,
        });
        self.orders.clear();
        self.play(60, 1, 1);
    }
}

/// If this fails, a guest that hangs stays so, or is restarted before that is written, or twice.
#[test]
fn without_any_sign_of_life_for_45_seconds_it_is_restarted_once_that_is_written() {
    let mut bed = Bed::new();
    let began = bed.now;
    bed.play(60, 0, 0);
    assert!(
        bed.orders
            .iter()
            .all(|(_, o)| !matches!(o, Order::Reset { .. })),
        "nothing is written yet"
    );
    assert_eq!(bed.hangs(), Some(began + 45));
    bed.tell(Input::GuestRecorded { machine: DB });
    assert!(matches!(
        bed.orders.as_slice(),
        [(
            _,
            Order::Reset {
                machine: DB,
                host: HOST,
                boot: 1,
                generation: 1
            }
        )]
    ));
    bed.play(10, 0, 0);
    assert_eq!(bed.resets(), 1);
}

/// If this fails, a guest whose agent died is restarted although it works; or one that is only idle.
#[test]
fn one_that_still_works_or_still_beats_does_not_hang() {
    for (beats, moved) in [(0, 1), (1, 0)] {
        let mut bed = Bed::new();
        bed.play(600, beats, moved);
        assert_eq!(bed.hangs(), None);
    }
}

#[test]
fn who_was_often_silent_gets_three_times_that() {
    let mut bed = Bed::new();
    bed.play(30, 0, 0);
    bed.play(30, 1, 1);
    assert_eq!(bed.hangs(), None);
    let began = bed.now;
    bed.play(120, 0, 0);
    let after = bed.hangs().unwrap() - began;
    assert!((90..=95).contains(&after), "three times 31 s: {after}");
}

/// If this fails, a guest that hangs again and again is restarted every minute.
#[test]
fn each_restart_doubles_the_patience() {
    let mut bed = Bed::new();
    for expected in [45, 90, 180] {
        let began = bed.now;
        bed.play(200, 0, 0);
        assert_eq!(bed.hangs().unwrap() - began, expected);
        bed.tell(Input::GuestRecorded { machine: DB });
        bed.reset();
    }
}

/// If this fails, a guest is restarted in the middle of its boot, of a move, or because its host was not heard.
#[test]
fn nothing_is_judged_in_a_boot_in_a_run_or_while_the_host_is_not_heard() {
    let mut bed = Bed::new();
    bed.held = true;
    bed.play(300, 0, 0);
    assert_eq!(bed.hangs(), None, "a run changes it");
    bed.held = false;
    bed.play(44, 0, 0);
    assert_eq!(bed.hangs(), None, "from its end on");

    let mut bed = Bed::new();
    bed.mute = true;
    bed.play(300, 0, 0);
    assert_eq!(bed.hangs(), None, "its host is silent");

    // A new start: no heartbeat yet, however long it takes.
    let mut bed = Bed::new();
    (bed.generation, bed.pulse) = (2, Pulse::default());
    bed.play(600, 0, 0);
    assert_eq!(bed.hangs(), None, "it never beat");
}

#[test]
fn who_wakes_before_it_is_written_is_left_alone_and_five_refusals_are_enough() {
    let mut bed = Bed::new();
    bed.play(46, 0, 0);
    bed.play(3, 1, 1);
    bed.tell(Input::GuestRecorded { machine: DB });
    assert_eq!(bed.resets(), 0, "it woke");

    let mut bed = Bed::new();
    let mut times = 0;
    for _ in 0..20 {
        bed.play(3000, 0, 0);
        if bed.hangs().is_none() {
            break;
        }
        times += 1;
        bed.tell(Input::GuestRecorded { machine: DB });
        let refusal = Refusal {
            said: "its volume is full".into(),
            open: false,
        };
        let result = Err(refusal);
        bed.tell(Input::WasReset {
            machine: DB,
            result,
        });
        bed.orders.clear();
    }
    assert_eq!(times, 5);
}
