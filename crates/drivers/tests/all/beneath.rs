//! Arrays and switches against stand-ins: what is read, and that a repetition has no second effect.

use crate::{bench::Bench, turn};
use zastrugi_core::rooms::{networks, storage};
use zastrugi_core::{
    estate::{Array, ArrayCondition, Controller, Fact, Provisioning, Switch, Volume},
    evidence::{Answer, Probe},
    ids::{ArrayId, HostId, SiteId, SwitchId, VolumeId},
    moment::Moment,
    rooms::{Event, Step},
    runs::FaultKind,
    testkit,
    units::Bytes,
};
use zastrugi_drivers::Outcome;
use zastrugi_standins::{Fault, FaultKind as Breaks};

const SHELF: ArrayId = ArrayId(700);
const QUAY: VolumeId = VolumeId(701);

async fn pin(bench: &Bench, probe: Probe) -> String {
    match bench.drivers.probe(&bench.estate, &probe).await {
        Answer::Manager { pin, .. } => pin,
        other => panic!("{other:?}"),
    }
}

/// A bench with its array in the estate, not read yet, and a volume that shall be made.
async fn with_array() -> Bench {
    let mut bench = Bench::claimed().await;
    let mut controllers = Vec::new();
    for address in bench.standins.world.arrays()["shelf"].clone() {
        let pin = pin(&bench, Probe::ArrayGreeting(address.clone())).await;
        controllers.push(Controller {
            address,
            pin,
            silent: None,
        });
    }
    let array = Array {
        controllers,
        user: "keeper".into(),
        key: Some(bench.password()),
        condition: ArrayCondition::Connecting,
        ..testkit::array(SHELF, "shelf", SiteId(900))
    };
    bench.estate.put(Fact::Array(array.into()));
    let slab = bench.estate.volumes.values().next().unwrap().clone();
    let quay = Volume {
        id: QUAY,
        uid: String::new(),
        name: "quay".into(),
        capacity: Bytes::gib(10),
        used: Bytes::ZERO,
        backing: None,
        ..Volume::clone(&slab)
    };
    bench.estate.put(Fact::Volume(quay.into()));
    bench
}

fn make() -> Step {
    Step::Storage(storage::Step::MakeLun {
        array: SHELF,
        volume: QUAY,
        pool: "main".into(),
        size: Bytes::gib(10),
        provisioning: Provisioning::Thin,
    })
}

fn map() -> Step {
    Step::Storage(storage::Step::Map {
        array: SHELF,
        volume: QUAY,
        host: HostId(1),
    })
}

fn break_both(bench: &Bench, call: &str, kind: Breaks) {
    for device in ["shelf-1", "shelf-2"] {
        bench.standins.world.add_fault(Fault {
            device: device.into(),
            call: call.into(),
            kind,
            times: 1,
        });
    }
}

fn offers(bench: &Bench) -> Vec<(String, usize)> {
    let all = bench.standins.world.offers("shelf").into_iter();
    all.filter(|(name, _)| name == "quay").collect()
}

#[tokio::test]
async fn an_array_tells_pools_portals_and_what_of_ours_lies_on_it() {
    let mut bench = with_array().await;
    bench
        .done(
            &Step::Storage(storage::Step::ReadArray { array: SHELF }),
            turn("read", 1),
        )
        .await;
    let array = &bench.estate.arrays[&SHELF];
    assert_eq!(array.condition, ArrayCondition::Steady);
    assert_eq!((array.portals.len(), array.pools.len()), (2, 1));
    assert_eq!(array.maker, "Tidestone");
    let slab = bench.estate.volume_with_uid("vol-a").unwrap();
    assert_eq!(slab.backing.as_ref().map(|b| b.array), Some(SHELF));
    let luns = bench
        .drivers
        .probe(&bench.estate, &Probe::Luns(SHELF))
        .await;
    let Answer::Luns { luns } = luns else {
        panic!("{luns:?}")
    };
    assert_eq!(luns[0].uid, "vol-a");
    assert_eq!(luns[0].initiators, [bench.host().initiator.clone()]);
}

