//! Files of disks on real sockets: a machine goes into an archive and comes back, damaged archives leave nothing behind, and
//! a disk's bytes go out and in.

use crate::lab::{Lab, eventually};
use bytes::Bytes as Raw;
use sqlx::PgPool;
use zastrugi_core::{
    copying::Source,
    estate::{Holds, Machine},
    ids::ImageId,
    rooms::{
        Proposal, images,
        images::AddImage,
        machines::{self, Copied, CreateMachines, NewDisk, PowerAct, Taken},
        packages::{self, Pack, Write},
    },
    runs::RunState,
    testkit,
    units::Bytes,
};
use zastrugi_engine::Resolve;
use zastrugi_formats::ovf::check;
use zastrugi_store::testkit::url;

const SIZE: Bytes = Bytes::mib(24);

/// A machine with a small disk, which stays off.
pub(crate) fn small(lab: &Lab, name: &str, count: u32) -> Proposal {
    let Proposal::Machines(machines::Ask::Create(mut ask)) = lab.create(name, count, false) else {
        unreachable!()
    };
    ask.disks[0].size = SIZE;
    Proposal::Machines(machines::Ask::Create(ask))
}

pub(crate) fn pack(lab: &Lab, machine: &str, name: &str) -> Pack {
    Pack {
        machine: lab.machine(machine),
        snapshot: None,
        disk: None,
        gzip: true,
        name: name.into(),
        volume: None,
    }
}

fn packing(pack: Pack) -> Proposal {
    Proposal::Packages(packages::Ask::Pack(pack))
}

fn power(lab: &Lab, name: &str, act: PowerAct) -> Proposal {
    Proposal::Machines(machines::Ask::Power {
        machines: vec![lab.machine(name)],
        act,
    })
}

/// Machine `m` with something on its disk, and off.
async fn lab(pool: &PgPool) -> Lab {
    let lab = Lab::at_speed(&url(pool), 2, 40.0).await;
    lab.ready().await;
    lab.done(small(&lab, "m", 1)).await;
    lab.done(power(&lab, "m", PowerAct::On { host: None }))
        .await;
    lab.standins.world.write("m", 12 << 20);
    eventually("it is written", || {
        lab.standins.world.takes("m") >= 12 << 20
    })
    .await;
    lab.done(power(&lab, "m", PowerAct::Off)).await;
    lab
}

fn machine(lab: &Lab, name: &str) -> Machine {
    Machine::clone(lab.estate().machine_named(name).unwrap())
}

fn file(lab: &Lab, name: &str) -> ImageId {
    lab.estate().image_named(name).unwrap().id
}

async fn fetched(lab: &Lab, name: &str) -> Vec<u8> {
    let (id, size) = (
        file(lab, name),
        lab.estate().image_named(name).unwrap().size.0,
    );
    let mut all = Vec::new();
    while (all.len() as u64) < size {
        let piece = lab
            .desk
            .read_file(&lab.admin, id, all.len() as u64, 1 << 20)
            .await;
        all.extend(piece.unwrap());
    }
    assert_eq!(all.len() as u64, size);
    all
}

/// A file from outside, on the volume.
async fn added(lab: &Lab, name: &str, holds: Holds, bytes: &[u8]) {
    let run = lab
        .start(Proposal::Images(images::Ask::Add(AddImage {
            name: name.into(),
            volume: Some(lab.volume_named("slab").id),
            size: Bytes(bytes.len() as u64),
            mark: format!("mark of {name}").as_str().into(),
            holds,
            label: Err("it is no image".into()),
            expected: "".into(),
        })))
        .await;
    let id = file(lab, name);
    let began = std::time::Instant::now();
    while lab.desk.received(&lab.admin, id).await.is_err() {
        assert!(began.elapsed().as_secs() < 20, "room is held");
        tokio::time::sleep(std::time::Duration::from_millis(20)).await;
    }
    for (n, piece) in bytes.chunks(1 << 20).enumerate() {
        let from = (n << 20) as u64;
        lab.desk
            .feed(&lab.admin, id, from, Raw::copy_from_slice(piece))
            .await
            .unwrap();
    }
    lab.until(run, &[RunState::Done]).await;
}

fn of(lab: &Lab, name: &str, image: ImageId, taken: Taken) -> Proposal {
    let cluster = lab.estate().clusters.keys().next().copied();
    let disk = NewDisk {
        size: SIZE,
        provisioning: zastrugi_core::estate::Provisioning::Thin,
    };
    Proposal::Machines(machines::Ask::Create(Box::new(CreateMachines {
        pledge: None,
        start: false,
        disks: vec![disk],
        copied: Some(Copied {
            source: Source::Package { image },
            dependent: false,
            seal: false,
        }),
        taken: Some(Box::new(taken)),
        ..testkit::machines(name, 1, cluster, 2)
    })))
}

fn content(lab: &Lab, name: &str) -> String {
    lab.standins.world.content(name, None).unwrap()
}

