//! Recovery plans as pages show them: what would not work, stages, reports, and the sheets that keep, drill and answer one.

use crate::{
    house::House,
    pages::words,
    pairs::{PAIR, estate},
};
use rocket::http::Status;
use sqlx::PgPool;
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    estate::{
        AnyPoint, Arrived, Between, Estate, Fact, Passage, PassageKind, Passed, RecoveryPlan,
        Stage, Then, Way,
    },
    ids::{MachineId, PairId, PassageId, PlanId, RunId, SiteId},
    moment::{Moment, Span},
};
use zastrugi_formats::plan as file;

const PLAN: u64 = 750;
const BEGAN: Moment = Moment(1_700_000_000_000);

/// With a plan of one stage with `db`, after which somebody is asked.
fn planned() -> Estate {
    let mut e = estate();
    e.put(Fact::RecoveryPlan(Arc::new(RecoveryPlan {
        id: PlanId(PLAN),
        name: "har<i>bour".into(),
        way: Way {
            pair: PairId(PAIR),
            from: SiteId(900),
        },
        stages: vec![Stage {
            name: "sto<i>res".into(),
            named: vec![MachineId(7)],
            who: None,
            in_turn: true,
            limit: Span::mins(5),
            then: vec![
                Then::Confirm {
                    text: "the <b>phones</b> are switched".into(),
                },
                Then::Pause {
                    time: Span::mins(2),
                },
            ],
        }],
        drills: Default::default(),
        edition: 3,
        changed: BEGAN,
    })));
    e
}

/// A drill that waits for somebody.
fn drilled(asked: bool) -> Passage {
    let at = |secs: u64| BEGAN.plus(Span::secs(secs));
    Passage {
        id: PassageId(760),
        plan: PlanId(PLAN),
        name: "har<i>bour".into(),
        edition: 3,
        way: "str<i>ait, Quayside to Hilltop".into(),
        kind: PassageKind::Drill,
        run: RunId(5),
        began: BEGAN,
        ended: (!asked).then(|| at(300)),
        left: false,
        stages: vec![Passed {
            name: "sto<i>res".into(),
            foretold: Span::secs(140),
            began: Some(at(10)),
            ended: (!asked).then(|| at(250)),
            machines: vec![Arrived {
                machine: MachineId(7),
                name: "db".into(),
                point: AnyPoint::Replicated {
                    replica: MachineId(20),
                    session: Uuid::from_u128(2),
                },
                taken: BEGAN.before(Span::mins(42)),
                host: "h3".into(),
                booted: Some(Span::secs(23)),
                good: Some(true),
                said: "=it came up".into(),
                equal: None,
            }],
            left_out: vec!["gig".into()],
            then: vec![Between {
                mark: 1,
                words: "the <b>phones</b> are switched".into(),
                asks: true,
                holds: false,
                began: Some(at(50)),
                ended: (!asked).then(|| at(110)),
                good: (!asked).then_some(true),
                said: String::new(),
                answer: None,
            }],
        }],
    }
}

fn with(passage: Passage) -> Estate {
    let mut e = planned();
    e.put(Fact::Passage(Arc::new(passage)));
    e
}

