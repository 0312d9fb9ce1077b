//! The store against a real PostgreSQL: every query runs here.
#![expect(clippy::unwrap_used, reason = "tests fail loudly")]

use sqlx::PgPool;
use std::time::Duration;
use uuid::Uuid;
use zastrugi_core::rooms::{machines, sites};
use zastrugi_core::{
    estate::{Estate, Site},
    ids::{HostId, MachineId, Revision, RunId, SecretRef, SiteId, VolumeId},
    loads::{DiskUse, HostLoad, MachineLoad},
    moment::{Moment, Span},
    permits::{Role, Who},
    rooms::Event,
    testkit::read,
    units::{Bytes, Mhz, Rate},
};
use zastrugi_core::{
    road::{Tale, Urgency},
    rooms::{Change, Record},
    testkit::Folding,
};
use zastrugi_store::{
    EventFilter, EventLine, Journal, Leases, Measurements, NewOrder, News, Orders, People, Reads,
    Settings, StoreError, Vault,
};

mod histories;
mod runs;

const MIGRATIONS: &sqlx::migrate::Migrator = &zastrugi_store::MIGRATOR;

/// Writes events as one batch; answers the revision.
async fn append(journal: &Journal, estate: &mut Estate, events: &[Event]) -> Revision {
    let mut batch = journal.begin().await.unwrap();
    let revision = Revision(batch.head().revision.0 + 1);
    let lines: Vec<EventLine> = events
        .iter()
        .filter_map(|e| e.tell(estate))
        .map(|entry| EventLine {
            at: Moment(1000),
            who: Who {
                person: None,
                name: "ada".into(),
            },
            run: None,
            entry,
        })
        .collect();
    let change = Change {
        estate: estate.absorb_all(events),
        ..Change::default()
    };
    batch.write(revision, &change, &lines, &[]).await.unwrap();
    batch.commit(revision, Uuid::new_v4()).await.unwrap();
    estate.revision = revision;
    revision
}

fn entities(estate: &mut Estate, event: &Event) -> Change {
    Change {
        estate: estate.absorb(event),
        ..Change::default()
    }
}

async fn now(journal: &Journal) -> Estate {
    journal.load().await.unwrap().1.estate
}

