//! Runs and orders in the tables: one row for each step that was touched, upgraded from what an earlier version wrote.

use super::{MIGRATIONS, stored};
use serde_json::{Value, json};
use sqlx::{PgPool, Row};
use uuid::Uuid;
use zastrugi_core::{
    ids::{MachineId, Revision, RunId, SiteId},
    moment::Span,
    permits::Who,
    road::{Input, Urgency, begin, turn},
    rooms::{Change, Event, Proposal, World, absorb_all, machines},
    runs::Phase,
    testkit::read,
    view::View,
};
use zastrugi_store::{Journal, NewOrder, Orders, Reads, TakenOrder};

fn small() -> zastrugi_core::testkit::Small {
    read("cluster a\nhost 1 64\nmachine 7 db 8 on 1\nmachine 8 web 8 on 1")
}

fn stop() -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(7), MachineId(8)],
        act: machines::PowerAct::Stop {
            grace: Span::secs(9),
            then: machines::AfterGrace::LeaveOn,
        },
    })
}

async fn write(journal: &Journal, world: &mut World, events: &[Event]) -> Change {
    let change = absorb_all(world, events);
    let mut batch = journal.begin().await.unwrap();
    let revision = Revision(batch.head().revision.0 + 1);
    batch.write(revision, &change, &[], &[]).await.unwrap();
    batch.commit(revision, Uuid::new_v4()).await.unwrap();
    world.estate.revision = revision;
    change
}

/// A run of four steps that has begun.
async fn begun(journal: &Journal) -> (World, RunId) {
    stored(journal).await;
    let small = small();
    let plan = zastrugi_core::rooms::assess(&small.view, &small.permits, &stop(), small.now);
    let plan = plan.accept().unwrap();
    let mut world = small.world();
    let (by, request) = (Who::itself(), Uuid::nil());
    let (run, events) = begin(&small.view, &small.plans, plan, by, request, small.now);
    write(journal, &mut world, &events).await;
    (world, run)
}

fn told(world: &World, run: RunId, input: Input) -> Vec<Event> {
    let view = View {
        runs: world.runs.clone().into(),
        ..View::of(world.estate.clone())
    };
    turn(&view, &world.plans, run, input, small().now)
}

async fn rows(pool: &PgPool, kind: &str) -> Vec<(i64, bool)> {
    let rows =
        sqlx::query("select id, live from fact where kind = $1 and until is null order by id")
            .bind(kind)
            .fetch_all(pool)
            .await
            .unwrap();
    rows.iter().map(|r| (r.get(0), r.get(1))).collect()
}

/// If this fails, a run of thousands of steps writes itself whole at every step, or a restarted process has lost some.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_step_is_one_row_and_a_restarted_process_has_them_all(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let (mut world, run) = begun(&journal).await;
    let said = "asked".to_owned();
    let events = told(&world, run, Input::Succeeded { step: 0, said });
    let change = write(&journal, &mut world, &events).await;
    assert_eq!(
        change.steps.len(),
        2,
        "the one that ended and the one that follows"
    );
    assert_eq!(
        change.runs.len(),
        0,
        "nothing is said of the run as a whole"
    );
    let (head, loaded) = journal.load().await.unwrap();
    assert_eq!(head.revision, world.estate.revision);
    assert_eq!(
        loaded.runs, world.runs,
        "with all its steps and what they hold"
    );
    assert_eq!(loaded.plans, world.plans);
    let (_, behind) = journal
        .changed_since(Revision(head.revision.0 - 1))
        .await
        .unwrap();
    assert_eq!(
        behind.steps.len(),
        2,
        "another process reads only what changed"
    );
}

