//! Storage on real sockets: volumes connected to all hosts, and everything beneath them that breaks.

use crate::lab::{Lab, eventually, eventually_within};
use sqlx::PgPool;
use zastrugi_core::rooms::{arrays, machines, storage};
use zastrugi_core::{
    estate::MachineState,
    finding::Severity,
    moment::Span,
    rooms::Proposal,
    runs::{FaultKind, RunState},
    units::Bytes,
};
use zastrugi_engine::Resolve;
use zastrugi_standins::{Fault, FaultKind as Breaks};

pub(crate) async fn lab(pool: &PgPool, hosts: u32) -> Lab {
    let lab = Lab::new(pool, hosts).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    lab
}

pub(crate) fn paths(lab: &Lab, volume: &str) -> Vec<usize> {
    let v = lab.volume_named(volume);
    let estate = lab.estate();
    v.hosts(&estate).iter().map(|h| h.paths_up(v.id)).collect()
}

pub(crate) fn break_it(lab: &Lab, device: &str, call: &str, kind: Breaks, times: u32) {
    lab.standins.world.add_fault(Fault {
        device: device.into(),
        call: call.into(),
        kind,
        times,
    });
}

/// Both controllers take so many of these calls and answer none.
fn hang_both(lab: &Lab, call: &str, times: u32) {
    for controller in ["shelf-1", "shelf-2"] {
        break_it(lab, controller, call, Breaks::Hang, times);
    }
}

