//! Files of recovery points as pages show them, and the sheet that makes a volume for machines.

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
    estate::{Array, Estate, Fact, Pool},
    ids::{ArrayId, MachineId, SiteId},
    testkit,
    units::Bytes,
};

/// A store that nobody answers for, with points of machine 7; answers the address of the first.
fn silent(estate: &mut Estate) -> String {
    let m = estate.machines[&MachineId(7)].clone();
    let mut series = two_points(900, m.uuid, &m.name);
    series.points[0].session = Uuid::from_u128(1);
    estate.put(Fact::Series(Arc::new(series)));
    format!("/protect/stores/{STORE}/{}/{}", m.uuid, Uuid::from_u128(1))
}

/// If this fails, the page of files is empty where its store is silent, or a file is handed out that nobody read.
#[sqlx::test(migrations = false)]
async fn a_silent_store_is_said_and_hands_out_nothing(pool: PgPool) {
    let mut estate = estate();
    let path = silent(&mut estate);
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (status, page) = house
        .get(&cookie, &format!("{path}/files?inside=1/2/etc"))
        .await;
    assert_eq!(status, Status::Ok);
    assert!(words(&page).contains("nothing is put back for it"));
    assert!(
        page.contains(&format!("{path}/files/list?inside=1%2F2%2Fetc")),
        "{page}"
    );
    let (status, part) = house
        .get(&cookie, &format!("{path}/files/list?inside=1/2/etc/app"))
        .await;
    assert_eq!(status, Status::Ok);
    assert!(part.contains("role=\"alert\""), "{part}");
    // The way back is there, and nothing says that the folder is empty.
    let said = words(&part);
    assert!(
        said.contains("Disk 1") && said.contains("partition 2") && said.contains("etc"),
        "{said}"
    );
    assert!(
        !said.contains("Nothing is in this folder") && !said.contains("no partition"),
        "{said}"
    );
    let token = house.token(&cookie).await;
    let body = format!("_csrf={token}&inside=1/2/etc/hostname");
    let (status, page) = house.post(&cookie, &format!("{path}/file"), body).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(words(&page).len() > 20, "no word of why");
    for wrong in ["", "x", "1/y/z", "0/0"] {
        let body = format!("_csrf={token}&inside={wrong}");
        let (status, _) = house.post(&cookie, &format!("{path}/file"), body).await;
        assert_eq!(status, Status::NotFound, "{wrong}");
    }
    let gone = path.replace(
        &Uuid::from_u128(1).to_string(),
        &Uuid::from_u128(9).to_string(),
    );
    assert_eq!(
        house.get(&cookie, &format!("{gone}/files")).await.0,
        Status::NotFound
    );
}

/// If this fails, nobody finds that a pool has room, or what was typed for the volume is lost when it is not shown.
#[sqlx::test(migrations = false)]
async fn a_new_volume_is_chosen_where_machines_are_made(pool: PgPool) {
    let mut estate = estate();
    let pool_of = |name: &str| Pool {
        name: name.into(),
        capacity: Bytes::gib(4 << 10),
        used: Bytes::ZERO,
        service: None,
    };
    estate.put(Fact::Array(Arc::new(Array {
        pools: vec![pool_of("tide"), pool_of("ebb.2")],
        portals: vec!["10.0.9.1:3260".into(), "10.0.9.2:3260".into()],
        ..testkit::array(ArrayId(700), "basin", SiteId(900))
    })));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (_, page) = house
        .get(&cookie, "/sheet/new-machines?name=yard-%7B01%7D")
        .await;
    assert!(
        words(&page).contains("a new one in pool tide of basin"),
        "{}",
        words(&page)
    );
    assert!(
        !page.contains("name=\"volume_name\""),
        "asked before anybody chose it"
    );
    let token = house.token(&cookie).await;
    let send = async |fields: &str| {
        let body = format!(
            "_csrf={token}&sent=1&name=yard-%7B01%7D&count=2&memory=2+GiB&disk=100+GiB&{fields}"
        );
        house.post(&cookie, "/sheet/new-machines", body).await
    };
    let (_, page) = send("volume=new.700.ebb.2&volume_size=nonsense").await;
    let said = words(&page);
    assert!(page.contains("value=\"yard-volume\""), "{page}");
    assert!(
        page.contains("name=\"volume_size\"") && page.contains("nonsense"),
        "what was typed is lost"
    );
    assert!(said.contains("Type a size such as"), "{said}");
    let (_, page) = send("volume=new.700.gone&volume_size=300+GiB").await;
    assert!(
        words(&page).contains("Choose a pool of basin"),
        "{}",
        words(&page)
    );
    assert!(page.contains("300 GiB"), "what was typed is lost");
}