/// If this fails, closed runs fill the memory of every process, or their pages have lost steps.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn a_closed_run_is_loaded_no_more_and_can_be_looked_at(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let (mut world, run) = begun(&journal).await;
    for input in [
        Input::Cancel,
        Input::Succeeded {
            step: 0,
            said: "asked".into(),
        },
        Input::Unsent { step: 2 },
    ] {
        let events = told(&world, run, input);
        write(&journal, &mut world, &events).await;
    }
    assert!(world.runs.is_empty() && world.plans.is_empty());
    for kind in ["run", "plan", "step"] {
        let rows = rows(&pool, kind).await;
        assert!(
            !rows.is_empty() && rows.iter().all(|(_, live)| !live),
            "{kind}: {rows:?}"
        );
    }
    assert!(journal.load().await.unwrap().1.runs.is_empty());
    let (kept, plan) = Reads::new(pool.clone()).run(run).await.unwrap().unwrap();
    let phases: Vec<_> = kept.steps().map(|s| s.phase).collect();
    assert_eq!(plan.steps.len(), 4);
    assert_eq!(phases[0], Phase::Done);
    assert_eq!(
        phases[2],
        Phase::Skipped,
        "given up before the device was told"
    );
    assert_eq!((kept.tally.done, kept.tally.skipped), (1, 3));
    // Old ones end by age, with their plan, steps and request.
    sqlx::query("insert into request (id, run) values ($1, $2)")
        .bind(Uuid::new_v4())
        .bind(i64::try_from(run.0).unwrap())
        .execute(&pool)
        .await
        .unwrap();
    sqlx::query(
        "insert into event (revision, n, at, who, kind, text, about)
         values ((select revision from head), 0, now() - interval '401 days', 'ada', 'run', 'old', '{}')",
    )
    .execute(&pool)
    .await
    .unwrap();
    journal.tend(90, 400).await.unwrap();
    for kind in ["run", "plan", "step"] {
        assert_eq!(rows(&pool, kind).await, [], "{kind}");
    }
    let left: i64 = sqlx::query_scalar("select count(*) from request")
        .fetch_one(&pool)
        .await
        .unwrap();
    assert_eq!(left, 0);
}

fn version_1() -> Value {
    let text = include_str!("../../../core/tests/stored/version-1.json");
    serde_json::from_str::<Value>(text).unwrap()["runs"][0].clone()
}

/// If this fails, an upgrade loses a run that is under way, or one that was killed half-way never ends.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn runs_of_the_previous_form_are_brought_up_also_after_a_kill_half_way(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let one = version_1();
    // 300 runs, of which the upgrade was killed after some: pieces are transactions.
    for n in 0..300i64 {
        for kind in ["run", "plan"] {
            let mut body = one[kind].clone();
            body[if kind == "run" { "id" } else { "run" }] = json!(2000 + n);
            sqlx::query("insert into fact (kind, id, since, version, live, body) values ($1, $2, 1, 1, $3, $4)")
                .bind(kind)
                .bind(2000 + n)
                .bind(n < 3)
                .bind(body)
                .execute(&pool)
                .await
                .unwrap();
        }
    }
    let killed = tokio::time::timeout(
        std::time::Duration::from_millis(40),
        zastrugi_store::migrate(&pool),
    );
    drop(killed.await);
    zastrugi_store::migrate(&pool).await.unwrap();
    let old: i64 = sqlx::query_scalar(
        "select count(*) from fact where kind in ('run', 'plan') and version = 1",
    )
    .fetch_one(&pool)
    .await
    .unwrap();
    assert_eq!(old, 0);
    assert_eq!(
        rows(&pool, "step").await.len(),
        600,
        "two steps of each had been touched"
    );
    let world = journal.load().await.unwrap().1;
    assert_eq!(world.runs.len(), 3, "closed ones stay where they are");
    let run = world.runs.get(RunId(2001)).unwrap();
    assert_eq!(
        (run.phase(0), run.phase(1)),
        (Some(Phase::Done), Some(Phase::Running))
    );
}

fn order(step: usize, device: &str, urgency: Urgency) -> NewOrder {
    NewOrder {
        run: RunId(1),
        step,
        attempt: 1,
        after: Span(0),
        device: device.into(),
        urgency,
        carried_at: vec![],
    }
}

async fn ordered(journal: &Journal, orders: &[NewOrder]) {
    let mut batch = journal.begin().await.unwrap();
    let revision = Revision(batch.head().revision.0 + 1);
    batch.write_orders(&[], orders).await.unwrap();
    batch.commit(revision, Uuid::new_v4()).await.unwrap();
}

