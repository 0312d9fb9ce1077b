//! Graphical screens on real sockets: seen, typed at by who may, ended with the machine; and pictures that outlive it.

use crate::lab::{Lab, eventually};
use sqlx::PgPool;
use std::time::Duration;
use zastrugi_core::rooms::machines;
use zastrugi_core::{
    ids::MachineId, permits::Role, rooms::Proposal, rooms::consoles::ConsoleOf,
    rooms::machines::PowerAct,
};
use zastrugi_engine::{ConsoleError, ConsoleWay, EventFilter, Screen, Viewer};

const SESSION: &str = "a session";

async fn lab(pool: &PgPool) -> (Lab, MachineId) {
    let lab = Lab::new(pool, 1).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    let id = lab.machine("m");
    (lab, id)
}

async fn open(lab: &Lab, viewer: &Viewer, id: MachineId) -> Screen {
    let of = ConsoleOf::Machine(id);
    let ticket = lab
        .desk
        .console_ticket(viewer, of, ConsoleWay::Screen, SESSION, "");
    let ticket = ticket.await.unwrap();
    let mut screen = lab
        .desk
        .screen(viewer, id, SESSION, &ticket, "de")
        .await
        .unwrap();
    // RFC 6143, section 7.1 to 7.3: version, security type None, shared.
    take(&mut screen, 12).await;
    screen.send(b"RFB 003.008\n").await.unwrap();
    take(&mut screen, 2).await;
    screen.send(&[1]).await.unwrap();
    take(&mut screen, 4).await;
    screen.send(&[1]).await.unwrap();
    let init = take(&mut screen, 25).await;
    assert_eq!(init[24], b'm', "its name");
    screen
}

/// Bytes until there are at least so many.
async fn take(screen: &mut Screen, least: usize) -> Vec<u8> {
    let mut all = Vec::new();
    while all.len() < least {
        let next = tokio::time::timeout(Duration::from_secs(10), screen.next()).await;
        all.extend(next.unwrap().unwrap());
    }
    all
}

const ASK: [u8; 10] = [3, 0, 0, 0, 0, 0, 2, 128, 1, 144];

fn key(symbol: u32, down: bool) -> Vec<u8> {
    let mut message = vec![4, u8::from(down), 0, 0];
    message.extend(symbol.to_be_bytes());
    message
}

async fn picture(lab: &Lab, id: MachineId) -> Vec<u8> {
    lab.desk.picture_now(id).await.unwrap()
}

#[sqlx::test(migrations = false)]
async fn a_screen_is_seen_and_typed_at_by_who_may(pool: PgPool) {
    let (lab, id) = lab(&pool).await;
    let mut ours = open(&lab, &lab.admin, id).await;
    ours.send(&ASK).await.unwrap();
    let update = take(&mut ours, 16 + 640 * 400 * 4).await;
    assert_eq!(update[..4], [0, 0, 0, 1]);
    assert_eq!(update[8..12], [2, 128, 1, 144], "the whole screen");

    // The boot's end, the field that waits: the picture stands still but for the clock, which reading twice allows for.
    let viewer = Viewer {
        role: Role::Viewer,
        ..lab.admin.clone()
    };
    let mut theirs = open(&lab, &viewer, id).await;
    let typed = |symbols: &[u32]| {
        symbols
            .iter()
            .flat_map(|s| [key(*s, true), key(*s, false)])
            .flatten()
            .collect::<Vec<u8>>()
    };
    // Ctrl-Alt-F2 would show the text console, black as it is; a viewer's keys don't get there.
    let second = [key(0xffe3, true), key(0xffe9, true), key(0xffbf, true)].concat();
    theirs.send(&second).await.unwrap();
    theirs.send(&typed(&[0x61])).await.unwrap();
    theirs.send(&ASK).await.unwrap();
    take(&mut theirs, 16).await;
    let before = picture(&lab, id).await;
    ours.send(&second).await.unwrap();
    let dark = || async { picture(&lab, id).await.len() * 2 < before.len() };
    let mut seen = false;
    for _ in 0..50 {
        seen = dark().await;
        if seen {
            break;
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    assert!(
        seen,
        "the operator's keys do, and the text screen is simpler than the door"
    );

    let events = EventFilter {
        kind: "console".into(),
        ..EventFilter::default()
    };
    let told = lab.desk.events(&events, 10).await.unwrap();
    let texts: Vec<_> = told.iter().map(|e| e.text.as_str()).collect();
    assert_eq!(
        texts,
        [
            "The screen of m was opened, to look at",
            "The screen of m was opened"
        ]
    );
}

#[sqlx::test(migrations = false)]
async fn the_last_picture_before_a_reset_or_a_crash_is_kept_with_the_event(pool: PgPool) {
    let (lab, id) = lab(&pool).await;
    let screen = open(&lab, &lab.admin, id).await;
    lab.standins.world.crash("m");
    let kept = |why: &'static str| {
        let desk = lab.desk.clone();
        async move {
            for _ in 0..100 {
                let newest = desk.kept_picture(id).await.unwrap();
                if let Some(picture) = newest.filter(|p| p.why == why) {
                    return picture;
                }
                tokio::time::sleep(Duration::from_millis(100)).await;
            }
            panic!("no picture is kept: {why}");
        }
    };
    let crash = kept("the guest crashed").await;
    let png = lab.desk.kept_bytes(crash.id).await.unwrap().unwrap();
    assert!(png.starts_with(b"\x89PNG"));
    let paused = || {
        let state = lab.estate().machines[&id].state.clone();
        matches!(state, zastrugi_core::estate::MachineState::Paused(why) if why.contains("crashed"))
    };
    eventually("the machine is shown as crashed", paused).await;

    lab.done(Proposal::Machines(machines::Ask::Power {
        machines: vec![id],
        act: PowerAct::Off,
    }))
    .await;
    let reset = kept("it was powered off").await;
    assert_ne!(crash.id, reset.id);
    let events = EventFilter {
        about: format!("picture-{}", crash.id),
        ..EventFilter::default()
    };
    let told = lab.desk.events(&events, 10).await.unwrap();
    assert_eq!(told.len(), 1, "once");
    assert!(
        told[0].text.contains("the guest crashed"),
        "{}",
        told[0].text
    );
    let mut screen = screen;
    let ends = async { while screen.next().await.is_some() {} };
    let ended = tokio::time::timeout(Duration::from_secs(10), ends).await;
    assert!(ended.is_ok(), "the screen ends with its machine");
    let ticket = lab.desk.console_ticket(
        &lab.admin,
        ConsoleOf::Machine(id),
        ConsoleWay::Screen,
        SESSION,
        "",
    );
    let ticket = ticket.await.unwrap();
    let refused = lab
        .desk
        .screen(&lab.admin, id, SESSION, &ticket, "us")
        .await;
    assert!(matches!(refused.map(drop), Err(ConsoleError::Off)));
}
