//! The drivers against stand-ins on real sockets: what is asked, what is answered, and what is said when it goes wrong.
#![expect(clippy::unwrap_used, clippy::panic, reason = "tests fail loudly")]

mod backups;
mod bench;
mod beneath;
mod files;
mod locking;
mod redfish;
mod sweeping;

use bench::Bench;
use zastrugi_core::rooms::{hosts, machines};
use zastrugi_core::{
    estate::{Condition, Fact, MachineState},
    evidence::{Answer, Probe},
    ids::{HostId, MachineId, Revision},
    moment::{Moment, Span},
    rooms::machines::AfterGrace,
    rooms::{Event, Step},
    runs::FaultKind,
};
use zastrugi_drivers::{Outcome, Turn};
use zastrugi_standins::FaultKind as Breaks;

fn turn(key: &str, fence: u64) -> Turn<'_> {
    Turn {
        key,
        epoch: bench::EPOCH,
        fence: Revision(fence),
        waited: Span(0),
        now: Moment(5),
        beside: 0,
    }
}

#[tokio::test]
async fn a_greeting_tells_hardware_and_fingerprint_and_silence_is_an_answer() {
    let bench = Bench::new().await;
    let Answer::Greeting(greeting) = bench.greet().await else {
        panic!("no greeting")
    };
    assert_eq!(
        (
            greeting.name.as_str(),
            greeting.pin.len(),
            greeting.hardware.cpu.cores
        ),
        ("h1", 64, 32)
    );
    assert_eq!(greeting.owner, None);
    let nobody = Probe::Greeting(format!("{}.9.9:7443", bench.net));
    let Answer::Silent { why } = bench.drivers.probe(&bench.estate, &nobody).await else {
        panic!("somebody")
    };
    assert!(why.contains("can't be reached"), "{why}");
    bench.break_with("GET /v1/greeting", Breaks::Garbage);
    let Answer::Silent { why } = bench.greet().await else {
        panic!("garbage was believed")
    };
    assert!(why.contains("makes no sense"), "{why}");
}

#[tokio::test]
async fn nothing_outside_the_management_networks_is_called() {
    let bench = Bench::new().await;
    for (address, words) in [
        ("192.0.2.7:7443", "in no management network"),
        ("127.0.0.1:22", "port 22"),
    ] {
        let probe = Probe::Greeting(address.into());
        let Answer::Silent { why } = bench.drivers.probe(&bench.estate, &probe).await else {
            panic!("{address} was called")
        };
        assert!(why.contains(words), "{why}");
    }
}

#[tokio::test]
async fn a_claim_gives_a_key_once_and_the_same_events_again() {
    let mut bench = Bench::new().await;
    let claimed = bench.claim("k1").await.unwrap();
    let Outcome::Done { events, .. } = &claimed else {
        panic!("{claimed:?}")
    };
    let Event::Hosts(hosts::Event::Claimed(host)) = &events[0] else {
        panic!("{events:?}")
    };
    assert_eq!(host.condition, Condition::Steady);
    assert!(
        host.access.key.is_some()
            && host
                .bmc
                .as_ref()
                .is_some_and(|b| b.pin.len() == 64 && b.key.is_some())
    );
    assert!(
        bench.claim("k1").await.is_ok(),
        "a lost answer is asked for again"
    );
    let other = bench.claim("k2").await.unwrap_err();
    assert_eq!(other.kind, FaultKind::Refused, "a second claim is refused");
    assert!(other.said.contains("Claimed by Bench"), "{}", other.said);
    assert_eq!(bench.standins.world.effects().values().sum::<u32>(), 1);
    bench.absorb(events);
    let clock = bench
        .drivers
        .probe(&bench.estate, &Probe::Clock(HostId(1)))
        .await;
    assert!(
        matches!(clock, Answer::Clock { offset_ms } if offset_ms.abs() < 500),
        "{clock:?}"
    );
    let Answer::Bmc { serial, power } = bench
        .drivers
        .probe(&bench.estate, &Probe::Bmc(HostId(1)))
        .await
    else {
        panic!("the controller is silent")
    };
    assert_eq!(
        (serial, power.as_str()),
        (bench.host().hardware.serial.clone(), "On")
    );
    let Answer::Sight { volumes } = bench
        .drivers
        .probe(&bench.estate, &Probe::Sight(HostId(1)))
        .await
    else {
        panic!("it sees nothing")
    };
    assert_eq!(volumes[0].uid, "vol-a");
}

fn recovering(machine: MachineId, via: HostId) -> Step {
    Step::Machines(machines::Step::Recover {
        machine,
        via,
        start: None,
        cards: None,
    })
}

