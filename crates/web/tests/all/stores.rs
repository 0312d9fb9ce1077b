//! Stores of backups as pages show them: what each has of which machine, where that stands on a machine's time line, and a key that
//! can't be taken out.

use crate::{house::House, pages::words};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        Bucket, Consistent, Estate, Fact, Goal, Job, Lies, Machine, Series, Store, StoredPoint,
    },
    expression::Expression,
    ids::{JobId, MachineId, SecretRef, SeriesId, SiteId, StoreId},
    moment::{Moment, Span},
    recurrence::Recurrence,
    testkit::read,
    units::Bytes,
};

pub(crate) const STORE: u64 = 760;

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
        lies: Lies::Bucket(Bucket {
            address: "10.20.0.90:9443".into(),
            pin: "ab".repeat(32),
            region: "us-east-1".into(),
            name: "points".into(),
            folder: "hill".into(),
            access: "zastrugi".into(),
            secret: None,
        }),
        key: Some(SecretRef(Uuid::from_u128(3))),
        ready: true,
        lock: None,
        taken_out: None,
        swept: None,
    }
}

fn series(id: u64, machine: Uuid, name: &str) -> Fact {
    Fact::Series(Arc::new(two_points(id, machine, name)))
}

pub(crate) fn two_points(id: u64, machine: Uuid, name: &str) -> Series {
    let point = |age| StoredPoint {
        session: Uuid::from_u128(u128::from(id)),
        taken: now().before(age),
        consistent: Consistent::Quiet,
        size: Bytes::gib(40),
        read: Bytes::gib(2),
        stored: Bytes::mib(300),
        took: Span::secs(20),
        job: None,
        locked: None,
        ends: None,
        whole: None,
        group: None,
        equal: None,
        proof: None,
    };
    Series {
        id: SeriesId(id),
        store: StoreId(STORE),
        machine,
        name: name.into(),
        points: vec![point(Span::mins(90)), point(Span::mins(20))],
    }
}

pub(crate) fn estate() -> Estate {
    let mut estate = Estate::clone(&read(crate::house::ESTATE).view.estate);
    estate.put(Fact::Store(Arc::new(store())));
    estate
}