/// If this fails, a device that hangs keeps all others waiting, or a restart waits behind an edit.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn few_orders_of_a_device_are_taken_at_once_the_most_urgent_first(pool: PgPool) {
    let (journal, orders) = (Journal::new(pool.clone()), Orders::new(pool));
    let mut new: Vec<_> = (0..100)
        .map(|n| order(n, "host-1", Urgency::Ordinary))
        .collect();
    new.push(order(100, "host-1", Urgency::Availability));
    new.push(order(101, "host-2", Urgency::Ordinary));
    ordered(&journal, &new).await;
    let taken = orders.take(64, 4, &[], Span::secs(30)).await.unwrap();
    let of = |device: &str| taken.iter().filter(|o| o.device == device).count();
    assert_eq!((of("host-1"), of("host-2")), (4, 1));
    assert!(
        taken.iter().any(|o| o.step == 100),
        "what machines wait for goes first"
    );
    let busy = [("host-1".to_owned(), 4)];
    assert_eq!(orders.take(64, 4, &busy, Span::secs(30)).await.unwrap(), []);
    let busy = [("host-1".to_owned(), 3)];
    assert_eq!(
        orders
            .take(64, 4, &busy, Span::secs(30))
            .await
            .unwrap()
            .len(),
        1
    );
}

/// If this fails, a device is told of something that a person gave up before it was told, or the other way round.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_order_knows_whether_the_device_may_have_been_told(pool: PgPool) {
    let (journal, orders) = (Journal::new(pool.clone()), Orders::new(pool.clone()));
    ordered(&journal, &[order(0, "host-1", Urgency::Ordinary)]).await;
    let first = orders
        .take(9, 4, &[], Span::secs(30))
        .await
        .unwrap()
        .remove(0);
    assert!(!first.sent);
    orders.put_back(&first, Span(0)).await.unwrap();
    let again = orders
        .take(9, 4, &[], Span::secs(30))
        .await
        .unwrap()
        .remove(0);
    assert!(!again.sent, "it was put back unperformed");
    orders.give_back(&again, Span(0), "12 %").await.unwrap();
    let progress = Reads::new(pool.clone()).progress().await.unwrap();
    assert_eq!(
        progress.get(&(RunId(1), 0)).map(String::as_str),
        Some("12 %")
    );
    let third = orders
        .take(9, 4, &[], Span::secs(30))
        .await
        .unwrap()
        .remove(0);
    assert!(third.sent, "it was looked at once");
    // Ordered again in the same breath, as after a failure: still known.
    let mut batch = journal.begin().await.unwrap();
    let next = order(0, "host-1", Urgency::Ordinary);
    batch.write_orders(&[(RunId(1), 0)], &[next]).await.unwrap();
    batch.commit(Revision(9), Uuid::new_v4()).await.unwrap();
    assert!(orders.take(9, 4, &[], Span::secs(30)).await.unwrap()[0].sent);
}

/// If this fails, two processes that carry over one line take twice what somebody allowed, or each half where the other is idle.
#[sqlx::test(migrator = "MIGRATIONS")]
async fn an_order_knows_how_many_others_carry_at_the_same_sites(pool: PgPool) {
    let journal = Journal::new(pool.clone());
    let carried = |step: usize, sites: &[u64]| NewOrder {
        carried_at: sites.iter().copied().map(SiteId).collect(),
        ..order(step, &format!("host-{step}"), Urgency::Ordinary)
    };
    let new = [carried(0, &[1, 2]), carried(1, &[1]), carried(2, &[3])];
    ordered(&journal, &new).await;
    let [a, b, c] = [&[1u64][..], &[1], &[3]].map(|sites| {
        let sites: Vec<SiteId> = sites.iter().copied().map(SiteId).collect();
        Orders::new(pool.clone()).carrying(&sites)
    });
    let take = async |of: &Orders, most: i64| of.take(most, 4, &[], Span::secs(30)).await.unwrap();
    let (first, second, third) = (take(&a, 1).await, take(&b, 1).await, take(&c, 1).await);
    let beside = |taken: &[TakenOrder]| taken.iter().map(|o| o.beside).collect::<Vec<_>>();
    assert_eq!(
        [&first, &second, &third].map(|t| beside(t)),
        [[0], [0], [0]]
    );
    for (of, taken) in [(&a, &first), (&b, &second), (&c, &third)] {
        of.give_back(&taken[0], Span(0), "1 %").await.unwrap();
    }
    let again = [take(&a, 9).await, take(&b, 9).await, take(&c, 9).await];
    assert_eq!(again.map(|t| beside(&t)), [vec![1], vec![1], vec![0]]);
}