#[tokio::test]
async fn a_machine_goes_through_its_life_and_an_older_fence_changes_nothing() {
    let mut bench = Bench::claimed().await;
    let (machine, host) = (MachineId(7), HostId(1));
    bench
        .done(
            &Step::Machines(machines::Step::Create { machine, via: host }),
            turn("create", 10),
        )
        .await;
    bench
        .done(
            &Step::Machines(machines::Step::Start { machine, host }),
            turn("start", 11),
        )
        .await;
    assert_eq!(bench.machine().generation, 1);
    let stale = bench
        .drivers
        .perform(
            &bench.estate,
            &Step::Machines(machines::Step::Off { machine }),
            turn("old", 9),
        )
        .await
        .unwrap_err();
    assert_eq!(stale.kind, FaultKind::Stale);
    assert!(matches!(bench.machine().state, MachineState::Starting(_)));
    let twice = bench
        .drivers
        .perform(
            &bench.estate,
            &Step::Machines(machines::Step::Start { machine, host }),
            turn("again", 12),
        )
        .await
        .unwrap_err();
    assert!(twice.said.contains("run lease"), "{}", twice.said);
    let wait = Step::Machines(machines::Step::AwaitGuest {
        machine,
        limit: Span::secs(60),
        installs: false,
    });
    bench.until_done(&wait).await;
    assert_eq!(bench.machine().state, MachineState::Running { guest: true });
    bench
        .done(
            &Step::Machines(machines::Step::AskStop { machine }),
            turn("ask", 13),
        )
        .await;
    bench
        .until_done(&Step::Machines(machines::Step::AwaitOff {
            machine,
            grace: Span::secs(60),
            then: AfterGrace::LeaveOn,
            silent: false,
        }))
        .await;
    assert_eq!(
        (bench.machine().state.clone(), bench.machine().host),
        (MachineState::Off, None)
    );
    bench
        .done(
            &Step::Machines(machines::Step::Delete { machine, via: host }),
            turn("delete", 14),
        )
        .await;
    bench
        .done(&recovering(machine, host), turn("recover", 15))
        .await;
    assert_eq!(bench.machine().deleted, None);
    assert!(bench.standins.world.effects().values().all(|n| *n == 1));
    assert_eq!(bench.standins.world.violations(), Vec::<String>::new());
}

#[tokio::test]
async fn what_goes_wrong_on_the_wire_is_told_apart() {
    let bench = Bench::claimed().await;
    let step = Step::Machines(machines::Step::Create {
        machine: MachineId(7),
        via: HostId(1),
    });
    for (breaks, kind) in [
        (Breaks::Garbage, FaultKind::Garbled),
        (Breaks::Refuse, FaultKind::Refused),
        (Breaks::Drop, FaultKind::Garbled),
    ] {
        bench.break_with("PUT /v1/machines", breaks);
        let fault = bench
            .drivers
            .perform(&bench.estate, &step, turn("create", 10))
            .await
            .unwrap_err();
        assert_eq!(fault.kind, kind, "{breaks:?}: {}", fault.said);
        assert!(!fault.remedy.is_empty());
    }
    assert!(
        bench
            .drivers
            .perform(&bench.estate, &step, turn("create", 10))
            .await
            .is_ok()
    );
    bench.standins.world.power("h1", false);
    let fault = bench
        .drivers
        .perform(&bench.estate, &step, turn("create", 10))
        .await
        .unwrap_err();
    assert!(fault.passing(), "{fault:?}");
}

#[tokio::test]
async fn a_full_volume_refuses_in_words_with_a_remedy() {
    let mut bench = Bench::claimed().await;
    let mut machine = bench.machine().clone();
    machine.disks[0].size = zastrugi_core::units::Bytes::gib(5000);
    machine.disks[0].provisioning = zastrugi_core::estate::Provisioning::Thick;
    bench.estate.put(Fact::Machine(machine.into()));
    let step = Step::Machines(machines::Step::Create {
        machine: MachineId(7),
        via: HostId(1),
    });
    let fault = bench
        .drivers
        .perform(&bench.estate, &step, turn("create", 10))
        .await
        .unwrap_err();
    assert!(fault.said.contains("slab is full"), "{}", fault.said);
    assert!(fault.remedy.contains("Free room"), "{}", fault.remedy);
}

#[tokio::test]
async fn reports_follow_each_other_and_say_when_something_changed() {
    let mut bench = Bench::claimed().await;
    let mut watch = bench.drivers.watch(bench.host()).await.unwrap();
    let (first, _) = watch.report().await.unwrap();
    assert!(first.machines.is_empty());
    bench
        .done(
            &Step::Machines(machines::Step::Create {
                machine: MachineId(7),
                via: HostId(1),
            }),
            turn("create", 10),
        )
        .await;
    bench
        .done(
            &Step::Machines(machines::Step::Start {
                machine: MachineId(7),
                host: HostId(1),
            }),
            turn("start", 11),
        )
        .await;
    let mut last = first;
    for _ in 0..20 {
        let (report, sample) = watch.report().await.unwrap();
        assert!(report.seq > last.seq, "its sequence only grows");
        last = report;
        if last
            .machines
            .iter()
            .any(|m| m.state == MachineState::Running { guest: true })
        {
            assert_eq!(sample.machines.len(), 1, "its load is measured");
            return;
        }
    }
    panic!("the machine never came up: {last:?}");
}
