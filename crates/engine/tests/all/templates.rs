//! Templates and copies on real sockets: bytes that stay those of the version, what is removed from a copy, copies that fail half-way.

use crate::lab::{Lab, eventually};
use crate::snapshots::{named, take};
use sqlx::PgPool;
use uuid::Uuid;
use zastrugi_core::{
    copying::Source,
    estate::{Machine, Sealed, Template, Version},
    ids::MachineId,
    rooms::{
        Proposal, Step,
        machines::{self, Copied, CreateMachines, NewDisk},
        templates::{Ask, Make, Remove},
    },
    runs::RunState,
    testkit,
};
use zastrugi_engine::Resolve;
use zastrugi_store::testkit::url;

/// Two hosts and machine `m`, which runs and has written 2 GiB.
async fn lab(pool: &PgPool, speed: f64) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, speed).await;
    lab.ready().await;
    lab.done(lab.create("m", 1, true)).await;
    lab.standins.world.write("m", 2 << 30);
    lab
}

pub(crate) fn make(machine: MachineId, name: &str, snapshot: Option<Uuid>) -> Proposal {
    Proposal::Templates(Ask::Make(Make {
        machine,
        snapshot,
        of: None,
        name: name.into(),
        volume: None,
        seal: true,
        first_boot: None,
        note: "".into(),
    }))
}

pub(crate) fn template(lab: &Lab, name: &str) -> Template {
    Template::clone(lab.estate().template_named(name).unwrap())
}

fn version(lab: &Lab, name: &str) -> Version {
    template(lab, name).newest().unwrap().clone()
}

/// So many machines as copies of something, off.
pub(crate) fn copies(
    lab: &Lab,
    name: &str,
    count: u32,
    source: Source,
    dependent: bool,
) -> Proposal {
    let cluster = lab.estate().clusters.keys().next().copied();
    let original = source.resolve(&lab.desk.look(), lab.desk.now()).unwrap();
    let disks = original.disks.iter().map(|d| NewDisk {
        size: d.size,
        provisioning: d.provisioning,
    });
    Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
        pledge: None,
        copied: Some(Copied {
            source,
            dependent,
            seal: true,
        }),
        disks: disks.collect(),
        start: false,
        ..testkit::machines(name, count, cluster, 1)
    })))
}

pub(crate) fn of(lab: &Lab, name: &str) -> Source {
    let template = template(lab, name);
    Source::Template {
        version: template.newest().unwrap().number,
        template: template.id,
    }
}

fn machine(lab: &Lab, name: &str) -> Machine {
    Machine::clone(lab.estate().machine_named(name).unwrap())
}

fn content(lab: &Lab, name: &str) -> String {
    lab.standins.world.content(name, None).unwrap()
}

/// If this fails, a machine from a template boots from other bytes, or the machine it was made from lost its keys.
#[sqlx::test(migrations = false)]
async fn copies_hold_what_the_version_holds_and_the_original_is_left_alone(pool: PgPool) {
    let lab = lab(&pool, 40.0).await;
    let m = lab.machine("m");
    lab.done(take(m, "eve", |_| {})).await;
    let eve = named(&lab, "m", "eve").uuid;
    let then = lab.standins.world.content("m", Some("eve")).unwrap();
    lab.standins.world.write("m", 64 << 20);
    lab.done(make(m, "base", Some(eve))).await;
    let made = version(&lab, "base");
    let Sealed::Yes(removed) = &made.sealed else {
        panic!("{:?}", made.sealed);
    };
    assert!(removed.contains(&"machine id".to_owned()), "{removed:?}");
    let frozen = lab.standins.world.version("base 1").unwrap();
    assert_ne!(frozen, then, "the copy was sealed");
    let still = lab.standins.world.content("m", Some("eve"));
    assert_eq!(
        still.as_deref(),
        Some(then.as_str()),
        "the snapshot was not"
    );

    let source = of(&lab, "base");
    let plain = |dependent| {
        let Proposal::Machines(machines::Ask::Create(mut ask)) = copies(
            &lab,
            if dependent { "thin-{1}" } else { "full-{1}" },
            2,
            source,
            dependent,
        ) else {
            unreachable!()
        };
        ask.copied = ask.copied.map(|c| Copied { seal: false, ..c });
        Proposal::Machines(machines::Ask::Create(ask))
    };
    lab.done(plain(false)).await;
    lab.done(plain(true)).await;
    for name in ["full-1", "full-2", "thin-1", "thin-2"] {
        assert_eq!(content(&lab, name), frozen, "{name}");
    }
    let keys = |name: &str| machine(&lab, name).guest_key.unwrap();
    assert_ne!(keys("full-1"), keys("full-2"));
    assert!(lab.standins.world.takes("full-1") >= 2 << 30);
    assert_eq!(
        lab.standins.world.takes("thin-1"),
        0,
        "it lies on the version"
    );

    let remove = Proposal::Templates(Ask::Remove(Remove {
        template: template(&lab, "base").id,
        versions: vec![1],
        typed: "base".into(),
    }));
    assert!(lab.desk.assess(&lab.admin, &remove).blocked());
    let thin: Vec<MachineId> = ["thin-1", "thin-2"].map(|n| lab.machine(n)).into();
    lab.done(Proposal::Templates(Ask::Whole { machines: thin }))
        .await;
    assert_eq!(content(&lab, "thin-1"), frozen, "whole, and the same");
    assert!(lab.standins.world.takes("thin-1") >= 2 << 30);
    lab.done(remove).await;
    assert!(lab.estate().templates.is_empty());
    assert_eq!(lab.standins.world.version("base 1"), None);
    assert_eq!(
        content(&lab, "thin-2"),
        frozen,
        "nothing of it was needed any more"
    );
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.assert_once();
}

