//! Failures of hosts: their list, their stories, and who is asked for what.

use crate::house::House;
use rocket::http::Status;
use sqlx::PgPool;
use zastrugi_core::{
    estate::Act,
    guard::{Note, Proof},
    ids::{ClusterId, HostId, MachineId},
    moment::{Moment, Span},
    recounting::recount,
    rooms::Plans,
    testkit::{Small, read},
};

const TWO: &str =
    "cluster eider\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1 tier=1\nmachine 8 web 16 on 1";
const ONE: HostId = HostId(1);

fn told(notes: &[Note]) -> Small {
    let mut small = read(TWO);
    for (n, note) in notes.iter().enumerate() {
        let at = Moment(1_000_000 + 5000 * i64::try_from(n).unwrap());
        let events = recount(&small.view, &Plans::default(), ClusterId(901), note, at);
        small.fold(&events);
    }
    small
}

fn judged(act: Act) -> Note {
    Note::Judged {
        host: ONE,
        since: Moment(985_000),
        evidence: "not heard for 15 s; its controller says that it is off".into(),
        act,
    }
}

#[sqlx::test(migrations = false)]
async fn a_story_says_what_was_seen_who_runs_where_and_how_long_it_took(pool: PgPool) {
    let fenced = Note::Fenced {
        host: ONE,
        proof: Proof::Controller,
    };
    let starts = Note::Starts {
        machine: MachineId(7),
        from: ONE,
        to: HostId(2),
    };
    let up = Note::Up {
        machine: MachineId(7),
        from: ONE,
        on: HostId(2),
        took: Span::secs(5),
    };
    let left = Note::Left {
        machine: MachineId(8),
        from: ONE,
        why: "no host that is left may take it".into(),
    };
    let small = told(&[judged(Act::Prove), fenced, starts, up, left]);
    let id = small.view.estate.failures.keys().next().unwrap().0;
    let house = House::of(&pool, &small.view.estate).await;
    let viewer = house.sign_in("vera").await;
    let (_, list) = house.get(&viewer, "/logbook/failures").await;
    assert!(
        list.contains("1 of 2 are up") && list.contains("some stay off"),
        "{list}"
    );
    let (status, page) = house.get(&viewer, &format!("/logbook/failures/{id}")).await;
    assert_eq!(status, Status::Ok);
    for words in [
        "h1 failed",
        "its controller says that it is off",
        "its controller said so twice",
        "no host that is left may take it",
        "First machine up after",
        "Foretold for the last",
        "aria-label=\"h1: ",
    ] {
        assert!(page.contains(words), "“{words}” is not said:\n{page}");
    }
    assert!(!page.contains("Start by hand"), "a viewer starts nothing");
    let admin = house.sign_in("ada").await;
    let (_, page) = house.get(&admin, &format!("/logbook/failures/{id}")).await;
    assert!(
        page.contains("/sheet/power?act=on&#38;ids=8")
            || page.contains("/sheet/power?act=on&amp;ids=8"),
        "{page}"
    );
    // Its machine that stays off is asked for; the one that is on its way is not.
    let (_, field) = house.get(&admin, "/").await;
    assert!(field.contains("web, which was on h1, is off"), "{field}");
    let (status, _) = house.get(&admin, "/logbook/failures/99").await;
    assert_eq!(status, Status::NotFound);
}

#[sqlx::test(migrations = false)]
async fn a_failure_that_goes_its_way_asks_nobody(pool: PgPool) {
    let quiet = told(&[judged(Act::AwaitWatchdog)]);
    let house = House::of(&pool, &quiet.view.estate).await;
    let admin = house.sign_in("ada").await;
    let (_, field) = house.get(&admin, "/").await;
    assert!(!field.contains("h1 has failed"), "nobody need do anything");
    let (_, list) = house.get(&admin, "/logbook/failures").await;
    assert!(list.contains("being fenced"));
}

#[sqlx::test(migrations = false)]
async fn a_failure_that_waits_for_a_person_says_why_and_what_they_can_do(pool: PgPool) {
    let waits = Note::Waits {
        host: ONE,
        why: "no watchdog of it is armed".into(),
    };
    let small = told(&[judged(Act::AskPerson), waits]);
    let id = small.view.estate.failures.keys().next().unwrap().0;
    let house = House::of(&pool, &small.view.estate).await;
    let admin = house.sign_in("ada").await;
    let (_, field) = house.get(&admin, "/").await;
    assert!(
        field.contains("h1 has failed, and nothing is started elsewhere until you act"),
        "{field}"
    );
    let (_, page) = house.get(&admin, &format!("/logbook/failures/{id}")).await;
    assert!(
        page.contains(
            "Nothing is started elsewhere until somebody acts: no watchdog of it is armed."
        ),
        "{page}"
    );
    assert!(
        page.contains("act=declare") && page.contains("Switch it off"),
        "{page}"
    );
}

#[sqlx::test(migrations = false)]
async fn an_estate_in_which_nothing_failed_says_what_would_stand_here(pool: PgPool) {
    let house = House::new(&pool, TWO).await;
    let viewer = house.sign_in("vera").await;
    let (_, page) = house.get(&viewer, "/logbook/failures").await;
    assert!(page.contains("No host has failed."));
    let (status, _) = house.get(&viewer, "/weather").await;
    assert_eq!(status, Status::Forbidden);
    let admin = house.sign_in("ada").await;
    let (status, page) = house.get(&admin, "/weather").await;
    assert_eq!(
        status,
        Status::NotFound,
        "there is no weather where nothing is simulated"
    );
    assert!(!page.contains("href=\"/weather\""));
}