/// If this fails, what most jobs leave as it is is in everybody's way, or what somebody said is lost when it is not shown.
#[sqlx::test(migrations = false)]
async fn a_job_says_more_only_where_somebody_wants_to(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let token = house.token(&cookie).await;
    let (_, page) = house.get(&cookie, "/sheet/job").await;
    assert!(!page.contains("name=\"cap\"") && page.contains("name=\"more\""));
    let usual = format!(
        "name=night&who=env%3Dprod&store={STORE}&often=FREQ%3DDAILY&at=22:00&zone=UTC&keeps=last+3&quiet=on&proves=0"
    );
    let more = "more=on&cap=nothing%3B+Mo-Fr+20:00-06:00+all&order=longest&together=app&whole=10+copies&local=60&leaves_out=on";
    let send = async |fields: String| {
        house
            .post(
                &cookie,
                "/sheet/job",
                format!("_csrf={token}&sent=1&{fields}"),
            )
            .await
    };
    let (status, page) = send(format!("{usual}&{more}&whole=often")).await;
    assert_eq!(status, Status::UnprocessableEntity);
    assert!(
        page.contains("is not understood") && page.contains("Mo-Fr 20:00-06:00"),
        "{page}"
    );
    let (status, page) = send(format!("{usual}&{more}")).await;
    assert_eq!(status, Status::SeeOther, "{page}");
    let kept = house.desk().look().estate;
    let job = kept
        .jobs
        .values()
        .find(|j| j.name == "night")
        .unwrap()
        .clone();
    assert!(job.how.leaves_out && job.how.together.as_deref() == Some("app"));
    assert_eq!(job.how.cap.to_string(), "nothing; Mo-Fr 20:00-06:00 all");
    let (_, page) = house
        .get(&cookie, &format!("/protect/jobs/{}", job.id.0))
        .await;
    let said = words(&page);
    for expected in [
        "nothing; Mo-Fr 20:00-06:00 all",
        "every 10 copies",
        "machines with the same app",
        "what was copied stays 60",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    // Folded away and kept: what is not shown stays as it was.
    let (status, page) = send(format!(
        "of={}&{}",
        job.id.0,
        usual.replace("last+3", "last+4")
    ))
    .await;
    assert_eq!(status, Status::SeeOther, "{page}");
    let now = house.desk().look().estate.jobs[&job.id].clone();
    assert_eq!(
        (now.how.clone(), now.keeps.to_string()),
        (job.how.clone(), "last 4".into())
    );
    // Once, at a time.
    let once = usual
        .replace(
            "often=FREQ%3DDAILY&at=22:00",
            "often=once&at=2031-12-05+22:00&wanted=10080",
        )
        .replace("night", "single");
    let (status, page) = send(once.clone()).await;
    assert_eq!(status, Status::SeeOther, "{page}");
    let kept = house.desk().look().estate;
    let single = kept
        .jobs
        .values()
        .find(|j| j.name == "single")
        .unwrap()
        .clone();
    assert_eq!(
        single.how.wanted,
        Some(zastrugi_core::moment::Span::days(7))
    );
    let (_, page) = house
        .get(&cookie, &format!("/protect/jobs/{}", single.id.0))
        .await;
    assert!(
        words(&page).contains("once, 2031-12-05 22:00"),
        "{}",
        words(&page)
    );
    let (_, odd) = send(
        once.replace("2031-12-05+22:00", "soon")
            .replace("single", "odd"),
    )
    .await;
    assert!(
        words(&odd).contains("is no date with a time"),
        "{}",
        words(&odd)
    );
}

/// If this fails, nobody can look through a store, or open one that is there.
#[sqlx::test(migrations = false)]
async fn a_store_is_looked_through_and_one_that_is_there_needs_its_key(pool: PgPool) {
    let house = House::of(&pool, &estate()).await;
    let cookie = house.sign_in("ada").await;
    let (status, page) = house
        .get(&cookie, &format!("/sheet/read-store?id={STORE}"))
        .await;
    assert_eq!(status, Status::Ok);
    assert!(
        words(&page).contains("nothing in it is changed"),
        "{}",
        words(&page)
    );
    let (_, page) = house
        .get(&cookie, "/sheet/make-store?sent=1&opens=on&name=x")
        .await;
    assert!(
        page.contains("name=\"store_key\"") && words(&page).contains("Type its key."),
        "{}",
        words(&page)
    );
    let token = house.token(&cookie).await;
    let body = format!("_csrf={token}&sent=1&opens=on&name=x&store_key=nonsense");
    let (_, page) = house.post(&cookie, "/sheet/make-store", body).await;
    assert!(
        words(&page).contains("It is no key of a store"),
        "{}",
        words(&page)
    );
    assert!(!page.contains("nonsense"), "a secret is not shown again");
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
        said.contains("Copies elsewhere") && said.contains("2 GiB") && said.contains("300 MiB"),
        "{said}"
    );
    let (status, _) = house.get(&cookie, "/protect/stores/12345").await;
    assert_eq!(status, Status::NotFound);
}