#[sqlx::test(migrations = false)]
async fn a_new_volume_reaches_every_host_by_every_path_and_a_machine_lives_on_it(pool: PgPool) {
    let lab = lab(&pool, 3).await;
    let array = lab.estate().array_named("shelf").unwrap().clone();
    assert_eq!(array.portals.len(), 2);
    assert!(array.serial.starts_with("TS"), "{}", array.serial);
    // The volume that was there before the array was connected knows now what it lies on.
    assert_eq!(
        lab.volume_named("slab").backing.as_ref().unwrap().array,
        array.id
    );

    let run = lab.done(lab.volume("quay", Some(64)).await).await;
    assert_eq!(run.tally.all(), 1 + 3 * 3 + 2);
    assert_eq!(paths(&lab, "quay"), [2, 2, 2]);
    let quay = lab.volume_named("quay");
    assert!(quay.ready && quay.drift(&lab.estate()).is_empty());
    assert!(
        lab.standins
            .world
            .offers("shelf")
            .contains(&("quay".into(), 3)),
        "mapped to the three initiators, once each"
    );
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(quay.id);
    }
    lab.done(ask).await;
    let machine = lab.estate().machine_named("m").unwrap().clone();
    assert_eq!(machine.disks[0].volume, quay.id);
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn lost_answers_of_the_array_leave_one_lun_and_one_mapping_each(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    for controller in ["shelf-1", "shelf-2"] {
        break_it(
            &lab,
            controller,
            "POST /redfish/v1/Storage",
            Breaks::Drop,
            1,
        );
        break_it(
            &lab,
            controller,
            "POST /redfish/v1/Fabrics/1/Connections",
            Breaks::Garbage,
            2,
        );
        break_it(
            &lab,
            controller,
            "POST /redfish/v1/Fabrics/1/Endpoints",
            Breaks::Drop,
            1,
        );
    }
    lab.done(lab.volume("quay", Some(64)).await).await;
    let offers = lab.standins.world.offers("shelf");
    let quays: Vec<_> = offers.iter().filter(|(name, _)| name == "quay").collect();
    assert_eq!(quays, [&("quay".to_owned(), 2)], "{offers:?}");
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn what_is_on_a_lun_is_never_formatted_and_is_named(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    let run = lab.start(lab.volume("ledger", None).await).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().find_map(|s| s.fault.clone()).unwrap();
    assert_eq!(fault.said, "ledger is not empty: xfs “ledger”.");
    assert!(
        fault.remedy.contains("Nothing was changed on it"),
        "{}",
        fault.remedy
    );
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(
        lab.estate().volumes.values().all(|v| v.name != "ledger"),
        "the name is free again"
    );
    // The reach that it gave is taken away again, and what the run found is not forgotten with that.
    let run = lab.by_itself("Take away the reach of ledger").await;
    lab.until(run, &[RunState::Done]).await;
    let offers = lab.standins.world.offers("shelf");
    assert!(offers.contains(&("ledger".into(), 0)), "{offers:?}");
    let left = lab.estate().array_named("shelf").unwrap().left.clone();
    assert_eq!(left, [], "it is not ours");
    let gone = async || {
        let ask = lab.volume("ledger", None).await;
        let a = lab.desk.assess(&lab.admin, &ask);
        a.findings().iter().any(|f| {
            let text = "When a run last looked at ledger: ledger is not empty: xfs “ledger”.";
            f.text.starts_with(text)
        })
    };
    let began = std::time::Instant::now();
    while !gone().await {
        assert!(
            began.elapsed().as_secs() < 30,
            "what was found is forgotten"
        );
    }
    // An empty one is formatted.
    lab.done(lab.volume("spare", None).await).await;
    assert_eq!(paths(&lab, "spare"), [2, 2]);
}

#[sqlx::test(migrations = false)]
async fn a_lun_that_somebody_else_reaches_is_not_taken(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    let stranger = "iqn.2019-05.net.example:billing";
    lab.standins.world.offer_to("vol-y", stranger);
    let a = lab
        .desk
        .assess(&lab.admin, &lab.volume("spare", None).await);
    let stop = a.at_field("lun").unwrap();
    assert!(stop.text.contains(stranger), "{}", stop.text);
    assert!(stop.remedy.as_ref().unwrap().contains("on the array"));
}

#[sqlx::test(migrations = false)]
async fn a_dead_portal_is_drift_of_one_host_and_healed_when_it_is_back(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.standins.world.portal("shelf", 2, Some("h2"), false);
    let run = lab.done(lab.volume("quay", Some(64)).await).await;
    let said: Vec<_> = run.steps().map(|s| s.said.clone()).collect();
    assert!(
        said.iter()
            .any(|s| s.contains("1 of 2 portals") && s.contains("does not answer")),
        "{said:?}"
    );
    assert_eq!(paths(&lab, "quay"), [2, 1]);
    let quay = lab.volume_named("quay");
    let drift = quay.drift(&lab.estate());
    assert_eq!((drift.len(), drift[0].up, drift[0].of), (1, 1, 2));
    // The portal's own death is seen on the volume that was there before.
    eventually("slab lost a path too", || paths(&lab, "slab") == [2, 1]).await;
    lab.standins.world.portal("shelf", 2, Some("h2"), true);
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume: quay.id });
    let run = lab.done(heal.clone()).await;
    assert_eq!(run.tally.all(), 4, "only the host that drifted is touched");
    eventually("all paths are back", || paths(&lab, "quay") == [2, 2]).await;
    let nothing = lab.desk.assess(&lab.admin, &heal);
    assert!(nothing.blocked(), "there is nothing to heal any more");
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_run_that_mends_nothing_does_not_end_as_done(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    lab.standins.world.portal("shelf", 2, Some("h2"), false);
    eventually("quay lost a path", || paths(&lab, "quay") == [2, 1]).await;
    let volume = lab.volume_named("quay").id;
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume });
    let run = lab.start(heal).await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    assert_eq!(ended.state, RunState::NeedsYou);
    let fault = ended.steps().find_map(|s| s.fault.clone()).unwrap();
    assert_eq!(fault.said, "h2 has 1 of 2 paths to quay.");
}

#[sqlx::test(migrations = false)]
async fn a_whole_array_that_is_lost_is_one_cause(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    for portal in [1, 2] {
        lab.standins.world.portal("shelf", portal, None, false);
    }
    let causes = || {
        let all = zastrugi_core::estate::Outages::of(&lab.estate()).all;
        all.into_iter()
            .map(|o| (o.cause, o.volumes.len(), o.hosts.len()))
            .collect::<Vec<_>>()
    };
    let array = lab.estate().arrays.values().next().unwrap().id;
    let one = [(zastrugi_core::estate::Cause::Array(array), 2, 2)];
    eventually("one cause for all that is felt", || causes() == one).await;
    let volume = lab.volume_named("quay").id;
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume });
    assert!(
        lab.desk.assess(&lab.admin, &heal).blocked(),
        "it could mend nothing"
    );
    for portal in [1, 2] {
        lab.standins.world.portal("shelf", portal, None, true);
    }
    eventually("it comes back by itself", || causes().is_empty()).await;
}

