//! First boot on real sockets: what a guest reads, what it says came of it, and that a password is nowhere to be read.

use crate::lab::{Lab, eventually_within};
use sqlx::PgPool;
use zastrugi_core::{
    endpoint::Password,
    estate::Applied,
    ids::FirstBootId,
    rooms::{
        Proposal,
        first_boot::{Ask, Keep},
        machines,
    },
};
use zastrugi_store::testkit::url;

const KEY: &str =
    "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAICqXUWw1S2iEjNvY9UoiagpVsh7ROOIHrWxcu5wAqlrq ops@desk";

fn keep(commands: &[&str], password: Password) -> Keep {
    Keep {
        of: None,
        name: "ops".into(),
        host_name: "{name}.lab.example".into(),
        user: "ops".into(),
        keys: vec![KEY.into()],
        password,
        no_password: false,
        dns: vec!["10.1.2.53".into()],
        search: vec!["lab.example".into()],
        zone: "Europe/Oslo".into(),
        commands: commands.iter().map(|c| (*c).into()).collect(),
    }
}

fn with(lab: &Lab, name: &str, count: u32, document: FirstBootId) -> Proposal {
    let Proposal::Machines(machines::Ask::Create(mut ask)) = lab.create(name, count, true) else {
        unreachable!()
    };
    ask.document = Some(document);
    Proposal::Machines(machines::Ask::Create(ask))
}

fn applied(lab: &Lab, name: &str) -> Option<Applied> {
    lab.estate()
        .machine_named(name)?
        .first_boot
        .as_ref()?
        .applied
        .clone()
}

async fn kept(lab: &Lab, ask: Keep) -> FirstBootId {
    lab.done(Proposal::FirstBoot(Ask::Keep(Box::new(ask))))
        .await;
    *lab.estate().first_boots.keys().next().unwrap()
}

/// If this fails, guests don't get what was written for them, or say so although nothing of it was done.
#[sqlx::test(migrations = false)]
async fn a_guest_does_what_it_is_told_and_says_so(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 40.0).await;
    lab.ready().await;
    let secret = lab.desk.keep_hash("the-tide-turns").await.unwrap();
    let document = kept(
        &lab,
        keep(&["touch /ready", "exit 3"], Password::Kept(secret)),
    )
    .await;
    lab.done(with(&lab, "k-{1}", 2, document)).await;
    eventually_within("both said", 30, || {
        ["k-1", "k-2"].iter().all(|n| applied(&lab, n).is_some())
    })
    .await;
    let said = applied(&lab, "k-1").unwrap();
    assert_eq!(
        said.done,
        [
            "host name k-1.lab.example",
            "user ops: a key, password",
            "time zone Europe/Oslo",
            "command 1",
            "name servers 10.1.2.53"
        ]
    );
    assert_eq!(said.failed, ["command 2 ended with 3: exit 3"]);
    // A version that is mended is for new ones; those that booted keep what they have.
    let next = Keep {
        of: Some(document),
        ..keep(&["touch /ready"], Password::Missing)
    };
    lab.done(Proposal::FirstBoot(Ask::Keep(Box::new(next))))
        .await;
    lab.done(with(&lab, "late", 1, document)).await;
    eventually_within("the third said", 30, || applied(&lab, "late").is_some()).await;
    let late = applied(&lab, "late").unwrap();
    assert_eq!(late.failed, Vec::<String>::new());
    assert!(
        late.done.contains(&"user ops: a key, password".to_owned()),
        "the password is kept"
    );
    assert_eq!(applied(&lab, "k-2").unwrap().failed.len(), 1);
    let told: String =
        sqlx::query_scalar("select coalesce(string_agg(body::text, ' '), '') from fact")
            .fetch_one(&pool)
            .await
            .unwrap();
    assert!(
        !told.contains("the-tide-turns") && !told.contains("$6$"),
        "neither the password nor its hash"
    );
    lab.assert_once();
}

/// If this fails, a copy believes to be what it was copied from: it is not told its own name.
#[sqlx::test(migrations = false)]
async fn a_copy_boots_for_the_first_time_too(pool: PgPool) {
    let lab = Lab::at_speed(&url(&pool), 2, 40.0).await;
    lab.ready().await;
    let document = kept(&lab, keep(&[], Password::Missing)).await;
    lab.done(with(&lab, "first", 1, document)).await;
    eventually_within("it said", 30, || applied(&lab, "first").is_some()).await;
    let Proposal::Machines(machines::Ask::Create(mut ask)) = with(&lab, "twin", 1, document) else {
        unreachable!()
    };
    ask.copied = Some(machines::Copied {
        source: zastrugi_core::copying::Source::Machine {
            machine: lab.machine("first"),
            snapshot: None,
        },
        dependent: false,
        seal: false,
    });
    lab.done(Proposal::Machines(machines::Ask::Create(ask)))
        .await;
    eventually_within("its copy said", 30, || applied(&lab, "twin").is_some()).await;
    assert_eq!(
        applied(&lab, "twin").unwrap().done[0],
        "host name twin.lab.example"
    );
    assert_eq!(
        applied(&lab, "first").unwrap().done[0],
        "host name first.lab.example"
    );
}
