//! Stores of backups as pages show them: what each has of which machine, where that stands on a machine's time line, and a key that
//! can't be taken out.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{Bucket, Consistent, Estate, Fact, Series, Store, StoredPoint},
    ids::{MachineId, SecretRef, SeriesId, SiteId, StoreId},
    moment::{Moment, Span},
    testkit::read,
    units::Bytes,
};

const STORE: u64 = 760;

fn now() -> Moment {
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    Moment(i64::try_from(since.unwrap().as_millis()).unwrap())
}

fn store() -> Store {
    Store {
        id: StoreId(STORE),
        name: "break<b>water".into(),
        site: SiteId(900),
        uuid: Uuid::from_u128(1),
        bucket: Bucket {
            address: "10.20.0.90:9443".into(),
            pin: "ab".repeat(32),
            region: "us-east-1".into(),
            name: "points".into(),
            folder: "hill".into(),
            access: "zastrugi".into(),
            secret: None,
        },
        key: Some(SecretRef(Uuid::from_u128(3))),
        ready: true,
        taken_out: None,
    }
}

fn series(id: u64, machine: Uuid, name: &str) -> Fact {
    let point = |age| StoredPoint {
        session: Uuid::from_u128(u128::from(id)),
        taken: now().before(age),
        consistent: Consistent::Quiet,
        size: Bytes::gib(40),
        read: Bytes::gib(2),
        stored: Bytes::mib(300),
        took: Span::secs(20),
    };
    Fact::Series(Arc::new(Series {
        id: SeriesId(id),
        store: StoreId(STORE),
        machine,
        name: name.into(),
        points: vec![point(Span::mins(90)), point(Span::mins(20))],
    }))
}

fn estate() -> Estate {
    let mut estate = Estate::clone(&read(crate::house::ESTATE).view.estate);
    estate.put(Fact::Store(Arc::new(store())));
    estate
}

/// If this fails, somebody looks for a copy and does not find it, or names of others become markup.
#[sqlx::test(migrations = false)]
async fn what_a_store_has_stands_on_its_page_and_on_the_machines(pool: PgPool) {
    let mut estate = estate();
    let m = estate.machines[&MachineId(7)].clone();
    estate.put(series(900, m.uuid, &m.name));
    estate.put(series(901, Uuid::from_u128(99), "was <i>here"));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (_, list) = house.get(&cookie, "/protect").await;
    let said = words(&list);
    assert!(
        said.contains("4 of 2 machines") && said.contains("its key was never taken out"),
        "{said}"
    );
    let path = format!("/protect/stores/{STORE}");
    let (status, page) = house.get(&cookie, &path).await;
    assert_eq!(status, Status::Ok);
    assert!(!page.contains("break<b>water") && !page.contains("was <i>here"));
    let said = words(&page);
    assert!(
        said.contains("https://10.20.0.90:9443/points/hill") && said.contains("gone"),
        "{said}"
    );
    let (_, page) = house.get(&cookie, "/protect/machines/7").await;
    let said = words(&page);
    assert!(
        said.contains("In stores") && said.contains("2 GiB") && said.contains("300 MiB"),
        "{said}"
    );
    let (status, _) = house.get(&cookie, "/protect/stores/12345").await;
    assert_eq!(status, Status::NotFound);
}

/// If this fails, a store of a large estate makes a page that no browser likes.
#[sqlx::test(migrations = false)]
async fn a_store_with_a_thousand_machines_shows_a_window_of_them(pool: PgPool) {
    let mut estate = estate();
    for n in 0..1000 {
        estate.put(series(
            2000 + n,
            Uuid::from_u128(5000 + u128::from(n)),
            &format!("m{n:04}"),
        ));
    }
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("vera").await;
    let (_, page) = house
        .get(&cookie, &format!("/protect/stores/{STORE}"))
        .await;
    assert!(
        page.contains("m0000") && !page.contains("m0999"),
        "a window"
    );
    assert!(!page.contains("Take it out"), "nothing for whoever may not");
}

/// If this fails, somebody believes to have a key, or the Logbook says that they do.
#[sqlx::test(migrations = false)]
async fn a_key_that_is_not_kept_any_more_is_said_to_be_so(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let path = format!("/protect/stores/{STORE}/key");
    let (status, page) = house.post(&cookie, &path, format!("_csrf={token}")).await;
    assert_eq!(status, Status::UnprocessableEntity);
    let said = words(&page);
    assert!(!said.contains("The key of break"), "{said}");
}