async fn stored(journal: &Journal) -> Estate {
    let mut estate = Estate::default();
    let source = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1\nmachine 8 web 8 off")
        .view
        .estate;
    let mut batch = journal.begin().await.unwrap();
    let mut change = Change::default();
    for fact in source.facts() {
        estate.put(fact.clone());
        change.take(Record::Entity(fact));
    }
    batch.write(Revision(1), &change, &[], &[]).await.unwrap();
    batch.commit(Revision(1), Uuid::new_v4()).await.unwrap();
    estate.revision = Revision(1);
    estate
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn what_is_written_is_read_again_now_and_as_it_was(pool: PgPool) {
    let journal = Journal::new(pool);
    let mut estate = stored(&journal).await;
    let before = estate.clone();
    append(
        &journal,
        &mut estate,
        &[Event::Machines(machines::Event::Deleted {
            machine: MachineId(8),
            at: Moment(5),
        })],
    )
    .await;
    append(
        &journal,
        &mut estate,
        &[Event::Machines(machines::Event::Purged {
            machine: MachineId(8),
        })],
    )
    .await;
    assert_eq!(now(&journal).await, estate);
    let past = journal.load_at(Revision(1)).await.unwrap();
    assert_eq!(past.machines, before.machines);
    let (head, change) = journal.changed_since(Revision(1)).await.unwrap();
    assert_eq!(head.revision, Revision(3));
    assert_eq!(
        change.estate.touched.len(),
        1,
        "only what changed is read: the purged machine"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn two_appends_wait_for_each_other_and_a_dropped_one_leaves_nothing(pool: PgPool) {
    let journal = Journal::new(pool);
    let mut estate = stored(&journal).await;
    let held = journal.begin().await.unwrap();
    let waits = tokio::time::timeout(Duration::from_millis(200), journal.begin()).await;
    assert!(waits.is_err(), "the head is locked");
    drop(held);
    tokio::time::sleep(Duration::from_millis(2200)).await;
    let mut batch = journal.begin().await.unwrap();
    let change = entities(
        &mut estate,
        &Event::Sites(sites::Event::Added(Site {
            id: SiteId(77),
            name: "x".into(),
        })),
    );
    batch.write(Revision(2), &change, &[], &[]).await.unwrap();
    drop(batch);
    assert_eq!(journal.head().await.unwrap().revision, Revision(1));
    let id = Uuid::new_v4();
    assert_eq!(journal.was_written(id).await.unwrap(), None);
    journal
        .begin()
        .await
        .unwrap()
        .commit(Revision(2), id)
        .await
        .unwrap();
    assert_eq!(journal.was_written(id).await.unwrap(), Some(Revision(2)));
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_name_twice_is_caught_by_the_table_too(pool: PgPool) {
    let journal = Journal::new(pool);
    let mut estate = stored(&journal).await;
    let mut twin = (*estate.machines[&MachineId(7)]).clone();
    twin.id = MachineId(9);
    let mut batch = journal.begin().await.unwrap();
    let change = entities(
        &mut estate,
        &Event::Machines(machines::Event::Adopted(Box::new(twin))),
    );
    let refused = batch.write(Revision(2), &change, &[], &[]).await;
    assert!(matches!(refused, Err(StoreError::Taken(_))), "{refused:?}");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn events_are_found_by_words_kind_person_and_thing(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let mut estate = stored(&journal).await;
    let gone = Event::Machines(machines::Event::Deleted {
        machine: MachineId(8),
        at: Moment(5),
    });
    append(
        &journal,
        &mut estate,
        &[
            Event::Sites(sites::Event::Added(Site {
                id: SiteId(77),
                name: "50%".into(),
            })),
            gone,
        ],
    )
    .await;
    let reads = Reads::new(pool);
    let find = |filter: EventFilter| {
        let reads = reads.clone();
        async move { reads.events(&filter, 10).await.unwrap().len() }
    };
    let by = |text: &str, kind: &str, who: &str, about: &str| EventFilter {
        text: text.into(),
        kind: kind.into(),
        who: who.into(),
        about: about.into(),
        ..EventFilter::default()
    };
    assert_eq!(find(by("", "", "", "")).await, 2);
    assert_eq!(find(by("deleted", "", "", "")).await, 1);
    assert_eq!(
        find(by("50%", "", "", "")).await,
        1,
        "a percent sign is itself"
    );
    assert_eq!(find(by("5_%", "", "", "")).await, 0);
    assert_eq!(find(by("", "site", "", "")).await, 1);
    assert_eq!(find(by("", "", "eve", "")).await, 0);
    assert_eq!(find(by("", "", "ada", "machine-8")).await, 1);
    let all = find(by("", "", "", "")).await;
    let between = |from: Option<i64>, until: Option<i64>| EventFilter {
        from: from.map(zastrugi_core::moment::Moment),
        until: until.map(zastrugi_core::moment::Moment),
        ..EventFilter::default()
    };
    assert_eq!(find(between(Some(0), None)).await, all);
    assert_eq!(find(between(None, Some(1000))).await, 0, "none before 1970");
    assert_eq!(
        find(between(Some(32_503_680_000_000), None)).await,
        0,
        "none after 3000"
    );
    assert_eq!(
        find(EventFilter {
            before: Some((2, 1)),
            ..EventFilter::default()
        })
        .await,
        1,
        "earlier ones"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_order_is_taken_once_and_again_after_its_lease(pool: PgPool) {
    let (journal, orders) = (Journal::new(pool.clone()), Orders::new(pool));
    let new = |step, after| NewOrder {
        run: RunId(1),
        step,
        attempt: 1,
        after: Span(after),
        device: "host-1".into(),
        urgency: Urgency::Ordinary,
        carried_at: vec![],
    };
    let mut batch = journal.begin().await.unwrap();
    batch
        .write_orders(&[], &[new(0, 0), new(1, 60_000)])
        .await
        .unwrap();
    batch.commit(Revision(1), Uuid::new_v4()).await.unwrap();
    let first = orders.take(10, 4, &[], Span(300)).await.unwrap();
    assert_eq!(
        first.iter().map(|o| o.step).collect::<Vec<_>>(),
        [0],
        "the other is not due"
    );
    assert!(orders.take(10, 4, &[], Span(300)).await.unwrap().is_empty());
    tokio::time::sleep(Duration::from_millis(350)).await;
    let second = orders.take(10, 4, &[], Span(30_000)).await.unwrap();
    assert_ne!(second[0].token, first[0].token);
    let mut batch = journal.begin().await.unwrap();
    let both = [&first[0], &second[0]].map(|o| (o.run, o.step, o.token));
    let held = batch.held_of(&both).await.unwrap();
    assert_eq!(
        held.into_iter().collect::<Vec<_>>(),
        [second[0].token],
        "whoever lost the lease writes nothing"
    );
    batch.write_orders(&[(RunId(1), 0)], &[]).await.unwrap();
    batch.commit(Revision(2), Uuid::new_v4()).await.unwrap();
    assert!(
        orders
            .next_due()
            .await
            .unwrap()
            .is_some_and(|s| s.0 > 50_000)
    );
    orders.give_back(&second[0], Span(0), "").await.unwrap();
    assert!(
        orders.take(10, 4, &[], Span(1)).await.unwrap().is_empty(),
        "done is done"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn one_leads_and_another_takes_over_with_a_higher_term(pool: PgPool) {
    let leases = Leases::new(pool.clone());
    let (a, b) = (Uuid::new_v4(), Uuid::new_v4());
    let first = leases.lead(a, Span(400)).await.unwrap().unwrap();
    assert_eq!(leases.lead(b, Span(400)).await.unwrap(), None);
    assert_eq!(
        leases.lead(a, Span(400)).await.unwrap(),
        Some(first),
        "renewed in the same term"
    );
    tokio::time::sleep(Duration::from_millis(450)).await;
    let second = leases.lead(b, Span(10_000)).await.unwrap().unwrap();
    assert_eq!(second.term, first.term + 1);
    let mut batch = Journal::new(pool).begin().await.unwrap();
    assert!(!batch.leads(first.holder, first.term).await.unwrap());
    assert!(batch.leads(second.holder, second.term).await.unwrap());
    drop(batch);
    leases.resign(second).await.unwrap();
    assert!(leases.lead(a, Span(400)).await.unwrap().is_some());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_secret_opens_with_its_key_in_its_place_and_nowhere_else(pool: PgPool) {
    let vault = Vault::new(pool.clone(), &[1; 32]);
    let (one, two) = (
        vault.keep("first-light").await.unwrap(),
        vault.keep("other").await.unwrap(),
    );
    assert_eq!(vault.open(one).await.unwrap().as_str(), "first-light");
    let plain: i64 = sqlx::query_scalar(
        "select count(*) from secret where position('first-light'::bytea in sealed) > 0",
    )
    .fetch_one(&pool)
    .await
    .unwrap();
    assert_eq!(plain, 0, "it is not readable in the table");
    sqlx::query("update secret a set sealed = b.sealed, nonce = b.nonce from secret b where a.id = $1 and b.id = $2")
        .bind(two.0)
        .bind(one.0)
        .execute(&pool)
        .await
        .unwrap();
    assert!(
        vault.open(two).await.is_err(),
        "moved to another row it does not open"
    );
    assert!(
        Vault::new(pool, &[2; 32]).open(one).await.is_err(),
        "nor with another key"
    );
    vault.forget(one).await.unwrap();
    assert!(vault.open(one).await.is_err());
    assert!(vault.open(SecretRef(Uuid::nil())).await.is_err());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn sessions_end_and_the_last_admin_stays(pool: PgPool) {
    let people = People::new(pool.clone());
    let ada = people.add("ada", Role::Admin, "hash").await.unwrap();
    let vera = people.add("vera", Role::Viewer, "hash").await.unwrap();
    assert!(matches!(
        people.add("ADA", Role::Viewer, "h").await,
        Err(StoreError::Taken(_))
    ));
    people.open_session(b"cookie", vera, "csrf").await.unwrap();
    assert_eq!(
        people
            .session(b"cookie", true)
            .await
            .unwrap()
            .unwrap()
            .person
            .name,
        "vera"
    );
    sqlx::query("update session set used = now() - interval '31 minutes'")
        .execute(&pool)
        .await
        .unwrap();
    assert!(
        people.session(b"cookie", true).await.unwrap().is_none(),
        "idle too long"
    );
    sqlx::query("update session set used = now(), created = now() - interval '13 hours'")
        .execute(&pool)
        .await
        .unwrap();
    assert!(
        people.session(b"cookie", true).await.unwrap().is_none(),
        "too old altogether"
    );
    people.open_session(b"fresh", vera, "csrf").await.unwrap();
    people.change(vera, Role::Operator, true).await.unwrap();
    assert!(
        people.session(b"fresh", true).await.unwrap().is_none(),
        "a change of role ends it"
    );
    assert!(matches!(
        people.change(ada, Role::Viewer, true).await,
        Err(StoreError::Taken(_))
    ));
    people.open_session(b"again", ada, "csrf").await.unwrap();
    people.set_password(ada, "new", None).await.unwrap();
    assert!(
        people.session(b"again", true).await.unwrap().is_none(),
        "so does a new password"
    );
    // One that was drawn for somebody opens no session, also none that somebody opens all the same.
    people.set_password(vera, "drawn", Some(24)).await.unwrap();
    people.open_session(b"half", vera, "csrf").await.unwrap();
    assert!(people.session(b"half", true).await.unwrap().is_none());
    let until = |p: Option<zastrugi_store::Person>| p.unwrap().one_time_until;
    assert!(until(people.named("vera").await.unwrap()).is_some());
    people.set_password(vera, "own", None).await.unwrap();
    assert!(until(people.named("vera").await.unwrap()).is_none());
    people.set_theme(ada, "night").await.unwrap();
    assert_eq!(people.named("Ada").await.unwrap().unwrap().theme, "night");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn settings_and_loads_are_kept(pool: PgPool) {
    let settings = Settings::new(pool.clone());
    assert_eq!(
        settings.keep("name", &"first".to_owned()).await.unwrap(),
        "first"
    );
    assert_eq!(
        settings.keep("name", &"second".to_owned()).await.unwrap(),
        "first",
        "set once"
    );
    settings.set("name", &"third").await.unwrap();
    assert_eq!(
        settings.get::<String>("name").await.unwrap().as_deref(),
        Some("third")
    );
    let measurements = Measurements::new(pool.clone());
    let now = time::OffsetDateTime::now_utc();
    measurements.tend(now).await.unwrap();
    measurements.tend(now).await.unwrap();
    let at = Moment(i64::try_from(now.unix_timestamp_nanos() / 1_000_000).unwrap());
    let load = HostLoad {
        at,
        cpu: Mhz(5),
        active: Bytes(6),
        machines: vec![],
    };
    measurements
        .write(&[(HostId(1), load.clone())])
        .await
        .unwrap();
    assert_eq!(measurements.latest().await.unwrap(), [(HostId(1), load)]);
    let parts: i64 =
        sqlx::query_scalar("select count(*) from pg_inherits where inhparent = 'load'::regclass")
            .fetch_one(&pool)
            .await
            .unwrap();
    assert_eq!(parts, 3, "today, tomorrow and the rest");
    measurements
        .tend(now + time::Duration::days(40))
        .await
        .unwrap();
    assert!(
        measurements.latest().await.unwrap().is_empty(),
        "old days are dropped"
    );
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn how_full_a_volume_was_is_one_point_a_day_and_the_last_word_stands(pool: PgPool) {
    let measurements = Measurements::new(pool.clone());
    let today = time::OffsetDateTime::now_utc().date();
    let day = |ago: i64| today - time::Duration::days(ago);
    let (a, b) = (VolumeId(1), VolumeId(2));
    for (ago, gib) in [(40, 1), (29, 2), (1, 5), (0, 6)] {
        let used = [(a, Bytes::gib(gib)), (b, Bytes::gib(100))];
        measurements.write_use(day(ago), &used).await.unwrap();
    }
    measurements
        .write_use(day(0), &[(a, Bytes::gib(7))])
        .await
        .unwrap();
    let points = measurements.use_of(a).await.unwrap();
    let figures: Vec<u64> = points.iter().map(|(_, used)| used.0 >> 30).collect();
    assert_eq!(figures, [2, 5, 7], "of the last 30 days, in their order");
    assert!((points[2].0 - points[1].0 - 1.0).abs() < 1e-9, "in days");
    assert!(measurements.use_of(VolumeId(9)).await.unwrap().is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn typical_use_is_the_95th_percentile_of_a_day_and_needs_a_day(pool: PgPool) {
    let measurements = Measurements::new(pool.clone());
    let now =
        i64::try_from(time::OffsetDateTime::now_utc().unix_timestamp_nanos() / 1_000_000).unwrap();
    // A sample every ten minutes for 24 hours: machine 1 uses 1 … 143 MHz, machine 2 is new since an hour.
    let mut samples = vec![];
    for n in 1..=143u64 {
        let at = Moment(now - 86_400_000 + i64::try_from(n).unwrap() * 600_000);
        let used = |cpu| MachineLoad {
            cpu: Mhz(cpu),
            active: Bytes(cpu * 2),
            writes: None,
            disk: None,
        };
        let mut machines = vec![(MachineId(1), used(n))];
        if n > 137 {
            machines.push((MachineId(2), used(5)));
        }
        samples.push((
            HostId(1),
            HostLoad {
                at,
                cpu: Mhz(0),
                active: Bytes(0),
                machines,
            },
        ));
    }
    measurements.write(&samples).await.unwrap();
    let found = measurements.typical(&[HostId(1)]).await.unwrap();
    assert_eq!(found.len(), 1, "{found:?}");
    let (machine, load) = found[0];
    assert_eq!(machine, MachineId(1));
    // 95 % of 143 are 135.85: the 136th; bins that begin elsewhere may leave one sample out.
    assert!((135..=137).contains(&load.cpu.0), "{load:?}");
    assert_eq!(load.active.0, load.cpu.0 * 2);
    assert!(measurements.typical(&[HostId(2)]).await.unwrap().is_empty());
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_append_is_heard_by_those_who_listen_and_silence_ends_the_wait(pool: PgPool) {
    let mut news = News::listen(&pool).await.unwrap();
    let patience = std::time::Duration::from_millis(30);
    let began = std::time::Instant::now();
    news.next(patience).await.unwrap();
    assert!(
        began.elapsed() >= patience,
        "nothing happened until the time was over"
    );
    let journal = Journal::new(pool.clone());
    let mut estate = stored(&journal).await;
    let event = Event::Machines(machines::Event::Deleted {
        machine: MachineId(8),
        at: Moment(5),
    });
    append(&journal, &mut estate, &[event]).await;
    let long = std::time::Duration::from_secs(20);
    let began = std::time::Instant::now();
    news.next(long).await.unwrap();
    assert!(began.elapsed() < long, "it was heard");
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn history_goes_after_its_time_and_what_is_current_stays(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let mut estate = stored(&journal).await;
    append(
        &journal,
        &mut estate,
        &[Event::Machines(machines::Event::Deleted {
            machine: MachineId(8),
            at: Moment(5),
        })],
    )
    .await;
    sqlx::query("update batch set at = now() - interval '91 days'")
        .execute(&pool)
        .await
        .unwrap();
    append(
        &journal,
        &mut estate,
        &[Event::Machines(machines::Event::Recovered {
            machine: MachineId(8),
        })],
    )
    .await;
    sqlx::query("update event set at = now() - interval '401 days' where revision = 2")
        .execute(&pool)
        .await
        .unwrap();
    sqlx::query("update event set at = now() where revision = 3")
        .execute(&pool)
        .await
        .unwrap();
    journal.tend(90, 400).await.unwrap();
    journal.tend(90, 400).await.unwrap();
    assert_eq!(now(&journal).await, estate);
    let kept: Vec<i64> = sqlx::query_scalar(
        "select since from fact where kind = 'machine' and id = 8 order by since",
    )
    .fetch_all(&pool)
    .await
    .unwrap();
    assert_eq!(
        kept,
        [2, 3],
        "the state that was replaced 91 days ago is gone, the one replaced today is kept"
    );
    let told = Reads::new(pool)
        .events(&EventFilter::default(), 10)
        .await
        .unwrap();
    assert_eq!(told.len(), 1);
}

#[sqlx::test(migrator = "MIGRATIONS")]
async fn of_each_machine_the_newest_pictures_are_kept_and_none_twice(pool: PgPool) {
    let pictures = zastrugi_store::Pictures::new(pool);
    let picture = |n: i64, machine: u64| zastrugi_store::Picture {
        id: uuid::Uuid::new_v4(),
        machine: MachineId(machine),
        mark: format!("S/{machine}/{n}"),
        at: Moment(1_000_000 * n),
        why: format!("{n}"),
    };
    for n in 1..=7 {
        assert!(pictures.keep(&picture(n, 7), b"png").await.unwrap());
    }
    let other = picture(1, 8);
    assert!(pictures.keep(&other, b"other").await.unwrap());
    assert!(
        !pictures.keep(&picture(7, 7), b"png").await.unwrap(),
        "the same is kept once"
    );
    assert_eq!(
        pictures.newest(MachineId(7)).await.unwrap().unwrap().why,
        "7"
    );
    assert!(pictures.has("S/7/3").await.unwrap());
    assert!(!pictures.has("S/7/2").await.unwrap(), "five are kept");
    assert_eq!(pictures.bytes(other.id).await.unwrap().unwrap(), b"other");
    assert_eq!(pictures.bytes(uuid::Uuid::nil()).await.unwrap(), None);
}

/// If this fails, snapshots are deleted in the busiest hour of the day.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn the_quiet_hour_is_the_one_of_seven_days_in_which_least_is_written(pool: PgPool) {
    let measurements = Measurements::new(pool.clone());
    let load = |writes: u64| MachineLoad {
        cpu: Mhz(1),
        active: Bytes(1),
        writes: None,
        disk: Some(DiskUse {
            used: Bytes(1),
            writes: Rate(writes),
        }),
    };
    // One sample an hour for two days; at 4 UTC it writes least, and another machine at 9.
    let now = time::OffsetDateTime::now_utc();
    let samples = (0..48).map(|ago| {
        let at = now - time::Duration::hours(ago);
        let quiet = |hour: u8| if at.hour() == hour { 1 } else { 1000 };
        let sample = HostLoad {
            at: Moment(i64::try_from(at.unix_timestamp_nanos() / 1_000_000).unwrap()),
            cpu: Mhz(1),
            active: Bytes(1),
            machines: vec![
                (MachineId(7), load(quiet(4))),
                (MachineId(8), load(quiet(9))),
            ],
        };
        (HostId(1), sample)
    });
    let samples: Vec<_> = samples.collect();
    assert_eq!(
        measurements
            .quiet_hour(MachineId(7), HostId(1))
            .await
            .unwrap(),
        None
    );
    measurements.write(&samples[..12]).await.unwrap();
    assert_eq!(
        measurements
            .quiet_hour(MachineId(7), HostId(1))
            .await
            .unwrap(),
        None,
        "half a day tells nothing"
    );
    measurements.write(&samples[12..]).await.unwrap();
    assert_eq!(
        measurements
            .quiet_hour(MachineId(7), HostId(1))
            .await
            .unwrap(),
        Some(4)
    );
    assert_eq!(
        measurements
            .quiet_hour(MachineId(8), HostId(1))
            .await
            .unwrap(),
        Some(9)
    );
    assert_eq!(
        measurements
            .quiet_hour(MachineId(9), HostId(1))
            .await
            .unwrap(),
        None
    );
}
