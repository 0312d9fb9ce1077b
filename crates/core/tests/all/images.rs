//! Images: what the sheets say before a file is sent, who may remove one, and what a machine boots from.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::rooms::{edits, images, machines, storage};
use zastrugi_core::{
    estate::{Attached, BootFrom, Fact, Image, Machine, Nic, Volume},
    ids::{ClusterId, ImageId, MachineId, NetworkId, VolumeId},
    moment::Moment,
    observe::{BootReport, HostReport, MachineReport, compare},
    road::Input,
    rooms::edits::{Set, Target},
    rooms::images::AddImage,
    rooms::{Event, Proposal, Step},
    testkit::{Small, network, read, reported},
    units::Bytes,
};
use zastrugi_core::{road::Tale, testkit::Folding};

const TWO: &str =
    "cluster eider\nhost 1 256\nhost 2 256\nmachine 7 db 64 on 1\nmachine 8 web 4 off";
const SLAB: VolumeId = VolumeId(951);
const TIDE: ImageId = ImageId(600);

fn image(ready: bool) -> Image {
    Image {
        holds: Default::default(),
        id: TIDE,
        carries_agent: false,
        uuid: Uuid::from_u128(600),
        name: "tide 3".into(),
        volume: SLAB,
        size: Bytes::gib(1),
        mark: "m".into(),
        expected: None,
        sha256: ready.then(|| "ab".repeat(32)),
        label: "TIDE_3".into(),
        ready,
        added: Moment(0),
    }
}

fn with_image(ready: bool) -> Small {
    let mut small = read(TWO);
    small.alter(|e| e.put(Fact::Image(Arc::new(image(ready)))));
    small
}

fn attach(small: &mut Small, id: u64) {
    small.alter(|e| {
        let mut machine = Machine::clone(&e.machines[&MachineId(id)]);
        machine.boot.attached = Some(Attached {
            image: TIDE,
            volume: SLAB,
        });
        e.put(Fact::Machine(Arc::new(machine)));
    });
}

fn add(edit: impl FnOnce(&mut AddImage)) -> Proposal {
    let mut ask = AddImage {
        holds: Default::default(),
        name: "spring".into(),
        volume: Some(SLAB),
        size: Bytes::gib(2),
        mark: "other".into(),
        label: Ok("SPRING".into()),
        expected: "0f".repeat(32).into(),
    };
    edit(&mut ask);
    Proposal::Images(images::Ask::Add(ask))
}

fn says(edit: impl FnOnce(&mut AddImage)) -> Vec<String> {
    worse(&put(&with_image(true), &add(edit)))
}

#[test]
fn everything_that_can_be_known_before_a_file_is_sent_is_said_before() {
    assert_eq!(says(|_| {}), Vec::<String>::new());
    assert_eq!(
        says(|a| a.size = Bytes::ZERO),
        ["stop: Choose the file to send."]
    );
    assert_eq!(
        says(|a| a.label = Err("it has no descriptor".into())),
        ["stop: This file can't be taken: it has no descriptor."]
    );
    assert_eq!(
        says(|a| a.name = "TIDE 3".into()),
        ["stop: There is an image TIDE 3 already."]
    );
    assert_eq!(says(|a| a.name = " ".into()), ["stop: Give it a name."]);
    assert!(says(|a| a.name = "x".repeat(81).into())[0].contains("at most 80"));
    assert!(says(|a| a.expected = "0g".repeat(32).into())[0].contains("64 digits"));
    assert!(says(|a| a.expected = "".into())[0].starts_with("mind: No checksum is given"));
    assert_eq!(
        says(|a| (a.mark, a.size) = ("m".into(), Bytes::gib(1))),
        ["mind: tide 3 seems to be the same file; it is here already."]
    );
    assert_eq!(
        says(|a| a.size = Bytes::gib(20_000)),
        ["stop: slab-951 has 9.9\u{a0}TiB free; the file has 19.5\u{a0}TiB."]
    );
    assert!(says(|a| a.size = Bytes::gib(9_000))[0].contains("less than 15 %"));
    assert!(says(|a| a.volume = None)[0].contains("Choose the volume"));
    let mut dark = read("cluster eider\nhost 1 256 down");
    dark.alter(|_| {});
    assert!(worse(&put(&dark, &add(|_| {})))[0].contains("No host that mounts slab-951 answers"));
}