/// If this fails, nobody sees whether a plan would work, or a name becomes markup.
#[sqlx::test(migrations = false)]
async fn a_plan_shows_whether_it_would_work_and_who_is_in_it(pool: PgPool) {
    let house = House::of(&pool, &planned()).await;
    let cookie = house.sign_in("ada").await;
    for path in [
        format!("/protect/plans/{PLAN}"),
        format!("/protect/plans/{PLAN}/part"),
        "/protect".to_owned(),
    ] {
        let (status, page) = house.get(&cookie, &path).await;
        assert_eq!(status, Status::Ok, "{path}");
        let marked = ["har<i>bour", "sto<i>res", "<b>phones"];
        assert!(marked.iter().all(|m| !page.contains(m)), "{path}");
    }
    let (_, page) = house.get(&cookie, &format!("/protect/plans/{PLAN}")).await;
    let said = words(&page);
    for expected in [
        "one machine",
        "db-there",
        "It was never drilled",
        "was never proven",
        "would work now",
        "a person confirms",
        "wait 2 min",
        "Reports stand here",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    assert!(page.contains("/sheet/drill?id=750"));
    let operator = house.sign_in("otto").await;
    let (_, page) = house
        .get(&operator, &format!("/protect/plans/{PLAN}"))
        .await;
    assert!(page.contains("/sheet/drill") && !page.contains("/sheet/plan"));
    let viewer = house.sign_in("vera").await;
    let (_, page) = house.get(&viewer, &format!("/protect/plans/{PLAN}")).await;
    assert!(!page.contains("/sheet/"), "nothing for whoever may not");
    let (status, _) = house.get(&cookie, "/protect/plans/9999").await;
    assert_eq!(status, Status::NotFound);
    let (status, _) = house.get(&cookie, "/protect/passages/9999").await;
    assert_eq!(status, Status::NotFound);
}

/// If this fails, a plan that would not work today is found out on the day that it is needed.
#[sqlx::test(migrations = false)]
async fn one_that_would_not_work_stands_under_what_needs_somebody(pool: PgPool) {
    let mut e = planned();
    e.remove(zastrugi_core::estate::Kind::Machine, 20);
    let house = House::of(&pool, &e).await;
    let cookie = house.sign_in("ada").await;
    let (_, home) = house.get(&cookie, "/").await;
    let said = words(&home);
    assert!(
        said.contains("would not work now: db has no replica"),
        "{said}"
    );
    let (_, page) = house.get(&cookie, &format!("/protect/plans/{PLAN}")).await;
    assert!(words(&page).contains("Let a job replicate them over"));
}

/// If this fails, nobody knows that a plan waits for them, or can't say what it waits for.
#[sqlx::test(migrations = false)]
async fn whoever_is_asked_is_told_everywhere_and_answers_in_a_sheet(pool: PgPool) {
    let house = House::of(&pool, &with(drilled(true))).await;
    let cookie = house.sign_in("otto").await;
    for path in ["/", "/protect/plans/750", "/protect/passages/760"] {
        let (_, page) = house.get(&cookie, path).await;
        assert!(
            page.contains("/sheet/answer-plan?of=760&amp;mark=1")
                || page.contains("/sheet/answer-plan?of=760&#38;mark=1"),
            "{path}"
        );
        assert!(words(&page).contains("phones"), "{path}");
    }
    let (_, sheet) = house.get(&cookie, "/sheet/answer-plan?of=760&mark=1").await;
    assert!(words(&sheet).contains("It goes on as soon as this is said"));
    let (_, denied) = house
        .get(&cookie, "/sheet/answer-plan?of=760&mark=1&good=no&sent=1")
        .await;
    assert!(words(&denied).contains("its report says that this was not so"));
    let (_, none) = house.get(&cookie, "/sheet/answer-plan?of=760&mark=9").await;
    assert!(words(&none).contains("Nobody asks that"));
}

/// If this fails, an auditor is given a report that lacks what was measured, or a spreadsheet runs what a guest said.
#[sqlx::test(migrations = false)]
async fn a_report_tells_what_was_foretold_and_what_it_took(pool: PgPool) {
    let house = House::of(&pool, &with(drilled(false))).await;
    let cookie = house.sign_in("vera").await;
    let (status, page) = house.get(&cookie, "/protect/passages/760").await;
    assert_eq!(status, Status::Ok);
    let said = words(&page);
    for expected in [
        "1 of 2 machines came up well",
        "left out, as nothing of them could be booted: gig",
        "foretold 2 min, took 3 min",
        "42 min",
        "23 s",
        "confirmed",
        "h3",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    assert!(!page.contains("har<i>bour") && !page.contains("/sheet/"));
    let (status, csv) = house.get(&cookie, "/protect/passages/760/report.csv").await;
    assert_eq!(status, Status::Ok);
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines.len(), 5, "{csv}");
    assert!(lines[1].contains("stage") && lines[1].contains("140.0") && lines[1].contains("180.0"));
    assert!(lines[2].contains("db") && lines[2].contains("23.0"));
    assert!(csv.contains("'=it came up") && csv.contains("gig"), "{csv}");
    let (_, plan) = house.get(&cookie, "/protect/plans/750").await;
    assert!(words(&plan).contains("1 of 2 came up well"));
    assert!(
        words(&plan).contains("did not come to a good end"),
        "not all of it was tried"
    );
}

/// If this fails, an auditor who comes after a plan was removed finds nothing.
#[sqlx::test(migrations = false)]
async fn reports_of_a_plan_that_is_gone_are_found(pool: PgPool) {
    let mut e = with(drilled(false));
    e.remove(zastrugi_core::estate::Kind::RecoveryPlan, PLAN);
    let house = House::of(&pool, &e).await;
    let cookie = house.sign_in("vera").await;
    let (_, list) = house.get(&cookie, "/protect").await;
    assert!(words(&list).contains("Reports of plans that are gone"));
    assert!(list.contains("/protect/passages/760") && !list.contains("har<i>bour"));
    let (status, report) = house.get(&cookie, "/protect/passages/760").await;
    assert_eq!(status, Status::Ok);
    assert!(!report.contains("/protect/plans/750"));
}

/// If this fails, what was typed is lost, or a stage that was emptied comes back.
#[sqlx::test(migrations = false)]
async fn the_sheet_of_a_plan_keeps_what_was_typed(pool: PgPool) {
    let house = House::of(&pool, &planned()).await;
    let cookie = house.sign_in("ada").await;
    let (status, fresh) = house.get(&cookie, "/sheet/plan").await;
    assert_eq!(status, Status::Ok);
    assert!(fresh.contains("name=\"stage-0\"") && !fresh.contains("name=\"stage-1\""));
    let (_, had) = house.get(&cookie, "/sheet/plan?of=750").await;
    assert!(had.contains("value=\"db\"") && had.contains("wait 2 min"));
    assert!(words(&had).contains("Nothing of the plan is changed"));
    let typed = "sent=1&count=3&name=sound&way=700-900&stage-0=one&named-0=db&limit-0=5&stage-1=&named-1=&limit-1=5&stage-2=two&named-2=nobody&who-2=&limit-2=5&then-2=dance&drills=";
    let (_, sheet) = house.get(&cookie, &format!("/sheet/plan?{typed}")).await;
    let said = words(&sheet);
    assert!(said.contains("There is no machine “nobody”"), "{said}");
    assert!(said.contains("“dance” is not understood"), "{said}");
    assert!(sheet.contains("data-field=\"named-2\""));
    for kept in ["sound", "nobody", "dance"] {
        assert!(sheet.contains(kept), "{kept}");
    }
    let token = house.token(&cookie).await;
    let body = format!("_csrf={token}&{typed}&look=more");
    let more = house.post(&cookie, "/sheet/plan", body).await;
    assert!(more.1.contains("name=\"stage-3\"") && more.1.contains("dance"));
}

/// If this fails, a saved plan is another one when it is loaded, or nobody sees in what it differs.
#[sqlx::test(migrations = false)]
async fn a_saved_plan_is_loaded_again_and_compared(pool: PgPool) {
    let house = House::of(&pool, &planned()).await;
    let cookie = house.sign_in("ada").await;
    let (status, saved) = house.get(&cookie, "/protect/plans/750/file").await;
    assert_eq!(status, Status::Ok);
    let mut read = file::read(&saved).unwrap();
    assert_eq!(
        read.stages[0].then,
        ["confirm the <b>phones</b> are switched", "wait 2 min"]
    );
    let token = house.token(&cookie).await;
    let load = async |text: &str| {
        let encoded: String = form_urlencoded::byte_serialize(text.as_bytes()).collect();
        let form = format!("_csrf={token}&sent=1&of=750&count=1&look=load&file={encoded}");
        house.post(&cookie, "/sheet/plan", form).await.1
    };
    assert!(words(&load(&saved).await).contains("Nothing of the plan is changed"));
    read.stages[0].then.clear();
    read.stages.push(file::Stage {
        name: "front".into(),
        with_labels: "app=front".into(),
        answers_within_seconds: 60,
        ..file::Stage::default()
    });
    let changed = load(&file::write(&read).unwrap()).await;
    let said = words(&changed);
    assert!(said.contains("Stage front is new"), "{said}");
    assert!(said.contains("Between stage"), "{said}");
    read.pair = "elsewhere".into();
    let said = words(&load(&file::write(&read).unwrap()).await);
    assert!(said.contains("There is no pair elsewhere here"), "{said}");
    let said = words(&load("{").await);
    assert!(said.contains("can't be read as a recovery plan"), "{said}");
    let (status, schema) = house.get(&cookie, "/protect/plans/schema").await;
    assert!(status == Status::Ok && schema.contains("drill_networks"));
}

/// If this fails, nobody can move a plan or fail it over, or does so without having typed what it is about.
#[sqlx::test(migrations = false)]
async fn what_is_done_in_earnest_is_typed(pool: PgPool) {
    let house = House::of(&pool, &planned()).await;
    let cookie = house.sign_in("otto").await;
    let (_, page) = house.get(&cookie, "/protect/plans/750").await;
    assert!(page.contains("/sheet/move-plan?id=750") && page.contains("/sheet/failover?id=750"));
    let (status, sheet) = house.get(&cookie, "/sheet/move-plan?id=750").await;
    assert_eq!(status, Status::Ok);
    let said = words(&sheet);
    assert!(said.contains("Type the plan's name to confirm"), "{said}");
    assert!(!sheet.contains("har<i>bour"));
    let (_, wrong) = house
        .get(&cookie, "/sheet/move-plan?id=750&sent=1&grace=soon&typed=x")
        .await;
    assert!(words(&wrong).contains("Between 10 and 7,200 seconds"));
    assert!(wrong.contains("value=\"soon\""), "what was typed stays");
    let (_, sheet) = house
        .get(&cookie, "/sheet/failover?id=750&which=proven")
        .await;
    let said = words(&sheet);
    assert!(
        said.contains("Type the name of the site that is gone"),
        "{said}"
    );
    assert!(
        said.contains("goes on as it was at"),
        "what is lost: {said}"
    );
    assert!(said.contains("A planned move would lose nothing"), "{said}");
    assert!(said.contains("No point of db was proven"), "{said}");
    let admin = house.sign_in("ada").await;
    let (_, turn) = house.get(&admin, "/sheet/turn-plan?id=750").await;
    assert!(words(&turn).contains("db is not at"), "{}", words(&turn));
    for gone in ["move-plan", "failover", "turn-plan"] {
        let (status, sheet) = house.get(&admin, &format!("/sheet/{gone}?id=9")).await;
        assert_eq!(status, Status::Ok, "{gone}");
        assert!(words(&sheet).contains("The plan is gone"), "{gone}");
    }
}

/// If this fails, the report of a move says that something was lost, or somebody was asked who was not.
#[sqlx::test(migrations = false)]
async fn a_move_tells_that_nothing_was_lost(pool: PgPool) {
    let mut moved = drilled(false);
    moved.kind = PassageKind::Move;
    moved.stages[0].left_out.clear();
    moved.stages[0].machines[0].equal = Some(zastrugi_core::estate::Equal {
        at: BEGAN,
        extents: 34,
        all: false,
    });
    let mut holds = moved.stages[0].then[0].clone();
    holds.holds = true;
    holds.began = None;
    holds.mark = 2;
    moved.stages[0].then.push(holds);
    let house = House::of(&pool, &with(moved)).await;
    let cookie = house.sign_in("vera").await;
    let (_, page) = house.get(&cookie, "/protect/passages/760").await;
    let said = words(&page);
    for expected in [
        "Move of",
        "nothing: 34 extents are equal",
        "all of it is well",
    ] {
        assert!(said.contains(expected), "{expected}: {said}");
    }
    let (_, csv) = house.get(&cookie, "/protect/passages/760/report.csv").await;
    assert!(
        csv.lines().nth(2).is_some_and(|l| l.contains(",34,")),
        "{csv}"
    );
}

/// If this fails, machines that a move stopped stay off because nobody knows of them.
#[sqlx::test(migrations = false)]
async fn who_is_off_after_a_move_was_given_up_is_named(pool: PgPool) {
    let mut moved = drilled(false);
    moved.kind = PassageKind::Move;
    moved.left = true;
    moved.ended = None;
    moved.stages[0].machines[0].good = None;
    let mut e = with(moved);
    let mut db = zastrugi_core::estate::Machine::clone(&e.machines[&MachineId(7)]);
    db.state = zastrugi_core::estate::MachineState::Off;
    db.host = None;
    e.put(Fact::Machine(Arc::new(db)));
    let house = House::of(&pool, &e).await;
    let operator = house.sign_in("otto").await;
    let (_, page) = house.get(&operator, "/protect/passages/760").await;
    assert!(words(&page).contains("These are off"), "{}", words(&page));
    assert!(page.contains("/sheet/power?ids=7"));
}

/// If this fails, nobody hears of what was superseded, or it can't be taken up.
#[sqlx::test(migrations = false)]
async fn what_is_kept_aside_needs_somebody(pool: PgPool) {
    let mut e = planned();
    let mut there = zastrugi_core::estate::Machine::clone(&e.machines[&MachineId(20)]);
    if let Some(replica) = &mut there.replica {
        replica.astray = true;
    }
    e.put(Fact::Machine(Arc::new(there)));
    let house = House::of(&pool, &e).await;
    let cookie = house.sign_in("otto").await;
    let (_, home) = house.get(&cookie, "/").await;
    assert!(
        words(&home).contains("One machine is kept aside"),
        "{}",
        words(&home)
    );
    let link = format!("/sheet/take-up?id={PAIR}");
    assert!(home.contains(&link));
    let (_, sheet) = house.get(&cookie, &link).await;
    assert!(
        words(&sheet).contains("machines are replicas again"),
        "{}",
        words(&sheet)
    );
    let (_, none) = house.get(&cookie, &format!("{link}&sent=1")).await;
    assert!(words(&none).contains("No machine is selected"));
    let (_, machine) = house.get(&cookie, "/machines/20").await;
    assert!(words(&machine).contains("it is kept aside as it was"));
}
