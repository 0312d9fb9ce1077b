//! Promises as pages show them: the sentence, machines × clauses, what each standing rests on, and the sheets.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Clauses, Consistent, Estate, Fact, Machine, Pledge, Point, Snapshot, Taker},
    expression::Expression,
    ids::{MachineId, PledgeId},
    moment::{Moment, Span},
    testkit::read,
};

const GOLD: u64 = 700;

fn gold(to: Option<&str>, every: Span) -> Fact {
    Fact::Pledge(Arc::new(Pledge {
        id: PledgeId(GOLD),
        name: "gold <b>".into(),
        note: "as the <i>harbour office</i> asks".into(),
        to: to.map(|t| Expression::read(t).unwrap()),
        clauses: Clauses {
            point: Some(Point {
                every,
                taker: Taker::Snapshot,
                quiet: false,
            }),
            tier: Some(3),
            ..Clauses::default()
        },
    }))
}

/// So many machines, of which those with an even number have a fresh snapshot; all have the pledge.
fn harbour(machines: u64) -> Estate {
    let mut text = "cluster eider\nhost 1 256\nhost 2 256".to_owned();
    for n in 0..machines {
        text.push_str(&format!(
            "\nmachine {} m{n:04} 1 off label=env:prod",
            10 + n
        ));
    }
    let mut estate = Estate::clone(&read(&text).view.estate);
    estate.put(gold(Some("env=prod"), Span::days(1)));
    for n in (0..machines).step_by(2) {
        let mut m = Machine::clone(&estate.machines[&MachineId(10 + n)]);
        m.tier = 2;
        m.snapshots.take(Snapshot {
            uuid: uuid::Uuid::from_u128(u128::from(n) + 1),
            name: "by <hand>".into(),
            note: String::new(),
            taken: now().before(Span::mins(30)),
            parent: None,
            consistent: Consistent::Quiet,
            memory: None,
            disks: None,
            ends: None,
        });
        estate.put(Fact::Machine(Arc::new(m)));
    }
    estate
}

fn now() -> Moment {
    let since = std::time::UNIX_EPOCH.elapsed().unwrap();
    Moment(i64::try_from(since.as_millis()).unwrap())
}

/// If this fails, nobody sees which promise is broken, or a name that somebody gave is read as markup.
#[sqlx::test(migrations = false)]
async fn the_list_says_what_is_broken_and_leads_to_what_it_rests_on(pool: PgPool) {
    let house = House::of(&pool, &harbour(4)).await;
    let vera = house.sign_in("vera").await;
    let (status, page) = house.get(&vera, "/protect").await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    assert!(
        said.contains("4 of 4 machines have a pledge; of 2 it is broken: m0001, m0003"),
        "{said}"
    );
    assert!(
        said.contains("of 2 it is at risk: m0000, m0002"),
        "no schedule takes the next: {said}"
    );
    assert!(!page.contains("gold <b>") && !page.contains("by <hand>"));
    assert!(
        !page.contains("/sheet/pledge"),
        "whoever may only look is offered nothing"
    );
    let (_, broken) = house
        .get(&vera, "/protect?clause=point&standing=broken")
        .await;
    let said = words(&broken);
    assert!(said.contains("m0001") && !said.contains("m0002 "), "{said}");
    let (_, one) = house.get(&vera, "/protect/machines/10").await;
    let said = words(&one);
    assert!(said.contains("What m0000 is promised"), "{said}");
    assert!(
        said.contains("Snapshot by &#60;hand&#62;, its file systems stood still"),
        "{said}"
    );
    assert!(said.contains("no schedule takes another"), "{said}");
    assert!(said.contains("Tier 2"), "{said}");
    let (_, pledge) = house.get(&vera, &format!("/protect/pledges/{GOLD}")).await;
    let said = words(&pledge);
    assert!(
        said.contains("every 24 h, by a snapshot of the machine"),
        "{said}"
    );
    assert!(
        said.contains("4 machines have it; for 4 of them not all is kept."),
        "{said}"
    );
    let (_, field) = house.get(&vera, "/").await;
    assert!(
        words(&field).contains("A promise to 2 machines is broken, recovery point"),
        "it needs somebody"
    );
    let (_, machine) = house.get(&vera, "/machines/11").await;
    assert!(machine.contains("/protect/machines/11"));
}

