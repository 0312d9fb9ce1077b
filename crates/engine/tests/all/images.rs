//! Images on real sockets: sent in pieces, cut, gone on with, checked, booted from.

use crate::lab::{Lab, eventually};
use bytes::Bytes as Raw;
use sqlx::PgPool;
use std::fmt::Write;
use zastrugi_core::rooms::{edits, images, machines};
use zastrugi_core::{
    estate::{BootFrom, Image, MachineState},
    ids::RunId,
    rooms::Proposal,
    rooms::edits::{Set, Target},
    rooms::images::AddImage,
    rooms::machines::PowerAct,
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::{Engine, FeedError, Resolve};
use zastrugi_standins::{Fault, FaultKind as Breaks};

const PIECE: usize = 64 * 1024;

/// An image with this label and so many bytes of payload.
fn iso(label: &str, payload: usize) -> Vec<u8> {
    let bytes: Vec<u8> = (0..=250u8).cycle().take(payload).collect();
    zastrugi_formats::iso9660::write(label, &[("payload", &bytes)]).unwrap()
}

fn sum(bytes: &[u8]) -> String {
    use sha2::{Digest, Sha256};
    let mut out = String::new();
    for b in Sha256::digest(bytes) {
        write!(out, "{b:02x}").unwrap();
    }
    out
}

fn add(lab: &Lab, file: &[u8], expected: &str) -> Proposal {
    Proposal::Images(images::Ask::Add(AddImage {
        holds: Default::default(),
        name: "tide 3".into(),
        volume: Some(lab.volume_named("slab").id),
        size: Bytes(file.len() as u64),
        mark: "a mark".into(),
        label: Ok("TIDE_3".into()),
        expected: expected.into(),
    }))
}

async fn begin(lab: &Lab, file: &[u8], expected: &str) -> (RunId, std::sync::Arc<Image>) {
    let run = lab.start(add(lab, file, expected)).await;
    let image = lab.estate().image_named("tide 3").unwrap().clone();
    let began = std::time::Instant::now();
    while lab.desk.received(&lab.admin, image.id).await.is_err() {
        assert!(began.elapsed().as_secs() < 20, "room is held");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    (run, image)
}

/// Sends pieces from where the file ends to `to`.
async fn feed(lab: &Lab, image: &Image, file: &[u8], to: usize) {
    let there = lab.desk.received(&lab.admin, image.id).await.unwrap();
    let mut there = usize::try_from(there).unwrap();
    while there < to {
        let piece = Raw::copy_from_slice(&file[there..(there + PIECE).min(to)]);
        let fed = lab.desk.feed(&lab.admin, image.id, there as u64, piece);
        there = usize::try_from(fed.await.unwrap()).unwrap();
    }
}

/// If this fails, an image that takes longer to read than a call may take is never ready.
#[sqlx::test(migrations = false)]
async fn a_checksum_that_takes_long_is_begun_once_and_looked_at(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let file = iso("TIDE_3", 1 << 18);
    lab.standins.world.disks_stand_still(true);
    let (run, image) = begin(&lab, &file, &sum(&file)).await;
    feed(&lab, &image, &file, file.len()).await;
    eventually("the step says that it is read", || {
        let view = lab.desk.look();
        let said = view.progress.iter().filter(|((r, _), _)| *r == run);
        said.map(|(_, words)| words)
            .any(|words| words.starts_with("read 0"))
    })
    .await;
    tokio::time::sleep(std::time::Duration::from_secs(1)).await;
    lab.standins.world.disks_stand_still(false);
    lab.until(run, &[RunState::Done]).await;
    let deeds = lab.standins.world.deeds();
    let sealed: Vec<u32> = deeds
        .iter()
        .filter(|(words, _)| words.contains("sealed image"))
        .map(|(_, n)| *n)
        .collect();
    assert_eq!(sealed, [1], "{deeds:?}");
}

#[sqlx::test(migrations = false)]
async fn an_upload_cut_at_40_percent_goes_on_there_also_in_another_process(pool: PgPool) {
    let mut lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    let file = iso("TIDE_3", 1 << 20);
    let (run, image) = begin(&lab, &file, &sum(&file)).await;
    let cut = file.len() * 2 / 5;
    feed(&lab, &image, &file, cut).await;

    // The piece that is on its way is lost with its answer: it was taken, and the place says so.
    let key = "bytes";
    for host in ["h1", "h2"] {
        lab.standins.world.add_fault(Fault {
            device: host.into(),
            call: key.into(),
            kind: Breaks::Drop,
            times: 1,
        });
    }
    let piece = Raw::copy_from_slice(&file[cut..cut + 1000]);
    let lost = lab.desk.feed(&lab.admin, image.id, cut as u64, piece).await;
    assert!(
        matches!(lost, Err(FeedError::Elsewhere(n)) if n == cut as u64 + 1000),
        "{lost:?}"
    );
    lab.standins.world.clear_faults();

    // The process dies; the next one goes on with the same run and the same file.
    let engine = std::mem::replace(
        &mut lab.engine,
        Engine::start(lab.settings.clone()).await.unwrap(),
    );
    engine.stop().await;
    lab.desk = lab.engine.desk();
    assert_eq!(
        lab.desk.received(&lab.admin, image.id).await.unwrap(),
        cut as u64 + 1000
    );
    let stale = lab
        .desk
        .feed(&lab.admin, image.id, 0, Raw::from_static(b"again"))
        .await;
    assert!(matches!(stale, Err(FeedError::Elsewhere(_))), "{stale:?}");
    feed(&lab, &image, &file, file.len()).await;
    lab.until(run, &[RunState::Done]).await;

    let whole = lab.estate().images[&image.id].clone();
    assert!(whole.ready);
    assert_eq!(whole.label, "TIDE_3");
    assert_eq!(whole.sha256.as_deref(), Some(sum(&file).as_str()));
    let late = lab
        .desk
        .feed(&lab.admin, image.id, 0, Raw::from_static(b"x"))
        .await;
    assert!(matches!(late, Err(FeedError::Over)), "{late:?}");
    lab.assert_once();
}

#[sqlx::test(migrations = false)]
async fn another_file_than_its_publisher_s_is_refused_with_both_sums(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let (file, other) = (iso("TIDE_3", 5000), sum(b"another file"));
    let (run, image) = begin(&lab, &file, &other).await;
    feed(&lab, &image, &file, file.len()).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(
        fault.said.contains(&sum(&file)) && fault.said.contains(&other),
        "{}",
        fault.said
    );
    assert_eq!(fault.field.as_deref(), Some("expected"));
    assert!(
        fault.remedy.contains("remove the image"),
        "{}",
        fault.remedy
    );
    let used = || lab.volume_named("slab").used.0;
    eventually("the file takes room", || used() >= file.len() as u64).await;

    // It is never attached, and its room is given back.
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(!lab.estate().images[&image.id].ready);
    lab.done(Proposal::Images(images::Ask::Remove { image: image.id }))
        .await;
    assert!(lab.estate().images.is_empty());
    eventually("its room is free again", || used() < file.len() as u64).await;
}

/// If this fails, a machine is given an image whose end is missing, and finds that out while it installs.
#[sqlx::test(migrations = false)]
async fn an_image_that_was_cut_off_on_its_way_to_us_is_refused(pool: PgPool) {
    let lab = Lab::new(&pool, 1).await;
    lab.ready().await;
    let mut file = iso("TIDE_3", 5000);
    file.truncate(file.len() - 2048);
    let (run, image) = begin(&lab, &file, &sum(&file)).await;
    feed(&lab, &image, &file, file.len()).await;
    let stuck = lab.until(run, &[RunState::NeedsYou]).await;
    let fault = stuck.steps().find_map(|s| s.fault.clone()).unwrap();
    let words = format!(
        "it has {} bytes and says itself that it has {}",
        file.len(),
        file.len() + 2048
    );
    assert!(fault.said.contains(&words), "{}", fault.said);
    assert!(!lab.estate().images[&image.id].ready);
}

#[sqlx::test(migrations = false)]
async fn a_new_machine_boots_once_from_the_image_and_then_from_its_disk(pool: PgPool) {
    let lab = Lab::new(&pool, 2).await;
    lab.ready().await;
    let file = iso("TIDE_3", 5000);
    let (run, image) = begin(&lab, &file, "").await;
    feed(&lab, &image, &file, file.len()).await;
    lab.until(run, &[RunState::Done]).await;
    let mut ask = lab.create("m", 1, true);
    if let Proposal::Machines(machines::Ask::Create(create)) = &mut ask {
        create.image = Some(image.id);
        create.first_boot = Some(BootFrom::Image);
    }
    let run = lab.start(ask).await;
    // By what its host says of it, or by how far the run says it is; whichever is seen first.
    let installs = || {
        let view = lab.desk.look();
        let machine = view.estate.machine_named("m");
        let state = machine.map(|m| m.state.clone());
        let said = view
            .runs
            .get(run)
            .is_some_and(|r| (0..r.tally.all()).any(|n| view.said(r, n) == "installer"));
        said || state == Some(MachineState::Starting("installer".into()))
    };
    eventually("its installer runs", installs).await;
    lab.until(run, &[RunState::Done]).await;
    let machine = || lab.estate().machine_named("m").unwrap().clone();
    eventually("what counted once is over", || {
        machine().boot.once.is_none()
    })
    .await;
    assert_eq!(machine().boot.attached.unwrap().image, image.id);

    // What a drive holds is not removed.
    let refused = lab.desk.assess(
        &lab.admin,
        &Proposal::Images(images::Ask::Remove { image: image.id }),
    );
    assert!(refused.blocked());
    assert!(refused.findings()[0].text.contains("in their drives"));

    // Taken out while it runs; the host's own record has it too, so that nothing brings it back.
    let out = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(machine().id)],
        sets: vec![Set::Attach(None)],
    });
    lab.done(out).await;
    let act = PowerAct::Off;
    let machines = vec![machine().id];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    let act = PowerAct::On { host: None };
    let machines = vec![machine().id];
    lab.done(Proposal::Machines(machines::Ask::Power { machines, act }))
        .await;
    assert_eq!(machine().boot.attached, None);
    lab.done(Proposal::Images(images::Ask::Remove { image: image.id }))
        .await;
    lab.assert_once();
}
