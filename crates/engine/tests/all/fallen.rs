//! Hosts that go down under their machines: proved off, machines started elsewhere, and back again.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{Condition, MachineState, Wanted},
    ids::{HostId, MachineId},
    moment::Span,
    rooms::{
        Proposal,
        hosts::{self, HostPower},
        machines::{self, AfterGrace, PowerAct},
    },
    runs::RunState,
};

fn power(machine: MachineId, act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![machine],
        act,
    })
}

async fn switched(lab: &Lab, host: HostId, act: HostPower) {
    lab.desk.ask_controller(host, true).await;
    let run = lab
        .done(Proposal::Hosts(hosts::Ask::Power { host, act }))
        .await;
    assert_eq!(run.state, RunState::Done);
}

/// One machine that is on, with its host.
async fn one_on(lab: &Lab) -> (MachineId, HostId, String) {
    lab.ready().await;
    lab.done(lab.create("gate", 1, true)).await;
    let gate = lab.machine("gate");
    let host = lab.estate().machines[&gate].host.unwrap();
    let name = lab.estate().hosts[&host].name.clone();
    (gate, host, name)
}

async fn lost(lab: &Lab, host: HostId) {
    let silent = || lab.estate().hosts[&host].silent_since().is_some();
    eventually("the host counts as lost", silent).await;
}

#[sqlx::test(migrations = false)]
async fn machines_of_a_host_without_power_start_elsewhere_once_it_is_proved_off(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    let (gate, host, name) = one_on(&lab).await;
    lab.standins.world.power(&name, false);
    lost(&lab, host).await;
    let on = power(gate, PowerAct::On { host: None });
    let said = lab.desk.assess(&lab.admin, &on);
    assert!(said.blocked(), "nobody knows whether it runs");
    switched(&lab, host, HostPower::Off).await;
    let estate = lab.estate();
    assert!(matches!(
        estate.hosts[&host].condition,
        Condition::Off { .. }
    ));
    let fell = &estate.machines[&gate];
    assert_eq!((&fell.state, fell.wanted), (&MachineState::Off, Wanted::On));
    let run = lab.done(on).await;
    assert_eq!(
        run.state,
        RunState::Done,
        "its old host can't give the run lease back, and need not"
    );
    let there = lab.estate().machines[&gate].host.unwrap();
    assert_ne!(there, host);
    // The old host comes back and starts nothing; the machine is where it was started.
    lab.standins.world.power(&name, true);
    let back = || lab.estate().hosts[&host].accepts_work();
    eventually("it answers again", back).await;
    assert_eq!(lab.estate().machines[&gate].host, Some(there));
    assert_eq!(lab.estate().machines_fallen().count(), 0);
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_host_that_hangs_is_switched_off_and_on_by_its_controller(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    let (gate, host, name) = one_on(&lab).await;
    lab.standins.world.hang(&name, true);
    lost(&lab, host).await;
    lab.standins.world.hang(&name, false);
    let run = {
        lab.desk.ask_controller(host, true).await;
        let act = HostPower::Restart;
        lab.start(Proposal::Hosts(hosts::Ask::Power { host, act }))
            .await
    };
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(ended.state, RunState::Done);
    let back = || lab.estate().hosts[&host].accepts_work();
    eventually("it answers again", back).await;
    let fell = || lab.estate().machines[&gate].fell.is_some();
    eventually("its machine is known to have gone down", fell).await;
    let run = lab
        .done(power(gate, PowerAct::On { host: Some(host) }))
        .await;
    assert_eq!(run.state, RunState::Done);
}

#[sqlx::test(migrations = false)]
async fn after_a_power_cut_its_machines_are_asked_for_and_start_where_they_were(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let (gate, host, name) = one_on(&lab).await;
    lab.standins.world.power(&name, false);
    lost(&lab, host).await;
    lab.standins.world.power(&name, true);
    let fell = || lab.estate().machines[&gate].fell.is_some();
    eventually("it should be on and is off", fell).await;
    let run = lab.done(power(gate, PowerAct::On { host: None })).await;
    assert_eq!(run.state, RunState::Done);
    assert!(lab.estate().machines[&gate].fell.is_none());
}

#[sqlx::test(migrations = false)]
async fn a_machine_that_was_stopped_is_not_asked_for_after_a_power_cut(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    let (gate, host, name) = one_on(&lab).await;
    let (grace, then) = (Span::secs(60), AfterGrace::PowerOff);
    lab.done(power(gate, PowerAct::Stop { grace, then })).await;
    lab.standins.world.power(&name, false);
    lost(&lab, host).await;
    lab.standins.world.power(&name, true);
    let back = || lab.estate().hosts[&host].accepts_work();
    eventually("it answers again", back).await;
    assert_eq!(lab.estate().machines_fallen().count(), 0);
}

/// Its stream lives, so everything looked well; whatever was asked of it then failed after minutes of tries.
#[sqlx::test(migrations = false)]
async fn a_host_that_reports_and_answers_nothing_is_not_called_steady(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    let (gate, host, name) = one_on(&lab).await;
    lab.standins.world.add_fault(zastrugi_standins::Fault {
        device: name.clone(),
        call: "/v1/".into(),
        kind: zastrugi_standins::FaultKind::Hang,
        times: u32::MAX,
    });
    let hangs = || matches!(lab.estate().hosts[&host].condition, Condition::Hangs { .. });
    eventually("it is said that it answers nothing", hangs).await;
    let estate = lab.estate();
    assert!(
        estate.unknown(&estate.machines[&gate]).is_none(),
        "its reports come"
    );
    let (grace, then) = (Span::secs(60), AfterGrace::LeaveOn);
    let said = lab
        .desk
        .assess(&lab.admin, &power(gate, PowerAct::Stop { grace, then }));
    let stop = said.findings().iter().find(|f| f.stops()).unwrap();
    assert!(
        stop.text.contains("answers nothing that it is asked"),
        "{}",
        stop.text
    );
    assert!(stop.remedy.as_ref().unwrap().contains("Restart the agent"));
    // New machines go to the other one.
    let run = lab.done(lab.create("tide-{01}", 2, true)).await;
    assert_eq!(run.state, RunState::Done);
    assert_eq!(lab.estate().machines_on(host).count(), 1);
    lab.standins.world.clear_faults();
    let back = || lab.estate().hosts[&host].accepts_work();
    eventually("it answers again", back).await;
}