#[sqlx::test(migrations = false)]
async fn one_dead_controller_is_gone_around_and_two_stop_the_run_in_words(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    lab.standins.world.controller("shelf", 1, false);
    eventually("its silence is noted", || {
        lab.estate().array_named("shelf").unwrap().silent().count() == 1
    })
    .await;
    let ask = lab.volume("quay", Some(64)).await;
    let a = lab.desk.assess(&lab.admin, &ask);
    assert!(
        a.findings().iter().any(
            |f| f.severity == Severity::Mind && f.text.contains("only by its other controller")
        ),
        "{:?}",
        a.findings()
    );
    lab.done(ask).await;
    let quay = lab.volume_named("quay");
    lab.standins.world.controller("shelf", 2, false);
    let extend = Proposal::Storage(storage::Ask::ExtendVolume {
        volume: quay.id,
        size: Bytes::gib(80),
    });
    let run = lab.start(extend).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.step(0).unwrap().fault.clone().unwrap();
    assert!(
        matches!(fault.kind, FaultKind::Unreachable | FaultKind::TimedOut),
        "{fault:?}"
    );
    assert!(!fault.remedy.is_empty());
    lab.standins.world.controller("shelf", 1, true);
    lab.desk
        .answer(&lab.admin, run, Resolve::Retry)
        .await
        .unwrap();
    lab.until(run, &[RunState::Done]).await;
    eventually("the new size is seen", || {
        lab.volume_named("quay").capacity == Bytes::gib(80)
    })
    .await;
}

#[sqlx::test(migrations = false)]
async fn a_wrong_password_of_an_array_is_said_and_nothing_is_left(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let run = lab.start(lab.array("last-light").await).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.step(0).unwrap().fault.clone().unwrap();
    assert_eq!(fault.said, "User name or password is wrong.");
    assert_eq!(fault.field.as_deref(), Some("password"));
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(lab.estate().arrays.is_empty());
}