/// If this fails, a machine that was packed comes back as another one, or can't be read by anybody else.
#[sqlx::test(migrations = false)]
async fn a_machine_comes_back_from_an_archive_as_it_went_in(pool: PgPool) {
    let lab = lab(&pool).await;
    let was = content(&lab, "m");
    lab.done(packing(pack(&lab, "m", ""))).await;
    let bytes = fetched(&lab, "m.ova").await;
    // Read by what knows nothing of the host that wrote it.
    let checked = check(&mut bytes.as_slice()).unwrap();
    assert_eq!(checked.minds, Vec::<String>::new());
    let m = machine(&lab, "m");
    let system = checked.package.descriptor.system(None);
    assert_eq!((system.vcpus, system.memory), (m.vcpus, m.memory.size));
    assert_eq!(
        system.disks.iter().map(|d| d.capacity).collect::<Vec<_>>(),
        [SIZE]
    );
    assert_eq!(system.cards[0].1.as_deref(), Some(m.nics[0].mac.as_str()));

    let image = file(&lab, "m.ova");
    lab.desk.ask_for_package(image).await;
    let keep = Taken {
        keep_macs: true,
        ..Taken::default()
    };
    let kept = lab.desk.assess(&lab.admin, &of(&lab, "twin", image, keep));
    assert!(kept.blocked(), "m has the address");
    lab.done(of(&lab, "twin", image, Taken::default())).await;
    assert_eq!(content(&lab, "twin"), was);
    let twin = machine(&lab, "twin");
    assert_eq!(twin.made_from, "m.ova");
    assert_ne!(twin.nics[0].mac, m.nics[0].mac);
    lab.done(packing(pack(&lab, "twin", ""))).await;
    let again = check(&mut fetched(&lab, "twin.ova").await.as_slice()).unwrap();
    assert_eq!(again.package.descriptor.disks[0].capacity, SIZE);
    lab.assert_once();
}

/// If this fails, a damaged archive becomes a machine, or leaves half of one behind.
#[sqlx::test(migrations = false)]
async fn a_damaged_archive_is_refused_with_its_member_and_leaves_nothing(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(packing(pack(&lab, "m", ""))).await;
    let good = fetched(&lab, "m.ova").await;
    let names: Vec<String> = check(&mut good.as_slice())
        .unwrap()
        .package
        .members
        .iter()
        .map(|m| m.name.clone())
        .collect();
    assert_eq!(names, ["m.ovf", "m.mf", "m-disk1.raw.gz"]);

    let mut flipped = good.clone();
    let at = check(&mut good.as_slice())
        .unwrap()
        .package
        .member("m-disk1.raw.gz")
        .unwrap()
        .at;
    flipped[usize::try_from(at).unwrap() + 40] ^= 1;
    added(&lab, "flipped.ova", Holds::Package, &flipped).await;
    let image = file(&lab, "flipped.ova");
    lab.desk.ask_for_package(image).await;
    let run = lab.start(of(&lab, "bad", image, Taken::default())).await;
    let ended = lab.until(run, &[RunState::NeedsYou, RunState::Done]).await;
    assert_eq!(ended.state, RunState::NeedsYou);
    let fault = ended.steps().find_map(|s| s.fault.clone()).unwrap();
    assert!(fault.said.contains("m-disk1.raw.gz"), "{}", fault.said);
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    lab.until(run, &[RunState::Cancelled]).await;
    assert!(lab.estate().machine_named("bad").is_none());
    assert!(
        lab.standins.world.content("bad", None).is_none(),
        "nothing is left at the volume"
    );

    // Cut in the middle: it is not even begun.
    added(&lab, "cut.ova", Holds::Package, &good[..good.len() / 2]).await;
    let image = file(&lab, "cut.ova");
    lab.desk.ask_for_package(image).await;
    let assessed = lab
        .desk
        .assess(&lab.admin, &of(&lab, "cut", image, Taken::default()));
    let said: Vec<_> = assessed
        .findings()
        .iter()
        .filter(|f| f.stops())
        .map(|f| f.text.clone())
        .collect();
    assert!(
        said.iter()
            .any(|t| t.contains("m-disk1.raw.gz") && t.contains("cut off")),
        "{said:?}"
    );
}

/// If this fails, a disk's bytes change on their way out and in.
#[sqlx::test(migrations = false)]
async fn a_disks_bytes_go_out_and_in(pool: PgPool) {
    let lab = lab(&pool).await;
    lab.done(small(&lab, "other", 1)).await;
    let (m, other) = (machine(&lab, "m"), machine(&lab, "other"));
    for (gzip, name) in [(true, "out.raw.gz"), (false, "out.raw")] {
        lab.done(packing(Pack {
            disk: Some(m.disks[0].key),
            gzip,
            ..pack(&lab, "m", name)
        }))
        .await;
    }
    let raw = fetched(&lab, "out.raw").await;
    assert_eq!(raw.len() as u64, SIZE.0);
    let write = |image: &str| {
        Proposal::Packages(packages::Ask::Write(Write {
            machine: other.id,
            disk: other.disks[0].key,
            image: Some(file(&lab, image)),
            typed: "other".into(),
        }))
    };
    lab.done(write("out.raw.gz")).await;
    assert_eq!(content(&lab, "other"), content(&lab, "m"));

    // Bytes that no guest here wrote.
    let mut theirs = raw.clone();
    theirs[70_000..70_100].copy_from_slice(&[0xa5; 100]);
    added(&lab, "theirs.raw", Holds::Disk, &theirs).await;
    lab.done(write("theirs.raw")).await;
    assert_ne!(content(&lab, "other"), content(&lab, "m"));
    lab.done(packing(Pack {
        disk: Some(other.disks[0].key),
        gzip: false,
        ..pack(&lab, "other", "back.raw")
    }))
    .await;
    assert!(fetched(&lab, "back.raw").await == theirs, "to the byte");

    added(
        &lab,
        "short.gz",
        Holds::GzipDisk,
        &[0x1f, 0x8b, 8, 0, 1, 2, 3],
    )
    .await;
    let run = lab.start(write("short.gz")).await;
    lab.until(run, &[RunState::NeedsYou]).await;
    lab.desk
        .answer(&lab.admin, run, Resolve::Cancel)
        .await
        .unwrap();
    assert!(
        fetched(&lab, "back.raw").await == theirs,
        "nothing was changed"
    );
    lab.assert_once();
}
