//! Who speaks to whom, as a page, as CSV and as text.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;

/// If this fails, whoever makes a firewall gets another list than the one that was looked at.
#[sqlx::test(migrations = false)]
async fn page_file_and_text_say_the_same(pool: PgPool) {
    let estate = "cluster eider\nhost 1 256\nhost 2 256\ncluster smew\nhost 3 256";
    let house = House::new(&pool, estate).await;
    let vera = house.sign_in("vera").await;
    let (status, page) = house.get(&vera, "/networks/flows").await;
    assert_eq!(status, Status::Ok, "whoever may look");
    let said = words(&page);
    assert!(
        said.contains("hosts of eider") && said.contains("tcp 7443"),
        "{said}"
    );
    let (_, csv) = house.get(&vera, "/networks/flows.csv").await;
    let eider = csv.lines().find(|l| l.contains("hosts of eider")).unwrap();
    assert!(
        eider.contains("10.0.0.1 10.0.0.2") && eider.contains("tcp,7443"),
        "{eider}"
    );
    let (_, text) = house.get(&vera, "/networks/flows.txt?q=smew").await;
    assert!(
        text.contains("tcp this-manager -> 10.0.0.3 port 7443"),
        "{text}"
    );
    assert!(!text.contains("10.0.0.1"), "filtered: {text}");
    let (_, page) = house.get(&vera, "/networks/flows?q=nobody").await;
    assert!(words(&page).contains("Nobody is called so."));
}
