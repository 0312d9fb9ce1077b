//! Proofs as pages show them: what came of a copy, what a guest said, and that what others said never becomes markup.

use crate::{
    house::House,
    pages::words,
    stores::{STORE, estate, two_points},
};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{AnyPoint, Came, Estate, Fact, Machine, PointAt, Proof, Question, Reply, StoredPoint},
    ids::{MachineId, StoreId},
    moment::{Moment, Span},
    units::Bytes,
};

fn proof(fine: bool) -> Proof {
    let reply = |question: &str, fine, said: &str| Reply {
        question: question.parse::<Question>().unwrap(),
        fine,
        said: said.into(),
    };
    Proof {
        at: Moment(1_700_000_000_000),
        host: "h<1>".into(),
        copy: "proof-db".into(),
        took: Span::mins(4),
        booted: Span::secs(40),
        came: Came::Up,
        said: String::new(),
        replies: vec![
            reply("tcp 22", true, "something listens"),
            reply("run check <all>", fine, "exit code 3: <b>disk</b> is full"),
        ],
        with: vec![],
        picture: Some(Uuid::from_u128(77)),
    }
}

/// Machine 7 with two points, of which the older was tried; answers the address of that.
fn tried(estate: &mut Estate, fine: bool) -> String {
    let m = estate.machines[&MachineId(7)].clone();
    let mut series = two_points(900, m.uuid, &m.name);
    series.points[0].session = Uuid::from_u128(1);
    series.points[0].proof = Some(Box::new(proof(fine)));
    estate.put(Fact::Series(Arc::new(series)));
    format!("/protect/stores/{STORE}/{}/{}", m.uuid, Uuid::from_u128(1))
}

/// If this fails, nobody sees why a point is not proven, or what a guest printed runs in the page of whoever looks.
#[sqlx::test(migrations = false)]
async fn a_point_shows_what_its_copy_answered_and_what_stood_on_its_screen(pool: PgPool) {
    let mut estate = estate();
    let path = tried(&mut estate, false);
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (status, page) = house.get(&cookie, &path).await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    for expected in [
        "did not come up well",
        "1 of 2 questions",
        "exit code 3",
        "run check",
        "4 min",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    assert!(page.contains(&format!("/pictures/{}", Uuid::from_u128(77))));
    assert!(!page.contains("<b>disk") && !page.contains("h<1>") && !page.contains("<all>"));
    let (status, part) = house.get(&cookie, &format!("{path}/part")).await;
    assert_eq!(status, Status::Ok);
    assert!(words(&part).contains("did not come up well"));
    // Lists say it of each, and of the one that nobody tried that nobody did.
    let series = path.rsplit_once('/').unwrap().0;
    for list in [series, "/protect/machines/7"] {
        let (_, page) = house.get(&cookie, list).await;
        let said = words(&page);
        assert!(
            said.contains("did not come up well") && said.contains("not tried"),
            "{list}: {said}"
        );
    }
}

/// If this fails, a point is offered to be proven a second time without a word of the copy that runs, or good ones are told as bad.
#[sqlx::test(migrations = false)]
async fn one_that_is_being_proven_names_its_copy(pool: PgPool) {
    let mut estate = estate();
    let path = tried(&mut estate, true);
    let m = estate.machines[&MachineId(7)].clone();
    let other = Machine {
        proves: Some(Box::new(AnyPoint::Stored(PointAt {
            store: StoreId(STORE),
            machine: m.uuid,
            session: Uuid::from_u128(1),
        }))),
        ..Machine::clone(&estate.machines[&MachineId(8)])
    };
    let name = other.name.clone();
    estate.put(Fact::Machine(Arc::new(other)));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (_, page) = house.get(&cookie, &path).await;
    let said = words(&page);
    assert!(
        said.contains("It is being proven") && said.contains(&name),
        "{said}"
    );
    assert!(said.contains("answered all 2 questions"), "{said}");
    let point = PointAt {
        store: StoreId(STORE),
        machine: m.uuid,
        session: Uuid::from_u128(1),
    };
    let (status, sheet) = house
        .get(&cookie, &format!("/sheet/prove?point={point}"))
        .await;
    assert_eq!(status, Status::Ok);
    assert!(
        words(&sheet).contains("being proven already"),
        "{}",
        words(&sheet)
    );
}

/// If this fails, what was typed is lost with the words about it, or questions are kept that nobody can ask.
#[sqlx::test(migrations = false)]
async fn what_a_machine_must_answer_is_read_line_by_line(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let path = "/sheet/must-answer?ids=7&questions=tcp%2022%0Asmtp%2025&sent=1";
    let (status, sheet) = house.get(&cookie, path).await;
    assert_eq!(status, Status::Ok);
    let said = words(&sheet);
    assert!(
        said.contains("Line 2") && sheet.contains("smtp 25") && !said.contains("line break"),
        "{said}"
    );
    let (_, page) = house.get(&cookie, "/protect/machines/7").await;
    assert!(words(&page).contains("Nobody said"), "{}", words(&page));
}

/// If this fails, nobody is told that the newest copy is worth nothing, or that something wrote over half a machine.
#[sqlx::test(migrations = false)]
async fn what_did_not_come_up_and_what_is_unusual_needs_somebody(pool: PgPool) {
    let mut estate = estate();
    tried(&mut estate, false);
    let m = estate.machines[&MachineId(8)].clone();
    let mut series = two_points(901, m.uuid, &m.name);
    let newest = series.points.last().unwrap().clone();
    series.points = (0..7)
        .map(|n: u64| StoredPoint {
            session: Uuid::from_u128(u128::from(900 + n)),
            taken: newest.taken.before(Span::days(6 - n)),
            read: if n == 6 {
                Bytes::gib(30)
            } else {
                Bytes::gib(2)
            },
            ..newest.clone()
        })
        .collect();
    estate.put(Fact::Series(Arc::new(series)));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (_, page) = house.get(&cookie, "/").await;
    let said = words(&page);
    assert!(
        said.contains("did not come up well") && said.contains("unusual change"),
        "{said}"
    );
    let (_, list) = house
        .get(&cookie, &format!("/protect/stores/{STORE}/{}", m.uuid))
        .await;
    let said = words(&list);
    assert!(
        said.contains("30 GiB changed") && said.contains("2 GiB"),
        "{said}"
    );
}