#[test]
fn an_image_in_use_or_still_arriving_is_not_removed() {
    let mut small = with_image(true);
    let ask = Proposal::Images(images::Ask::Remove { image: TIDE });
    assert!(!put(&small, &ask).blocked());
    attach(&mut small, 7);
    let said = put(&small, &ask);
    assert_eq!(
        worse(&said),
        ["stop: 1 machines have tide 3 in their drives."]
    );
    let give = put(
        &small,
        &Proposal::Storage(storage::Ask::GiveVolume { volume: SLAB }),
    );
    assert!(give.blocked());

    // While a run awaits its bytes.
    let mut small = read(TWO);
    let plan = put(&small, &add(|_| {})).accept().unwrap();
    let (run, _) = small.begin(plan);
    let image = *small.view.estate.images.keys().next().unwrap();
    let ask = Proposal::Images(images::Ask::Remove { image });
    assert!(worse(&put(&small, &ask))[0].contains("still works on spring"));

    // Given up before room was held: nothing of it stays.
    small.tell(run, Input::Cancel);
    let failed = Input::Failed {
        step: 0,
        fault: zastrugi_core::runs::Fault::new(
            zastrugi_core::runs::FaultKind::Refused,
            "full",
            "Free room.",
        ),
    };
    small.tell(run, failed);
    assert!(small.view.runs.is_empty());
    assert!(small.view.estate.images.is_empty());
}

#[test]
fn what_goes_with_a_volume_that_is_gone_is_its_images() {
    let mut small = with_image(true);
    let gone = Event::Storage(storage::Event::VolumeGone {
        volume: SLAB,
        handed_back: true,
    });
    small.alter(|e| drop(e.absorb(&gone)));
    assert!(small.view.estate.images.is_empty());
}

fn edit(small: &Small, machine: u64, sets: Vec<Set>) -> Vec<String> {
    let targets = vec![Target::Machine(MachineId(machine))];
    worse(&put(
        small,
        &Proposal::Edits(edits::Ask::Edit { targets, sets }),
    ))
}

fn drive(image: ImageId) -> Set {
    Set::Attach(Some(Attached {
        image,
        volume: SLAB,
    }))
}

/// If this fails, a machine whose card left its network is placed and powered on, and then stands in its firmware.
#[test]
fn one_that_has_nothing_to_boot_from_is_not_powered_on() {
    let mut small = with_image(true);
    let on = Proposal::Machines(machines::Ask::Power {
        machines: vec![MachineId(8)],
        act: machines::PowerAct::On { host: None },
    });
    let stops = |small: &Small| {
        let all = worse(&put(small, &on)).into_iter();
        all.filter(|w| w.starts_with("stop")).collect::<Vec<_>>()
    };
    assert_eq!(stops(&small), Vec::<String>::new());
    small.alter(|e| {
        let mut web = Machine::clone(&e.machines[&MachineId(8)]);
        web.boot.order = vec![BootFrom::Network];
        e.put(Fact::Machine(Arc::new(web)));
    });
    assert_eq!(
        stops(&small),
        ["stop: web has nothing to boot from: none of its cards is on a network."]
    );
}

#[test]
fn a_machine_boots_only_from_what_it_has() {
    let small = with_image(true);
    let once = |from| Set::BootOnce(Some(from));
    assert_eq!(
        edit(&small, 8, vec![once(BootFrom::Image)]),
        ["stop: It has no image to boot from: choose one."]
    );
    let both = vec![drive(TIDE), once(BootFrom::Image)];
    assert_eq!(edit(&small, 8, both.clone()), Vec::<String>::new());
    assert_eq!(
        edit(&small, 7, both),
        ["mind: db is on; what it boots from counts at its next power-on."]
    );
    assert_eq!(
        edit(&small, 8, vec![once(BootFrom::Network)]),
        ["stop: To boot from the network it needs a card on one."]
    );
    assert_eq!(
        edit(&small, 8, vec![Set::BootOrder(vec![])]),
        ["stop: It must boot from something."]
    );
    let only = |all: &[BootFrom]| vec![Set::BootOrder(all.to_vec())];
    assert_eq!(
        edit(&small, 8, only(&[BootFrom::Network, BootFrom::Image])),
        [
            "stop: It could boot from nothing of this: none of its cards is on a network, no image is in its drive."
        ]
    );
    let mut order = only(&[BootFrom::Image]);
    order.insert(0, drive(TIDE));
    assert_eq!(edit(&small, 8, order), Vec::<String>::new());
    assert_eq!(
        edit(&small, 8, vec![drive(ImageId(5))]),
        ["stop: This image is gone."]
    );
    assert_eq!(
        edit(&with_image(false), 8, vec![drive(TIDE)]),
        ["stop: tide 3 is not whole yet."]
    );
    let mut networked = with_image(true);
    networked.alter(|e| {
        e.put(Fact::Network(Arc::new(network(NetworkId(20), "crew"))));
        let mut web = Machine::clone(&e.machines[&MachineId(8)]);
        web.nics[0] = Nic {
            network: Some(NetworkId(20)),
            ..web.nics[0].clone()
        };
        e.put(Fact::Machine(Arc::new(web)));
    });
    assert_eq!(
        edit(&networked, 8, vec![once(BootFrom::Network)]),
        Vec::<String>::new()
    );
}

