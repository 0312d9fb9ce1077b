//! Text consoles on real sockets: one follows its machine, several look, one types, and the clock tells the downtime.

use crate::{
    lab::{Lab, eventually},
    moving::{go, lab as moving_lab},
};
use sqlx::PgPool;
use std::time::Duration;
use zastrugi_core::rooms::machines;
use zastrugi_core::{
    ids::{HostId, MachineId},
    permits::Role,
    rooms::Proposal,
    rooms::consoles::ConsoleOf,
};
use zastrugi_engine::{ConsoleError, ConsoleWay, EventFilter, Look, Told, Viewer};

const SESSION: &str = "a session";

async fn look(lab: &Lab, viewer: &Viewer, machine: MachineId) -> Look {
    let of = ConsoleOf::Machine(machine);
    let ticket = lab
        .desk
        .console_ticket(viewer, of, ConsoleWay::Text, SESSION, "")
        .await;
    let ticket = ticket.unwrap();
    lab.desk.console(viewer, of, SESSION, &ticket).unwrap()
}

/// Reads on until what was printed says so.
async fn until(look: &mut Look, read: &mut String, words: &str) {
    let reading = async {
        while !read.contains(words) {
            match look.next().await {
                Some(Told::Printed(bytes)) => read.push_str(&String::from_utf8_lossy(&bytes)),
                Some(_) => {}
                None => panic!("too slow"),
            }
        }
    };
    let done = tokio::time::timeout(Duration::from_secs(20), reading).await;
    assert!(done.is_ok(), "it never prints “{words}”:\n{read}");
}

/// Milliseconds since midnight of every tick of the clock.
fn ticks(read: &str) -> Vec<i64> {
    let time = |line: &str| {
        let mut parts = line.trim().split([':', '.']);
        let mut number = || parts.next()?.parse::<i64>().ok();
        let (h, m, s, tenth) = (number()?, number()?, number()?, number()?);
        Some(((h * 60 + m) * 60 + s) * 1000 + tenth * 100)
    };
    read.split('\r').filter_map(time).collect()
}

#[sqlx::test(migrations = false)]
async fn the_clock_of_a_console_stands_still_as_long_as_the_move_says(pool: PgPool) {
    let lab = moving_lab(&pool, 2).await;
    let id = lab.machine("m");
    let mut console = look(&lab, &lab.admin, id).await;
    let mut read = String::new();
    until(&mut console, &mut read, "name: ").await;
    console.type_text("ann\rsecret\r").await;
    until(&mut console, &mut read, "ann@m:~$ ").await;
    console.type_text("clock\r").await;
    until(&mut console, &mut read, ".5").await;
    read.clear();
    lab.done(go(&lab, |_| {})).await;
    let host = lab.estate().machine_named("m").unwrap().host.unwrap();
    let name = lab.estate().hosts[&host].name.clone();
    // It goes on by itself at the other host, without a byte lost or twice.
    let mut there = false;
    let mut after = 0;
    while !there || after < 40 {
        match console.next().await {
            Some(Told::Printed(bytes)) => {
                read.push_str(&String::from_utf8_lossy(&bytes));
                after += usize::from(there);
            }
            Some(Told::State(words)) => there |= words == format!("on {name}"),
            Some(Told::People { .. }) => {}
            Some(Told::Undelivered) => panic!("what was typed is lost"),
            None => panic!("too slow"),
        }
    }
    let ticks = ticks(&read);
    assert!(ticks.len() > 50);
    let gaps: Vec<i64> = ticks.windows(2).map(|w| w[1] - w[0]).collect();
    assert!(gaps.iter().all(|g| *g > 0), "nothing came twice");
    let longest = gaps.iter().max().unwrap() - 100;
    let moved = lab
        .estate()
        .machine_named("m")
        .unwrap()
        .moved
        .clone()
        .unwrap();
    let said = i64::try_from(moved.measured.stood_still.0).unwrap();
    assert!(
        (longest - said).abs() <= 100,
        "{longest} ms, {said} ms were reported"
    );
    let long = gaps.iter().filter(|g| **g > 200).count();
    assert_eq!(long, 1, "it stood still once");
    // A new prompt at the new host: it is the same guest.
    console.type_text("\u{3}serial\r").await;
    read.clear();
    until(&mut console, &mut read, "host SN").await;
}

