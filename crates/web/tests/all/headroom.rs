//! Clusters: headroom told, rules and fault domains typed, and the cluster as a file.

use crate::house::House;
use rocket::http::Status;
use sqlx::PgPool;

const TIGHT: &str = "cluster eider\nhost 1 64\nhost 2 64\nhost 3 64
    machine 7 db 40 on 1 tier=1\nmachine 8 web 30 on 2\nmachine 9 batch 30 on 3 unprotected\nmachine 10 cache 8 on 2";

#[sqlx::test(migrations = false)]
async fn a_host_that_fails_is_told_in_words_and_for_the_picture(pool: PgPool) {
    let house = House::new(&pool, TIGHT).await;
    let cookie = house.sign_in("vera").await;
    let (status, told) = house.get(&cookie, "/field/would/1").await;
    assert_eq!(status, Status::Ok);
    assert!(told.contains("1 find no room (db)"), "{told}");
    let (_, told) = house.get(&cookie, "/field/would/3").await;
    assert!(
        told.contains("1 are lost until somebody acts (batch)"),
        "{told}"
    );
    assert_eq!(
        house.get(&cookie, "/field/would/99").await.0,
        Status::NotFound
    );
    let (_, page) = house.get(&cookie, "/clusters/901").await;
    for words in [
        "survives one host only if it is not h1",
        "it needs 40.",
        "Could it lose a host?",
        "None yet: machines that must be apart",
    ] {
        assert!(page.contains(words), "“{words}” is not said");
    }
    let (status, file) = house.get(&cookie, "/clusters/901/estate.json").await;
    assert_eq!(status, Status::Ok);
    assert!(file.contains("zastrugi estate 1"), "{file}");
    let read: serde_json::Value = serde_json::from_str(&file).unwrap();
    let facts = read["facts"].as_array().unwrap();
    let hosts: Vec<_> = facts.iter().filter(|f| f["kind"] == "host").collect();
    assert_eq!(hosts.len(), 3);
    for host in hosts {
        let (access, bmc) = (&host["body"]["access"], &host["body"]["bmc"]);
        assert!(access["key"].is_null() && bmc["key"].is_null(), "{host}");
    }
}

#[sqlx::test(migrations = false)]
async fn a_rule_is_typed_by_name_or_label_kept_and_dropped(pool: PgPool) {
    let house = House::new(&pool, TIGHT).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let send = |body: &str| format!("_csrf={token}&sent=1&ids=901&{body}");
    let wrong = send("name=pair&kind=apart&machines=web,+nobody&required=on");
    let (status, page) = house.post(&cookie, "/sheet/rule", wrong).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(page.contains("There is no machine nobody."));
    assert!(page.contains("web, nobody"), "what was typed is kept");
    let right = send(
        "name=pair&kind=apart&machines=web,+cache&required=on&request=6c2b1a70-0000-4000-8000-000000000001",
    );
    let (status, _) = house.post(&cookie, "/sheet/rule", right).await;
    assert_eq!(status, Status::SeeOther);
    let (_, page) = house.get(&cookie, "/clusters/901").await;
    assert!(
        page.contains("“pair” is broken: web and cache are on h2"),
        "they share h2"
    );
    assert!(page.contains("Move cache to h"), "the smaller one goes");
    let (_, sheet) = house.get(&cookie, "/sheet/rule?ids=901&was=pair").await;
    assert!(sheet.contains("cache, web") || sheet.contains("web, cache"));
    let drop = send(
        "was=pair&name=pair&kind=apart&machines=web,+cache&remove=on&request=6c2b1a70-0000-4000-8000-000000000002",
    );
    assert_eq!(
        house.post(&cookie, "/sheet/rule", drop).await.0,
        Status::SeeOther
    );
    let (_, page) = house.get(&cookie, "/clusters/901").await;
    assert!(page.contains("None yet: machines that must be apart"));
}

#[sqlx::test(migrations = false)]
async fn racks_come_as_csv_and_a_wrong_line_is_named(pool: PgPool) {
    let house = House::new(&pool, TIGHT).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let send = |rows: &str| {
        format!("_csrf={token}&sent=1&rows={rows}&request=6c2b1a70-0000-4000-8000-000000000003")
    };
    let (status, page) = house
        .post(
            &cookie,
            "/sheet/fault-domains",
            send("host%2Crack%0Ah1%2Ca1%0Ah9%2Ca1"),
        )
        .await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(
        page.contains("Line 3: there is no host h9."),
        "named by its line"
    );
    let (status, _) = house
        .post(
            &cookie,
            "/sheet/fault-domains",
            send("h1%2Ca1%2C%2Cleft%0Ah2%2Ca1"),
        )
        .await;
    assert_eq!(status, Status::SeeOther);
    let (_, page) = house.get(&cookie, "/clusters/901").await;
    assert!(page.contains("rack a1") && page.contains("feed left"));
    let (_, sheet) = house.get(&cookie, "/sheet/fault-domains").await;
    assert!(
        sheet.contains("h1,a1,,left"),
        "what is recorded stands there the next time"
    );
}