/// If this fails, an estate without a pledge shows an empty table, or a machine without one an error.
#[sqlx::test(migrations = false)]
async fn where_nothing_is_promised_the_next_step_is_offered(pool: PgPool) {
    let house = House::new(&pool, crate::house::ESTATE).await;
    let ada = house.sign_in("ada").await;
    let (_, page) = house.get(&ada, "/protect").await;
    assert!(
        words(&page).contains("Nothing is promised to any machine yet.")
            && page.contains("/sheet/pledge")
    );
    let (_, one) = house.get(&ada, "/protect/machines/7").await;
    assert!(words(&one).contains("Nothing is promised to it."));
    for gone in ["/protect/machines/999", "/protect/pledges/999"] {
        let (status, page) = house.get(&ada, gone).await;
        assert_eq!(status, Status::NotFound, "{gone}");
        assert!(words(&page).contains("is not there"), "{}", words(&page));
    }
}

/// If this fails, a pledge can't be made, changed, given or withdrawn from the pages.
#[sqlx::test(migrations = false)]
async fn a_pledge_is_made_given_changed_and_withdrawn(pool: PgPool) {
    let house = House::new(&pool, crate::house::ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let send = |sheet: &'static str, fields: &str| {
        let body = format!("_csrf={token}&sent=1&{fields}");
        let house = &house;
        let ada = &ada;
        async move { house.post(ada, &format!("/sheet/{sheet}"), body).await }
    };
    let (status, page) = send("pledge", "name=silver&to=app%3Dtickets+and&every=60").await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(
        page.contains("A label is missing at the end.") && page.contains("value=\"silver\""),
        "what was typed is kept"
    );
    let (status, _) = send(
        "pledge",
        "name=silver&to=app%3Dtickets&every=60&taker=snapshot&kept=1440&tier=1",
    )
    .await;
    assert_eq!(status, Status::SeeOther);
    let estate = house.desk().look().estate;
    let (id, silver) = estate.pledges.iter().next().unwrap();
    assert_eq!(silver.clauses.tier, Some(1));
    assert_eq!(
        silver.clauses.point.as_ref().map(|p| p.every),
        Some(Span::mins(60))
    );
    let (status, _) = send("give-pledge", &format!("ids=8&pledge={}&given=yes", id.0)).await;
    assert_eq!(status, Status::SeeOther);
    let (_, page) = house.get(&ada, &format!("/protect/pledges/{}", id.0)).await;
    let said = words(&page);
    assert!(
        said.contains("2 machines have it") && said.contains("1 by hand"),
        "{said}"
    );
    let (_, sheet) = house
        .get(&ada, &format!("/sheet/pledge?ids={}", id.0))
        .await;
    assert!(sheet.contains("value=\"app=tickets\"") && sheet.contains("value=\"silver\""));
    let (status, _) = send(
        "pledge",
        &format!("ids={}&name=silver&to=&every=120&taker=any&tier=0", id.0),
    )
    .await;
    assert_eq!(status, Status::SeeOther);
    let changed = house.desk().look().estate.pledges[id].clone();
    assert_eq!((changed.to.clone(), changed.clauses.tier), (None, None));
    let disk = house.desk().look().estate.machines[&MachineId(8)].disks[0].key;
    if !disk.is_nil() {
        let (status, _) = send("except-disks", &format!("ids=8&disks={disk}")).await;
        assert_eq!(status, Status::SeeOther);
        assert!(house.desk().look().estate.machines[&MachineId(8)].excepts(disk));
    }
    let (status, _) = send("remove-pledge", &format!("ids={}", id.0)).await;
    assert_eq!(status, Status::SeeOther);
    let estate = house.desk().look().estate;
    assert!(estate.pledges.is_empty());
    let pledged = estate.machines[&MachineId(8)].pledged.as_ref();
    let by_hand = pledged.map_or(0, |p| p.by_hand.len());
    assert_eq!(by_hand, 0, "nobody has it any more");
}