/// If this fails, a machine that runs can't be copied, or its copy holds what was written after it began.
#[sqlx::test(migrations = false)]
async fn a_machine_that_runs_is_copied_as_of_one_moment(pool: PgPool) {
    let lab = lab(&pool, 40.0).await;
    let m = lab.machine("m");
    let source = Source::Machine {
        machine: m,
        snapshot: None,
    };
    let began = content(&lab, "m");
    let Proposal::Machines(machines::Ask::Create(mut ask)) = copies(&lab, "twin", 1, source, false)
    else {
        unreachable!()
    };
    ask.copied = ask.copied.map(|c| Copied { seal: false, ..c });
    lab.done(Proposal::Machines(machines::Ask::Create(ask)))
        .await;
    assert_eq!(content(&lab, "twin"), began);
    let twin = machine(&lab, "twin");
    assert_eq!(twin.made_from, "m");
    let ids = ["m", "twin"].map(|name| lab.standins.world.generation_id(name));
    assert_ne!(ids[0], ids[1], "its guest can notice that it is a copy");
    assert_ne!(twin.uuid, machine(&lab, "m").uuid);
    assert_ne!(twin.nics[0].mac, machine(&lab, "m").nics[0].mac);
    assert_eq!(lab.standins.world.running("m").len(), 1, "it ran on");
    lab.assert_once();
}

/// If this fails, a copy that was given up leaves room taken or half a machine behind.
#[sqlx::test(migrations = false)]
async fn a_copy_that_is_given_up_leaves_nothing(pool: PgPool) {
    let lab = lab(&pool, 20.0).await;
    let source = Source::Machine {
        machine: lab.machine("m"),
        snapshot: None,
    };
    for host in ["h1", "h2"] {
        lab.standins.world.link(host, 100);
    }
    let used = || lab.standins.world.used("slab");
    let before = used();
    let run = lab.start(copies(&lab, "twin", 1, source, false)).await;
    eventually("it is under way", || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| view.said(r, 0).contains("to go"))
    })
    .await;
    assert!(used() >= before + (2 << 30), "room is held for it");
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(lab.estate().machine_named("twin").is_none());
    assert!(used() < before + (1 << 30), "its room is free again");
    assert_eq!(lab.standins.world.content("twin", None), None);
}

/// If this fails, a host that loses its volume in the middle of a copy leaves half of one, or the run never gets there.
#[sqlx::test(migrations = false)]
async fn a_copy_that_is_cut_is_begun_anew(pool: PgPool) {
    let lab = lab(&pool, 20.0).await;
    lab.done(lab.create("n", 1, false)).await;
    let n = lab.machine("n");
    for host in ["h1", "h2"] {
        lab.standins.world.link(host, 1);
    }
    let run = lab.start(make(n, "base", None)).await;
    let under_way = || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| view.said(r, 0).contains("to go"))
    };
    eventually("it is under way", under_way).await;
    let (_, plan) = lab.desk.run(run).await.unwrap().unwrap();
    let via = plan.steps.iter().find_map(|p| match &p.step {
        Step::Templates(step) => Some(step.via()),
        _ => None,
    });
    let via = lab.estate().hosts[&via.unwrap()].name.clone();
    for portal in [1, 2] {
        lab.standins
            .world
            .portal("shelf", portal, Some(&via), false);
    }
    lab.until(run, &[RunState::NeedsYou]).await;
    assert_eq!(lab.standins.world.version("base 1"), None);
    for portal in [1, 2] {
        lab.standins.world.portal("shelf", portal, Some(&via), true);
    }
    for host in ["h1", "h2"] {
        lab.standins.world.link(host, 10_000);
    }
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    assert!(version(&lab, "base").ready);
}
