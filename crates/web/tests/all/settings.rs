//! Settings that everybody's machines feel.

use crate::{house::House, pages::words};
use rocket::http::{Cookie, Status};
use sqlx::PgPool;
use zastrugi_engine::{StandByKey, StandBys};

fn body(token: &str, range: &str) -> String {
    let mut out = form_urlencoded::Serializer::new(String::new());
    out.append_pair("_csrf", token).append_pair("macs", range);
    out.finish()
}

/// If this fails, two installations on one wire give out the same addresses and nobody can change it.
#[sqlx::test(migrations = false)]
async fn the_range_of_mac_addresses_is_ones_own_and_can_be_changed(pool: PgPool) {
    let house = House::new(&pool, "cluster eider\nhost 1 256").await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let (_, page) = house.get(&ada, "/settings").await;
    let value = |page: &str| {
        let field = page.split("name=\"macs\" value=\"").nth(1);
        field
            .and_then(|f| f.split('"').next())
            .unwrap_or_default()
            .to_owned()
    };
    assert_eq!(value(&page).len(), 8, "one of its own: {}", value(&page));
    for (typed, why) in [
        ("02:5a", "is no range"),
        ("01:00:5e", "is of groups"),
        ("00:16:00", "a maker of cards"),
    ] {
        let (status, page) = house
            .post(&ada, "/settings/macs", body(&token, typed))
            .await;
        assert_eq!(status, Status::UnprocessableEntity);
        assert!(words(&page).contains(why), "{}", words(&page));
        assert_eq!(value(&page), typed, "it stays as it was typed");
    }
    let (status, _) = house
        .post(&ada, "/settings/macs", body(&token, "02:5A:10"))
        .await;
    assert_eq!(status, Status::SeeOther);
    let (_, page) = house.get(&ada, "/settings?done=macs").await;
    assert_eq!(value(&page), "02:5a:10");
    let (_, page) = house.get(&ada, "/logbook/events").await;
    let told = "New machines get MAC addresses that begin with 02:5a:10";
    assert!(words(&page).contains(told), "{}", words(&page));
}

/// Until a page says it.
async fn said(house: &House, who: &Cookie<'static>, path: &str, wanted: &str) {
    let mut page = String::new();
    for _ in 0..100 {
        page = house.get(who, path).await.1;
        if words(&page).contains(wanted) {
            return;
        }
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    assert!(words(&page).contains(wanted), "{}", words(&page));
}

/// If this fails, nobody sees that the second manager is missing, or a page of a manager offers to take over from itself.
#[sqlx::test(migrations = false)]
async fn who_stands_by_is_told_and_a_manager_does_not_take_over_from_itself(pool: PgPool) {
    let house = House::new(&pool, "cluster eider\nhost 1 256").await;
    let ada = house.sign_in("ada").await;
    let (_, page) = house.get(&ada, "/settings/stand-by").await;
    assert!(
        words(&page).contains("Nobody: when this site is gone"),
        "{page}"
    );
    assert!(
        words(&page).contains("zastrugi stand-by invite"),
        "an admin is told how"
    );
    let vera = house.sign_in("vera").await;
    let (_, page) = house.get(&vera, "/settings/stand-by").await;
    assert!(!page.contains("stand-by invite"), "nobody else is");
    let key = StandByKey::draw();
    let stand_bys = StandBys::new(pool.clone());
    let invited = stand_bys.invite("hilltop", "zastrugi_none", &key, &[7; 32]);
    invited.await.unwrap();
    said(
        &house,
        &ada,
        "/settings/stand-by",
        "is invited, and has not come yet",
    )
    .await;
    let token = house.token(&ada).await;
    let typed = format!("_csrf={token}&typed=Zastrugi");
    let (status, page) = house.post(&ada, "/settings/take-over", typed).await;
    assert_eq!(status, Status::Conflict);
    assert!(words(&page).contains("does not stand by"), "{page}");
    // A database that went back holds all orders, and every page says so.
    let journal = zastrugi_store::Journal::new(pool);
    journal.hold("It went back.").await.unwrap();
    let held = "This manager gives no orders. It went back.";
    said(&house, &ada, "/hosts", held).await;
}