#[test]
fn a_host_without_the_images_volume_can_t_take_the_machine() {
    let mut small = with_image(true);
    small.alter(|e| {
        let mut far = Volume::clone(&e.volumes[&SLAB]);
        (far.id, far.uid, far.name) = (VolumeId(77), "far".into(), "far".into());
        far.cluster = Some(ClusterId(901));
        e.put(Fact::Volume(Arc::new(far)));
        let mut there = image(true);
        there.volume = VolumeId(77);
        e.put(Fact::Image(Arc::new(there)));
        let mut web = Machine::clone(&e.machines[&MachineId(8)]);
        web.boot.attached = Some(Attached {
            image: TIDE,
            volume: VolumeId(77),
        });
        e.put(Fact::Machine(Arc::new(web)));
    });
    small.alter_host(2, |h| {
        h.mounts
            .insert(VolumeId(77), zastrugi_core::testkit::paths(2));
    });
    let on = zastrugi_core::rooms::machines::PowerAct::On { host: None };
    let machines = vec![MachineId(8)];
    let said = put(
        &small,
        &Proposal::Machines(machines::Ask::Power { machines, act: on }),
    );
    assert_eq!(said.places()[0].host_name, "h2", "{:?}", said.findings());
    let volume = small.view.estate.volumes[&VolumeId(77)].clone();
    assert_eq!(
        volume.promised(&small.view.estate),
        Bytes::ZERO,
        "an image in a drive promises nothing on its volume"
    );
}

fn report(small: &Small, once: Option<BootFrom>) -> Vec<Event> {
    let db = &small.view.estate.machines[&MachineId(7)];
    let seen = MachineReport {
        boot: Some(BootReport {
            image: Some(Uuid::from_u128(600)),
            order: BootFrom::ALL.to_vec(),
            once,
        }),
        ..reported(db.uuid, &db.name, db.generation)
    };
    let host = &small.view.estate.hosts[&zastrugi_core::ids::HostId(1)];
    let report = HostReport {
        disks: vec![],
        ended: Default::default(),
        watchdog: false,
        keepers: Default::default(),
        boot: 1,
        obeyed: None,
        seq: 9,
        software: host.software.clone(),
        initiator: host.initiator.clone(),
        uplinks: vec![],
        networks: Default::default(),
        machines: vec![seen],
        volumes: vec![],
    };
    let events = compare(&small.view, host.id, &report, small.now);
    let boots = events.into_iter();
    boots
        .filter(|e| matches!(e, Event::Machines(machines::Event::Boot { .. })))
        .collect()
}

#[test]
fn what_the_record_says_is_taken_over_unless_a_run_is_about_to_write_it() {
    let mut small = with_image(true);
    let seen = report(&small, None);
    let [Event::Machines(machines::Event::Boot { boot, .. })] = seen.as_slice() else {
        panic!("{seen:?}")
    };
    assert_eq!(boot.attached.unwrap().image, TIDE, "found by its uuid");
    small.alter(|e| drop(e.absorb_all(&seen)));
    assert_eq!(report(&small, None), [], "the same again is no news");

    // Somebody asks for a boot from the image; until the host has written it, its old record is no news either.
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Machine(MachineId(7))],
        sets: vec![Set::BootOnce(Some(BootFrom::Image))],
    });
    let plan = put(&small, &ask).accept().unwrap();
    let (run, _) = small.begin(plan);
    assert_eq!(report(&small, None), []);
    small.tell(
        run,
        Input::Succeeded {
            step: 0,
            said: String::new(),
        },
    );
    assert!(small.view.runs.is_empty());
    let over = report(&small, None);
    assert_eq!(over.len(), 1);
    let told = over[0].tell(&small.view.estate).unwrap();
    assert_eq!(told.text, "db booted once from its image");
}

#[test]
fn the_plan_holds_room_first_and_takes_as_long_as_the_file_is_large() {
    let small = read(TWO);
    let said = put(&small, &add(|a| a.size = Bytes::gib(4)));
    let steps: Vec<_> = said.steps().iter().map(|s| &s.step).collect();
    assert!(matches!(
        steps.as_slice(),
        [
            Step::Images(images::Step::Make { .. }),
            Step::Images(images::Step::Await { .. }),
            Step::Images(images::Step::Seal { .. })
        ]
    ));
    let seconds = said.time().0 / 1000;
    assert!((80..100).contains(&seconds), "{seconds} s for 4 GiB");
}