/// If this fails, an array that took its time has the same volume, initiator or connection twice: the second controller
/// was told to make what the first had made already.
#[tokio::test]
async fn what_the_first_controller_made_without_an_answer_is_not_made_by_the_second() {
    let mut bench = with_array().await;
    for (call, step) in [
        ("POST /redfish/v1/Storage/1/Volumes", make()),
        ("POST /redfish/v1/Fabrics/1/Connections", map()),
    ] {
        bench.standins.world.add_fault(Fault {
            device: "shelf-1".into(),
            call: call.into(),
            kind: Breaks::Drop,
            times: 1,
        });
        bench.done(&step, turn("first", 1)).await;
        let deeds = bench.standins.world.deeds();
        let made: Vec<u32> = deeds
            .iter()
            .filter(|(words, _)| words.contains(call))
            .map(|(_, n)| *n)
            .collect();
        assert_eq!(made, [1], "{deeds:?}");
    }
    assert_eq!(offers(&bench).len(), 1);
}

/// If this fails, an array whose first controller hangs is out of reach, though the second would do it.
#[tokio::test]
async fn what_the_first_controller_took_and_did_not_do_is_made_by_the_second() {
    let mut bench = with_array().await;
    bench.standins.world.add_fault(Fault {
        device: "shelf-1".into(),
        call: "POST /redfish/v1/Storage/1/Volumes".into(),
        kind: Breaks::Garbage,
        times: 1,
    });
    bench.done(&make(), turn("first", 1)).await;
    assert_eq!(offers(&bench).len(), 1);
}

#[tokio::test]
async fn another_array_behind_a_known_address_is_refused() {
    let mut bench = with_array().await;
    let mut array = Array::clone(&bench.estate.arrays[&SHELF]);
    array.serial = "TS-OTHER".into();
    bench.estate.put(Fact::Array(array.into()));
    let step = Step::Storage(storage::Step::ReadArray { array: SHELF });
    let fault = bench
        .drivers
        .perform(&bench.estate, &step, turn("read", 1))
        .await
        .unwrap_err();
    assert_eq!(fault.kind, FaultKind::Refused);
    assert!(fault.said.contains("TS-OTHER"), "{}", fault.said);
}

#[tokio::test]
async fn a_lun_is_made_once_however_often_it_is_asked_for() {
    let mut bench = with_array().await;
    break_both(&bench, "POST /redfish/v1/Storage/1/Volumes", Breaks::Drop);
    bench.done(&make(), turn("lun", 1)).await;
    let uid = bench.estate.volumes[&QUAY].uid.clone();
    assert!(uid.starts_with("naa.6"), "{uid}");
    bench.done(&make(), turn("lun", 1)).await;
    assert_eq!(bench.estate.volumes[&QUAY].uid, uid);
    assert_eq!(offers(&bench), [("quay".to_owned(), 0)]);
}

#[tokio::test]
async fn a_mapping_is_made_once_and_taken_away_once() {
    let mut bench = with_array().await;
    bench.done(&make(), turn("lun", 1)).await;
    break_both(
        &bench,
        "POST /redfish/v1/Fabrics/1/Connections",
        Breaks::Drop,
    );
    for _ in 0..3 {
        bench.done(&map(), turn("map", 1)).await;
    }
    assert_eq!(offers(&bench), [("quay".to_owned(), 1)]);
    let unmap = Step::Storage(storage::Step::Unmap {
        array: SHELF,
        volume: QUAY,
        host: HostId(1),
    });
    for _ in 0..2 {
        bench.done(&unmap, turn("unmap", 1)).await;
    }
    assert_eq!(offers(&bench), [("quay".to_owned(), 0)]);
}

#[tokio::test]
async fn a_volume_of_that_name_that_is_not_ours_is_never_taken_for_ours() {
    let mut bench = with_array().await;
    let mut quay = Volume::clone(&bench.estate.volumes[&QUAY]);
    quay.name = "slab".into();
    bench.estate.put(Fact::Volume(quay.into()));
    let fault = bench
        .drivers
        .perform(&bench.estate, &make(), turn("lun", 1))
        .await
        .unwrap_err();
    assert_eq!(fault.said, "shelf has a volume slab already.");
}

