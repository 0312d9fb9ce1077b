//! Volumes that are full, or away, while something is done to layers and versions on them.

use crate::{
    lab::{Lab, eventually},
    snapshots::{forget, named, take},
    templates::{copies, make, of},
};
use sqlx::PgPool;
use zastrugi_core::{
    estate::{MachineState, Provisioning},
    ids::VolumeId,
    rooms::{
        Proposal, Step,
        machines::{self, NewDisk},
        snapshots::{self, Quiet, Which},
        storage,
    },
    runs::RunState,
    units::Bytes,
};
use zastrugi_store::testkit::url;

async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 20.0).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    lab.done(lab.volume("quay", Some(16)).await).await;
    lab
}

/// A machine on a volume, on, with a thin disk of so many GiB.
async fn machine(lab: &Lab, name: &str, volume: VolumeId, gib: u64) {
    let mut ask = lab.create(name, 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(volume);
        create.disks = vec![NewDisk {
            size: Bytes::gib(gib),
            provisioning: Provisioning::Thin,
        }];
    }
    lab.done(ask).await;
}

fn state(lab: &Lab, name: &str) -> MachineState {
    lab.estate().machine_named(name).unwrap().state.clone()
}

fn links(lab: &Lab, mbit: u64) {
    for host in ["h1", "h2"] {
        lab.standins.world.link(host, mbit);
    }
}

/// If this fails, a volume that somebody fills while layers are folded takes bytes of a snapshot, or the fold never ends.
#[sqlx::test(migrations = false)]
async fn layers_fold_to_the_end_on_a_volume_that_somebody_fills_meanwhile(pool: PgPool) {
    let lab = lab(&pool).await;
    let quay = lab.volume_named("quay").id;
    machine(&lab, "m", quay, 4).await;
    machine(&lab, "n", quay, 40).await;
    let (world, m) = (&lab.standins.world, lab.machine("m"));
    world.write("m", 1 << 30);
    for name in ["a", "b"] {
        lab.done(take(m, name, |t| t.quiet = Quiet::No)).await;
        world.write("m", 512 << 20);
    }
    let kept = world.content("m", Some("b")).unwrap();
    lab.desk.ask_for_layers(&[m]).await;
    links(&lab, 50);
    let gone = named(&lab, "m", "a").uuid;
    let run = lab.start(forget(m, Which::These(vec![gone]))).await;
    let under_way = || {
        let view = lab.desk.look();
        let run = view.runs.get(run);
        run.is_some_and(|r| view.said(r, 0).contains("to go"))
    };
    eventually("it is under way", under_way).await;
    // It would fit, if no room were held.
    world.write("n", (16 << 30) - world.used("quay") + (256 << 20));
    let full = || matches!(state(&lab, "n"), MachineState::Paused(why) if why.contains("full"));
    eventually("whoever fills the volume waits", full).await;
    assert_eq!(world.content("m", Some("b")), Some(kept.clone()));
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    let faults: Vec<_> = ended.steps().filter_map(|s| s.fault.clone()).collect();
    assert_eq!(faults, vec![], "its room was held");
    assert_eq!(world.content("m", Some("b")), Some(kept));
    let foretold = foretold(&lab, run).await;
    let copied = world.folded("m").unwrap();
    assert!(
        copied.abs_diff(foretold.0) <= 96 << 16,
        "{foretold} foretold, {copied} copied"
    );

    let on = || matches!(state(&lab, "n"), MachineState::Running { .. });
    eventually("who waited goes on", on).await;
    let filled = || {
        let quay = lab.volume_named("quay");
        quay.free() < Bytes(400 << 20)
    };
    eventually("how full it is was told", filled).await;

    // Nothing is begun for which there is no room.
    lab.desk.ask_for_layers(&[m]).await;
    let all = forget(m, Which::All);
    let said = lab.desk.assess(&lab.admin, &all);
    let short = |f: &zastrugi_core::finding::Finding| f.stops() && f.text.contains("free");
    assert!(said.findings().iter().any(short), "{:#?}", said.findings());
    lab.done(Proposal::Storage(storage::Ask::ExtendVolume {
        volume: quay,
        size: Bytes::gib(64),
    }))
    .await;
    let room = || !lab.desk.assess(&lab.admin, &all).blocked();
    eventually("there is room", room).await;
    lab.done(all.clone()).await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.engine.stop().await;
}

/// Bytes that a deletion was computed to copy.
async fn foretold(lab: &Lab, run: zastrugi_core::ids::RunId) -> Bytes {
    let plan = lab.desk.run(run).await.unwrap().unwrap().1;
    let bytes = plan.steps.iter().find_map(|p| match &p.step {
        Step::Snapshots(snapshots::Step::Forget { bytes, .. }) => Some(*bytes),
        _ => None,
    });
    bytes.unwrap()
}

/// If this fails, machines are made of a template that nobody reaches, and lie there half made; or of one that is back none are.
#[sqlx::test(migrations = false)]
async fn nothing_is_made_of_a_template_whose_volume_is_away(pool: PgPool) {
    let lab = lab(&pool).await;
    let quay = lab.volume_named("quay").id;
    machine(&lab, "m", quay, 4).await;
    lab.done(make(lab.machine("m"), "base", None)).await;
    let dependent = copies(&lab, "berth-{1}", 2, of(&lab, "base"), true);
    let whole = copies(&lab, "pier-{1}", 2, of(&lab, "base"), false);
    let stops = |ask: &Proposal| {
        let said = lab.desk.assess(&lab.admin, ask);
        let all = said.findings().iter().filter(|f| f.stops());
        all.map(|f| f.text.clone()).collect::<Vec<_>>()
    };
    for ask in [&dependent, &whole] {
        assert_eq!(stops(ask), Vec::<String>::new());
    }
    let portals = |up: bool| (1..=2).for_each(|n| lab.standins.world.portal("shelf", n, None, up));
    portals(false);
    let unreached = || {
        let hosts = lab.estate();
        hosts.hosts.values().all(|h| h.paths_up(quay) == 0)
    };
    eventually("no host reaches it", unreached).await;
    for ask in [&dependent, &whole] {
        let said = stops(ask);
        assert!(!said.is_empty(), "{ask:?}");
        let begun = lab
            .desk
            .start(&lab.admin, ask.clone(), None, uuid::Uuid::new_v4());
        assert!(begun.await.is_err());
    }
    assert!(lab.estate().machine_named("berth-1").is_none());
    portals(true);
    let free = || stops(&dependent).is_empty() && stops(&whole).is_empty();
    eventually("it is back", free).await;
    lab.done(dependent).await;
    lab.done(whole).await;
    assert_eq!(lab.standins.world.violations(), Vec::<String>::new());
    lab.engine.stop().await;
}
