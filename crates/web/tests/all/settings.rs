//! Settings that everybody's machines feel.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;

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