/// If this fails, a pledge that was saved is another one when it is loaded, or one of another place loses what was typed.
#[sqlx::test(migrations = false)]
async fn a_pledge_is_saved_as_a_file_and_loaded_again(pool: PgPool) {
    let house = House::new(&pool, crate::house::ESTATE).await;
    let ada = house.sign_in("ada").await;
    let token = house.token(&ada).await;
    let fields = "name=silver&note=for+all&to=app%3Dtickets&every=60&taker=snapshot&quiet=on&kept=1440&proved=10080&tier=1&spare=2";
    let body = format!("_csrf={token}&sent=1&{fields}");
    let (status, _) = house.post(&ada, "/sheet/pledge", body).await;
    assert_eq!(status, Status::SeeOther);
    let made = house
        .desk()
        .look()
        .estate
        .pledges
        .values()
        .next()
        .unwrap()
        .clone();
    let path = format!("/protect/pledges/{}/file", made.id.0);
    let (status, text) = house.get(&ada, &path).await;
    assert_eq!(status, Status::Ok);
    let saved = zastrugi_formats::pledge::read(&text).unwrap();
    assert_eq!(
        (saved.name.as_str(), saved.restart_tier),
        ("silver", Some(1))
    );
    let load = async |text: &str| {
        let file: String = text.bytes().map(|b| format!("%{b:02X}")).collect();
        let body = format!("_csrf={token}&sent=1&name=typed&look=load&file={file}");
        house.post(&ada, "/sheet/pledge", body).await.1
    };
    let page = load(&text).await;
    for expected in [
        "value=\"silver\"",
        "value=\"app=tickets\"",
        "for all",
        "value=\"2\"",
        "<option value=\"1440\" selected>",
        "<option value=\"10080\" selected>",
    ] {
        assert!(page.contains(expected), "{expected}");
    }
    let odd = load("{\"name\": 1}").await;
    assert!(
        odd.contains("value=\"typed\"") && words(&odd).contains("can't be read as a pledge"),
        "{odd}"
    );
    let elsewhere = text.replace(
        "\"restart_tier\": 1",
        "\"copy_elsewhere\": {\"age_minutes\": 60, \"site\": \"Nowhere\"}",
    );
    assert!(words(&load(&elsewhere).await).contains("There is no site Nowhere here"));
    let (status, schema) = house.get(&ada, "/protect/pledges/schema").await;
    assert!(status == Status::Ok && schema.contains("pledge-1.schema.json"));
}

/// If this fails, a page of a thousand promises renders them all.
#[sqlx::test(migrations = false)]
async fn a_thousand_promises_are_a_window_of_a_hundred(pool: PgPool) {
    let house = House::of(&pool, &harbour(1000)).await;
    let vera = house.sign_in("vera").await;
    let (_, page) = house.get(&vera, "/protect").await;
    assert!(words(&page).contains("1–100 of 1000"));
    assert_eq!(page.matches("<tr data-row>").count(), 100);
    let (_, last) = house.get(&vera, "/protect?from=900").await;
    assert!(words(&last).contains("901–1000 of 1000"));
}

/// If this fails, the Field looks well while a promise is broken, or only its colour says so.
#[sqlx::test(migrations = false)]
async fn the_field_shows_whose_promise_is_broken(pool: PgPool) {
    let mut estate = Estate::clone(&read(crate::house::ESTATE).view.estate);
    estate.put(gold(Some("app=tickets"), Span::days(1)));
    let house = House::of(&pool, &estate).await;
    let vera = house.sign_in("vera").await;
    for (path, shown) in [
        ("/", true),
        ("/?colour=pledge", true),
        ("/?colour=load", false),
    ] {
        let (_, page) = house.get(&vera, path).await;
        assert_eq!(page.contains("<path class=\"broken\""), shown, "{path}");
        assert!(
            words(&page).contains("a promise is broken"),
            "{path}: in words too"
        );
        let (_, part) = house.get(&vera, &path.replace('/', "/field/part")).await;
        assert_eq!(part.contains("<path class=\"broken\""), shown, "{path}");
    }
}