#[sqlx::test(migrations = false)]
async fn several_look_one_types_and_each_opening_is_recorded(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    let id = lab.machine("m");
    let person = |name: &'static str, role: Role| {
        let desk = lab.desk.clone();
        async move {
            let id = desk
                .add_person(name, role, "laboratory lanterns")
                .await
                .unwrap();
            Viewer {
                id,
                name: name.into(),
                role,
            }
        }
    };
    let (olga, vera) = (
        person("olga", Role::Operator).await,
        person("vera", Role::Viewer).await,
    );
    let mut read = String::new();
    let mut first = look(&lab, &lab.admin, id).await;
    until(&mut first, &mut read, "name: ").await;
    let second = look(&lab, &olga, id).await;
    let mut third = look(&lab, &vera, id).await;
    assert!(first.is_writer() && !second.is_writer() && !third.is_writer());
    // Who only looks can't type, and can't take over.
    third.take_over();
    third.type_text("vera\r").await;
    second.take_over();
    assert!(second.is_writer() && !first.is_writer());
    first.type_text("ann\r").await;
    second.type_text("bo\r").await;
    let mut seen = String::new();
    until(&mut third, &mut seen, "password: ").await;
    assert!(
        seen.contains("name: bo"),
        "late comers see what was printed: {seen}"
    );
    assert!(!seen.contains("vera") && !seen.contains("ann"));
    drop(second);
    let nobody = async {
        loop {
            if let Some(Told::People { writer, viewers }) = first.next().await
                && writer.is_empty()
            {
                return viewers;
            }
        }
    };
    let left = tokio::time::timeout(Duration::from_secs(10), nobody).await;
    assert_eq!(left.unwrap(), 2, "who typed has gone");

    // The machine stops from inside; the console says so and is there again when it is on.
    first.take_over();
    first.type_text("x\rpoweroff\r").await;
    let off = || lab.estate().machine_named("m").unwrap().is_off();
    eventually("it is off", off).await;
    let says_off = async {
        loop {
            if first.next().await == Some(Told::State("the machine is off".into())) {
                return;
            }
        }
    };
    tokio::time::timeout(Duration::from_secs(10), says_off)
        .await
        .unwrap();
    let on = zastrugi_core::rooms::machines::PowerAct::On { host: None };
    let machines = vec![id];
    lab.done(Proposal::Machines(machines::Ask::Power {
        machines,
        act: on,
    }))
    .await;
    let mut again = String::new();
    until(&mut first, &mut again, "Pilot Linux 12 on m").await;

    let foreign = lab
        .desk
        .console_ticket(&olga, ConsoleOf::Machine(id), ConsoleWay::Text, SESSION, "")
        .await
        .unwrap();
    let refused = lab
        .desk
        .console(&olga, ConsoleOf::Machine(id), "another session", &foreign);
    assert_eq!(refused.err(), Some(ConsoleError::Ticket));
    let events = lab.desk.events(&EventFilter::default(), 200).await.unwrap();
    let opened = events
        .iter()
        .filter(|e| e.text.contains("console of m was opened"));
    let by: Vec<&str> = opened.map(|e| e.who.as_str()).collect();
    assert_eq!(by.len(), 4, "{by:?}");
    assert!(by.contains(&"vera") && by.contains(&"olga") && by.contains(&"lab.admin"));
}

#[sqlx::test(migrations = false)]
async fn a_host_s_own_console_tells_when_its_agent_is_stuck_or_it_has_no_power(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let id: HostId = *lab.estate().hosts.keys().next().unwrap();
    let of = ConsoleOf::Host(id);
    let ticket = lab
        .desk
        .console_ticket(&lab.admin, of, ConsoleWay::Text, SESSION, "")
        .await;
    let opened = lab.desk.console(&lab.admin, of, SESSION, &ticket.unwrap());
    let mut console = opened.unwrap();
    let mut read = String::new();
    until(&mut console, &mut read, "hypervisor 4.2.1").await;
    console.type_text("agent\r").await;
    until(&mut console, &mut read, "answers").await;
    lab.standins.world.add_fault(zastrugi_standins::Fault {
        device: "h1".into(),
        call: String::new(),
        kind: zastrugi_standins::FaultKind::Hang,
        times: 1000,
    });
    until(&mut console, &mut read, "blocked for more than 120 s").await;
    lab.standins.world.power("h1", false);
    until(&mut console, &mut read, "** no power **").await;
    lab.standins.world.clear_faults();
    lab.standins.world.power("h1", true);
    until(&mut console, &mut read, "boot 2").await;
}

/// If this fails, whoever may look at a machine reads along at a console that its team keeps to itself, or somebody tries
/// passwords until one fits.
#[sqlx::test(migrations = false)]
async fn a_console_with_a_password_opens_with_that_alone(pool: PgPool) {
    use zastrugi_core::{endpoint::Password, rooms::console_locks::Ask};
    let lab = moving_lab(&pool, 2).await;
    let id = lab.machine("m");
    let of = ConsoleOf::Machine(id);
    let kept = lab.desk.keep_hash("the-tide-turns").await.unwrap();
    let lock = |password, open| {
        Proposal::ConsoleLocks(Ask::Lock {
            machines: vec![id],
            password,
            open,
        })
    };
    lab.done(lock(Password::Kept(kept), false)).await;
    let ask = async |way, password: &str| {
        lab.desk
            .console_ticket(&lab.admin, of, way, SESSION, password)
            .await
    };
    let locked = ask(ConsoleWay::Text, "").await;
    assert_eq!(locked, Err(ConsoleError::Locked), "whatever their role");
    assert_eq!(
        lab.desk.picture_now(id).await.map(drop),
        Err(ConsoleError::Locked)
    );
    assert_eq!(
        ask(ConsoleWay::Screen, "the-tide").await,
        Err(ConsoleError::Wrong)
    );
    let ticket = ask(ConsoleWay::Text, "the-tide-turns").await.unwrap();
    assert!(lab.desk.console(&lab.admin, of, SESSION, &ticket).is_ok());
    let events = lab.desk.events(&EventFilter::default(), 50).await.unwrap();
    let told = |words: &str| events.iter().any(|e| e.text.contains(words));
    assert!(told("A wrong password was typed for the console of m"));
    assert!(told("The console of m has a password now"));
    for _ in 0..5 {
        drop(ask(ConsoleWay::Text, "guess").await);
    }
    let waits = ask(ConsoleWay::Text, "the-tide-turns").await;
    assert_eq!(waits, Err(ConsoleError::Waits), "nobody tries for ever");
    lab.done(lock(Password::Missing, true)).await;
    assert!(ask(ConsoleWay::Text, "").await.is_ok());
}