#[tokio::test]
async fn a_host_formats_mounts_and_tells_its_paths() {
    let mut bench = with_array().await;
    bench
        .done(
            &Step::Storage(storage::Step::ReadArray { array: SHELF }),
            turn("read", 1),
        )
        .await;
    bench.done(&make(), turn("lun", 1)).await;
    bench.done(&map(), turn("map", 1)).await;
    let (volume, host) = (QUAY, HostId(1));
    let mount = Step::Storage(storage::Step::Mount { volume, host });
    let early = bench
        .drivers
        .perform(&bench.estate, &mount, turn("early", 1))
        .await
        .unwrap_err();
    assert!(
        early.said.contains("no format that can be mounted"),
        "{}",
        early.said
    );
    bench
        .done(
            &Step::Storage(storage::Step::LogIn { array: SHELF, host }),
            turn("login", 1),
        )
        .await;
    let prepare = Step::Storage(storage::Step::Prepare {
        volume,
        host,
        over: None,
    });
    let said = bench
        .drivers
        .perform(&bench.estate, &prepare, turn("prepare", 1))
        .await;
    assert!(
        matches!(&said, Ok(Outcome::Done { said, .. }) if said == "it was empty; formatted"),
        "{said:?}"
    );
    bench.done(&mount, turn("mount", 1)).await;
    assert_eq!(bench.host().paths_up(QUAY), 2);
    bench.standins.world.portal("shelf", 1, Some("h1"), false);
    bench.done(&mount, turn("again", 1)).await;
    assert_eq!(bench.host().paths_up(QUAY), 1);
    bench
        .done(
            &Step::Storage(storage::Step::Disown { volume, host }),
            turn("disown", 1),
        )
        .await;
    assert_eq!(bench.host().paths_up(QUAY), 0);
}

fn switch(address: String, pin: String, bench: &Bench) -> Switch {
    Switch {
        id: SwitchId(850),
        name: "switch-1-1".into(),
        site: SiteId(900),
        access: Controller {
            address,
            pin,
            silent: None,
        },
        user: "reader".into(),
        key: Some(bench.password()),
        ports: Default::default(),
        known: false,
    }
}

#[tokio::test]
async fn a_switch_tells_vlans_frame_sizes_and_neighbours_and_its_silence_is_kept() {
    let mut bench = Bench::claimed().await;
    let address = bench.standins.world.switches()["switch-1-1"].clone();
    let pin = pin(&bench, Probe::SwitchGreeting(address.clone())).await;
    let ours = switch(address, pin, &bench);
    bench.estate.put(Fact::Switch(ours.into()));
    let step = Step::Networks(networks::Step::ReadSwitch {
        switch: SwitchId(850),
    });
    bench.done(&step, turn("switch", 1)).await;
    let read = bench.estate.switches[&SwitchId(850)].clone();
    let port = &read.ports["eth001"];
    assert_eq!((port.mtu, port.untagged, port.up), (9216, 1, true));
    assert!(port.tagged.contains(&400) && !port.tagged.contains(&401));
    assert_eq!(port.neighbour, Some(("h1".into(), "uplink-1".into())));
    bench.standins.world.silence_switch("switch-1-1", true);
    let silent = bench.drivers.look_at_switch(&read).await;
    assert!(!silent.answers());
    assert_eq!(silent.ports, read.ports, "what was known stays");
}

#[tokio::test]
async fn a_silent_array_is_an_answer_and_keeps_what_was_known() {
    let mut bench = with_array().await;
    bench
        .done(
            &Step::Storage(storage::Step::ReadArray { array: SHELF }),
            turn("read", 1),
        )
        .await;
    let array = bench.estate.arrays[&SHELF].clone();
    bench.standins.world.controller("shelf", 1, false);
    let seen = |events: Vec<Event>| match events.into_iter().next() {
        Some(Event::Storage(storage::Event::ArraySeen(array))) => *array,
        other => panic!("{other:?}"),
    };
    let one = seen(
        bench
            .drivers
            .look_at(&bench.estate, &array, Moment(9))
            .await,
    );
    assert!(one.answers());
    assert_eq!(one.silent().count(), 1);
    bench.standins.world.controller("shelf", 2, false);
    let none = seen(
        bench
            .drivers
            .look_at(&bench.estate, &array, Moment(9))
            .await,
    );
    assert!(!none.answers());
    assert_eq!(none.pools, array.pools);
}

/// If this fails, an array whose classes of service make no sense counts as one that does not answer, and nothing is made on it.
#[tokio::test]
async fn classes_that_make_no_sense_say_nothing_and_the_array_answers() {
    let mut bench = with_array().await;
    for controller in ["shelf-1", "shelf-2"] {
        bench.standins.world.add_fault(Fault {
            device: controller.into(),
            call: "ClassesOfService".into(),
            kind: Breaks::Garbage,
            times: 9,
        });
    }
    let read = Step::Storage(storage::Step::ReadArray { array: SHELF });
    bench.done(&read, turn("read", 1)).await;
    let array = &bench.estate.arrays[&SHELF];
    assert!(array.answers() && array.served.is_empty());
    assert!(!array.pools.is_empty());
}