/// If this fails, a machine that is gone can't be found by what a store has of it, or a point is offered what can't be done with it.
#[sqlx::test(migrations = false)]
async fn a_point_says_what_it_is_and_offers_what_can_be_made_of_it(pool: PgPool) {
    let mut estate = estate();
    let m = estate.machines[&MachineId(7)].clone();
    estate.put(series(900, m.uuid, &m.name));
    let gone = Uuid::from_u128(99);
    estate.put(series(901, gone, "was <i>here"));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let path = format!("/protect/stores/{STORE}/{gone}");
    let (status, page) = house.get(&cookie, &path).await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    assert!(
        said.contains("2 recovery points") && said.contains("The machine is gone"),
        "{said}"
    );
    assert!(!page.contains("was <i>here"));
    let session = Uuid::from_u128(901);
    let (status, page) = house.get(&cookie, &format!("{path}/{session}")).await;
    assert_eq!(status, Status::Ok);
    assert!(page.contains("/sheet/new-machines?from=point-760."));
    assert!(
        !page.contains("/sheet/put-back"),
        "there is nothing to put back"
    );
    let own = format!(
        "/protect/stores/{STORE}/{}/{}",
        m.uuid,
        Uuid::from_u128(900)
    );
    let (_, page) = house.get(&cookie, &own).await;
    assert!(
        page.contains("/sheet/put-back?ids=7&#38;point=point-760.")
            || page.contains("/sheet/put-back?ids=7&point=point-760."),
        "{page}"
    );
    // Nobody may ask the store: that is said, and nothing is made up.
    let (status, has) = house.get(&cookie, &format!("{own}/has")).await;
    assert_eq!(status, Status::Ok);
    let said = words(&has);
    assert!(
        said.contains("The point can't be read: 10.20.0.90:9443 is in no management network"),
        "{said}"
    );
    let viewer = house.sign_in("vera").await;
    let (_, page) = house.get(&viewer, &own).await;
    assert!(!page.contains("/sheet/"), "nothing for whoever may not");
    for odd in [
        "/protect/stores/760/x",
        "/protect/stores/760/x/y",
        "/protect/stores/9/x/has",
    ] {
        let (status, _) = house.get(&cookie, odd).await;
        assert_eq!(status, Status::NotFound, "{odd}");
    }
    let (status, _) = house.get(&cookie, &format!("{path}/{gone}")).await;
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

fn job(id: u64, name: &str, rule: &str) -> Fact {
    let when = Recurrence::read(rule, "UTC", now().before(Span::days(3))).unwrap();
    Fact::Job(Arc::new(Job {
        id: JobId(id),
        name: name.into(),
        who: Expression::read("env=prod").unwrap(),
        to: Goal::Store(StoreId(STORE)),
        next: when.next(now()),
        when,
        keeps: "7 days, 4 weeks".parse().unwrap(),
        quiet: true,
        proves: None,
        how: Default::default(),
        paused: false,
        last: None,
    }))
}

/// If this fails, somebody can't see what a job does or when, names become markup, or its week is another's.
#[sqlx::test(migrations = false)]
async fn a_job_says_whom_it_is_about_when_and_what_stays(pool: PgPool) {
    let mut estate = estate();
    estate.put(job(70, "night<i>ly", "FREQ=DAILY;BYHOUR=22;BYMINUTE=30"));
    estate.put(job(
        71,
        "own",
        "FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=4;BYMINUTE=0",
    ));
    let mut m = Machine::clone(&estate.machines[&MachineId(7)]);
    m.labels.insert("env".into(), "prod".into());
    estate.put(Fact::Machine(Arc::new(m)));
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("ada").await;
    let (_, list) = house.get(&cookie, "/protect").await;
    let said = words(&list);
    assert!(
        said.contains("every day at 22:30, UTC") && said.contains("7 days, 4 weeks"),
        "{said}"
    );
    assert!(said.contains("7 runs, none late"), "{said}");
    let (status, page) = house.get(&cookie, "/protect/jobs/70").await;
    assert_eq!(status, Status::Ok);
    assert!(!page.contains("night<i>ly") && page.contains("/protect/machines/7"));
    let (_, sheet) = house.get(&cookie, "/sheet/job?of=71").await;
    assert!(
        sheet.contains("FREQ=WEEKLY;BYDAY=MO,TH;BYHOUR=4;BYMINUTE=0"),
        "a rule of one's own stays as it is"
    );
    let (_, sheet) = house.get(&cookie, "/sheet/job?of=70").await;
    assert!(sheet.contains("22:30"), "{sheet}");
    let (_, sheet) = house
        .get(
            &cookie,
            "/sheet/job?name=x&who=env%3Dprod&often=FREQ%3DDAILY&at=25:00&zone=UTC&keeps=7+days",
        )
        .await;
    assert!(words(&sheet).contains("is no time of the day"), "{sheet}");
    let (status, _) = house.get(&cookie, "/protect/jobs/12345").await;
    assert_eq!(status, Status::NotFound);
}

/// If this fails, jobs of a large estate make a page that no browser likes.
#[sqlx::test(migrations = false)]
async fn a_hundred_jobs_every_quarter_of_an_hour_are_a_page_of_a_few_strokes(pool: PgPool) {
    let mut estate = estate();
    for n in 0..100 {
        estate.put(job(
            1000 + n,
            &format!("job{n:03}"),
            "FREQ=HOURLY;BYMINUTE=0,15,30,45",
        ));
    }
    let house = House::of(&pool, &estate).await;
    let cookie = house.sign_in("vera").await;
    let (status, page) = house.get(&cookie, "/protect").await;
    assert_eq!(status, Status::Ok);
    assert!(page.contains("job099"));
    assert!(
        page.matches("<path").count() < 400,
        "{}",
        page.matches("<path").count()
    );
    assert!(!page.contains("/sheet/job"), "nothing for whoever may not");
}