#[sqlx::test(migrations = false)]
async fn machines_halt_when_their_volume_is_full_and_go_on_after_it_grew(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    lab.done(lab.volume("small", Some(8)).await).await;
    let small = lab.volume_named("small");
    let mut ask = lab.create("writer", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(small.id);
        create.disks[0].size = Bytes::gib(40);
    }
    lab.done(ask).await;
    let state = || lab.estate().machine_named("writer").unwrap().state.clone();
    lab.standins.world.write("writer", 12 << 30);
    eventually("it is shown as paused", || {
        state() == MachineState::Paused("small is full".into())
    })
    .await;
    let run = lab
        .done(Proposal::Storage(storage::Ask::ExtendVolume {
            volume: small.id,
            size: Bytes::gib(32),
        }))
        .await;
    assert_eq!(run.tally.all(), 2);
    eventually("it goes on", || {
        state() == MachineState::Running { guest: true }
    })
    .await;
    eventually("what it waited to write is written", || {
        lab.volume_named("small").used > Bytes::gib(12)
    })
    .await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_mapping_taken_away_stops_the_hosts_writes_and_healing_gives_them_back(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(lab.create("m", 1, true)).await;
    let machine = lab.estate().machine_named("m").unwrap().clone();
    let host = lab.estate().hosts[&machine.host.unwrap()].clone();
    lab.standins.world.forget(&host.name, "vol-a");
    let state = || lab.estate().machine_named("m").unwrap().state.clone();
    eventually("no path is left", || paths(&lab, "slab").contains(&0)).await;
    let slab = lab.volume_named("slab");
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume: slab.id });
    lab.done(heal).await;
    eventually("all paths are back", || paths(&lab, "slab") == [2, 2]).await;
    eventually("it runs", || {
        state() == MachineState::Running { guest: true }
    })
    .await;
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_hanging_array_is_timed_out_and_asked_again(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    hang_both(&lab, "POST /redfish/v1/Storage", 1);
    let run = lab.done(lab.volume("quay", Some(64)).await).await;
    assert!(
        run.step(0).unwrap().attempt >= 2,
        "{}",
        run.step(0).unwrap().attempt
    );
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_hanging_filer_is_timed_out_and_its_export_made_once(pool: PgPool) {
    let lab = Lab::with_filer(&pool, 2).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    hang_both(&lab, "POST /redfish/v1/Storage/1/FileSystems", 1);
    let run = lab.done(lab.volume("quay", Some(64)).await).await;
    assert!(
        run.step(0).unwrap().attempt >= 2,
        "{}",
        run.step(0).unwrap().attempt
    );
    let offers = lab.standins.world.offers("shelf");
    let quays: Vec<_> = offers.iter().filter(|(name, _)| name == "quay").collect();
    assert_eq!(quays, [&("quay".to_owned(), 2)], "{offers:?}");
    // The whole filer falls silent: nothing hangs, and the sheet says so before any run.
    hang_both(&lab, "", 1000);
    // Two looks of twelve seconds each, one right behind the other.
    let began = std::time::Instant::now();
    while lab.estate().array_named("shelf").unwrap().answers() {
        assert!(began.elapsed().as_secs() < 60, "the silence is seen");
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
    }
    let more = Proposal::Storage(storage::Ask::ExtendVolume {
        volume: lab.volume_named("quay").id,
        size: Bytes::gib(128),
    });
    let said = lab.desk.assess(&lab.admin, &more);
    assert!(said.blocked());
    assert_eq!(said.findings()[0].text, "shelf does not answer.");
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn a_volume_is_handed_back_and_taken_again_with_its_machines(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    let quay = lab.volume_named("quay");
    let give = Proposal::Storage(storage::Ask::GiveVolume { volume: quay.id });
    let mut ask = lab.create("m", 1, false);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.volume = Some(quay.id);
    }
    lab.done(ask).await;
    let a = lab.desk.assess(&lab.admin, &give);
    assert!(
        a.findings()[0]
            .text
            .contains("1 machines have disks on quay"),
        "{:?}",
        a.findings()[0]
    );
    let m = vec![lab.machine("m")];
    lab.done(Proposal::Machines(machines::Ask::Delete {
        machines: m.clone(),
    }))
    .await;
    assert!(
        lab.desk.assess(&lab.admin, &give).blocked(),
        "a deleted one can be brought back"
    );
    lab.done(Proposal::Machines(machines::Ask::Purge {
        machines: m,
        typed: "m".into(),
    }))
    .await;
    lab.done(give).await;
    assert!(lab.estate().volumes.values().all(|v| v.name != "quay"));
    assert!(
        lab.standins
            .world
            .offers("shelf")
            .contains(&("quay".into(), 0)),
        "nobody reaches it any more"
    );
    lab.done(lab.volume("quay", None).await).await;
    assert_eq!(paths(&lab, "quay"), [2, 2]);
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn an_image_that_lies_on_a_volume_is_registered_when_a_host_mounts_it(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    let file = zastrugi_formats::iso9660::write("OLD_TIDE", &[]).unwrap();
    lab.standins.world.place_image("vol-a", "old tide", &file);
    lab.standins.world.forget("h2", "vol-a");
    let slab = lab.volume_named("slab");
    let drifts = || !slab.drift(&lab.estate()).is_empty();
    eventually("h2 misses it", drifts).await;
    lab.done(Proposal::Storage(storage::Ask::HealVolume {
        volume: slab.id,
    }))
    .await;
    let image = lab.estate().image_named("old tide").unwrap().clone();
    assert!(image.ready);
    assert_eq!(image.label, "OLD_TIDE", "read from what lies there");
    assert_eq!(image.size.0, file.len() as u64);
    assert_eq!(image.sha256.as_ref().unwrap().len(), 64);
    // Healed again, it is not registered twice.
    lab.standins.world.forget("h2", "vol-a");
    eventually("h2 misses it", drifts).await;
    lab.done(Proposal::Storage(storage::Ask::HealVolume {
        volume: slab.id,
    }))
    .await;
    assert_eq!(lab.estate().images.len(), 1);
}

/// The password of an array is changed at the array, every year in most places: without this it would have to be connected
/// anew, which its volumes forbid.
#[sqlx::test(migrations = false)]
async fn an_array_whose_password_or_address_changed_is_reached_again(pool: PgPool) {
    let lab = lab(&pool, 1).await;
    lab.standins.world.array_password("shelf", "second-light");
    let lost = || !lab.estate().array_named("shelf").unwrap().answers();
    eventually("it lets nobody in", lost).await;
    // What does not work changes nothing.
    let before = lab.estate().array_named("shelf").unwrap().clone();
    let run = lab.start(lab.other_access("a-wrong-one").await).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().next().unwrap().fault.clone().unwrap();
    assert!(fault.said.contains("password is wrong"), "{}", fault.said);
    let cancelled = lab.desk.answer(&lab.admin, run, Resolve::Cancel).await;
    cancelled.unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    let array = lab.estate().array_named("shelf").unwrap().clone();
    assert_eq!((&array.controllers.len(), array.key), (&2, before.key));
    lab.done(lab.other_access("second-light").await).await;
    let array = lab.estate().array_named("shelf").unwrap().clone();
    assert!(array.answers() && array.controllers.len() == 1 && array.key != before.key);
    // A reading that began before says nothing of how it is reached.
    tokio::time::sleep(std::time::Duration::from_secs(3)).await;
    let again = lab.estate().array_named("shelf").unwrap().clone();
    assert_eq!(
        (&again.controllers, again.key),
        (&array.controllers, array.key)
    );
}

#[sqlx::test(migrations = false)]
async fn what_was_ours_is_deleted_by_its_name_and_an_array_in_use_is_not_removed(pool: PgPool) {
    let lab = lab(&pool, 2).await;
    lab.done(lab.volume("quay", Some(64)).await).await;
    let volume = lab.volume_named("quay").id;
    lab.done(Proposal::Storage(storage::Ask::GiveVolume { volume }))
        .await;
    let array = lab.estate().array_named("shelf").unwrap().clone();
    let lun = array.left[0].lun.clone();
    let delete = |typed: &str| {
        Proposal::Arrays(arrays::Ask::DeleteLun {
            array: array.id,
            lun: lun.clone(),
            typed: typed.into(),
        })
    };
    lab.desk.inspect_storage(&[array.id], &[], true).await;
    let a = lab.desk.assess(&lab.admin, &delete("shelf"));
    assert!(a.at_field("typed").unwrap().text.starts_with("Type quay"));
    // Somebody else took it meanwhile, and nobody here has looked.
    lab.standins
        .world
        .offer_to(&array.left[0].uid, "iqn.2019-05.net.example:billing");
    let run = lab.start(delete("quay")).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().next().unwrap().fault.clone().unwrap();
    assert!(fault.said.contains("billing"), "{}", fault.said);
    let cancelled = lab.desk.answer(&lab.admin, run, Resolve::Cancel).await;
    cancelled.unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    let a = lab.desk.assess(
        &lab.admin,
        &Proposal::Arrays(arrays::Ask::Remove { array: array.id }),
    );
    let stop = a.findings().iter().find(|f| f.stops()).unwrap();
    assert_eq!(stop.text, "A volume lies on shelf.");
}

/// Hosts mount side by side: one whose call is slow is not refused because another, told later, was faster. If this fails,
/// connecting a volume on a busy day ends with "was taken at 45; 44 is older".
#[sqlx::test(migrations = false)]
async fn hosts_that_mount_side_by_side_do_not_overtake_each_other(pool: PgPool) {
    let lab = lab(&pool, 3).await;
    // h1 is told early and does it late; h2 is told late, because it logged in late, and does it at once.
    break_it(&lab, "h1", "/mount", Breaks::Slow, 1);
    break_it(&lab, "h2", "/logins", Breaks::Slow, 1);
    let run = lab.start(lab.volume("quay", Some(64)).await).await;
    let ended = lab.until(run, &[RunState::Done, RunState::NeedsYou]).await;
    let said: Vec<_> = ended.steps().filter_map(|s| s.fault.clone()).collect();
    assert_eq!(ended.state, RunState::Done, "{said:?}");
    assert_eq!(paths(&lab, "quay"), [2, 2, 2]);
}

pub(crate) fn class(every: &str) -> zastrugi_standins::Class {
    zastrugi_standins::Class {
        name: "fast and copied".into(),
        latency_us: Some(400),
        spare: Some(2),
        snapshots: Some(zastrugi_standins::Every {
            every: every.into(),
            keep: "P2D".into(),
        }),
        remote: Some(("far".into(), "PT15M".into())),
        group: Some("ledger".into()),
    }
}

/// If this fails, an administrator of the array switches its snapshots off, and here they stand as taken; or an array that knows no
/// classes of service counts as lost.
#[sqlx::test(migrations = false)]
async fn what_an_array_does_is_read_from_it_and_a_change_there_is_told(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    lab.done(lab.array("first-light").await).await;
    let array = || lab.estate().array_named("shelf").unwrap().clone();
    assert!(array().answers() && array().served.is_empty());
    lab.standins.world.class("shelf", "main", class("PT1H"));
    let slab = lab.volume_named("slab").id;
    let snapshots = || {
        array()
            .served
            .get(&slab)
            .map(|s| s.service.snapshots.clone())
    };
    let hourly = || snapshots().flatten().is_some();
    eventually_within("its class is read", 40, hourly).await;
    let served = array().served[&slab].clone();
    assert_eq!(served.group.as_deref(), Some("ledger"));
    let (service, every) = (&served.service, Span::mins(60));
    assert_eq!((service.latency_us, service.spare), (Some(400), Some(2)));
    let snaps = service.snapshots.clone().unwrap();
    assert_eq!((snaps.every, snaps.keep), (every, Some(Span::days(2))));
    let remote = service.remote.clone().unwrap();
    assert_eq!((remote.at.as_str(), remote.every), ("far", Span::mins(15)));
    assert_eq!(array().pools[0].service.as_deref(), Some(service));
    // Whoever makes another one there is told beforehand.
    let ask = lab.volume("quay", Some(64)).await;
    let said = lab.desk.assess(&lab.admin, &ask);
    let told = |f: &zastrugi_core::finding::Finding| {
        f.text
            .starts_with("What shelf does for it: snapshots every")
    };
    assert!(said.findings().iter().any(told), "{:#?}", said.findings());

    lab.standins.world.lapse("shelf", true);
    let lapsed = || snapshots() == Some(None);
    eventually_within("that they were switched off is seen", 40, lapsed).await;
    assert!(array().served[&slab].since > served.since);
    let all = lab.desk.events(&Default::default(), 20).await.unwrap();
    let told = all.iter().find(|e| e.text.contains("does something else"));
    let text = &told.unwrap().text;
    assert!(text.contains("no snapshots, a copy at far"), "{text}");

    // What it did before is asked for again: the array itself says so then, and keeps what else its class does.
    let array_id = array().id;
    let back = || {
        Proposal::Arrays(arrays::Ask::SetBack {
            array: array_id,
            volume: slab,
        })
    };
    lab.done(back()).await;
    let served = array().served[&slab].clone();
    let snaps = served.service.snapshots.clone().unwrap();
    assert_eq!((snaps.every, snaps.keep), (every, Some(Span::days(2))));
    assert_eq!(served.service.remote.unwrap().at, "far");
    let again = lab.desk.assess(&lab.admin, &back());
    assert!(again.blocked(), "it is as it was: {:#?}", again.findings());
    // What the next reading says is the same: nothing is told a second time.
    let since = array().served[&slab].since;
    lab.standins.world.class("shelf", "main", class("PT2H"));
    eventually_within("a change after that is seen", 40, || {
        array().served[&slab].since > since
    })
    .await;
    let all = lab.desk.events(&Default::default(), 40).await.unwrap();
    let told = |words: &str| all.iter().filter(|e| e.text.contains(words)).count();
    assert_eq!(
        (
            told("again, as it was asked to"),
            told("does something else")
        ),
        (1, 2)
    );
}
