//! What the sheets of storage say, and what a plan of it is made of.

use crate::{put, worse};
use std::{collections::BTreeSet, sync::Arc};
use zastrugi_core::road::Tale;
use zastrugi_core::rooms::{edits, machines, storage};
use zastrugi_core::runs::Object;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{
        Array, ArrayCondition, ArrayKind, Backing, Controller, Fact, Pool, Provisioning, Volume,
    },
    evidence::{Answer, EvidenceBook, Probe, SeenDevice, SeenLun},
    ids::{ArrayId, ClusterId, HostId, MachineId, SiteId, VolumeId},
    moment::{Moment, Span},
    permits::{Permits, Role},
    rooms::edits::{Set, Target},
    rooms::machines::PowerAct,
    rooms::storage::{ConnectArray, ConnectVolume, VolumeSource},
    rooms::{Event, Proposal, Step},
    testkit::{self, Small, paths, read},
    units::Bytes,
};
use zastrugi_core::{road::Work, testkit::Folding};

const PLAIN: &str = "cluster eider\nhost 1 256\nhost 2 256\nhost 3 256\nmachine 7 db 64 on 1";
const SLAB: VolumeId = VolumeId(951);

fn array() -> Array {
    let controller = |n: u8| Controller {
        address: format!("10.0.9.{n}:8443"),
        pin: format!("pin{n}"),
        silent: None,
    };
    Array {
        controllers: vec![controller(201), controller(202)],
        user: "keeper".into(),
        maker: "Tidestone".into(),
        model: "B4".into(),
        serial: "TS1".into(),
        pools: vec![Pool {
            name: "fast".into(),
            capacity: Bytes::gib(1000),
            used: Bytes::gib(400),
            service: None,
        }],
        portals: vec!["10.0.9.1:3260".into(), "10.0.9.2:3260".into()],
        ..testkit::array(ArrayId(700), "basalt", SiteId(900))
    }
}

/// The fixture with an array on which its volume lies.
fn fixture(text: &str) -> Small {
    let mut small = read(text);
    small.alter(|estate| {
        estate.put(Fact::Array(Arc::new(array())));
        let mut slab = Volume::clone(&estate.volumes[&SLAB]);
        slab.backing = Some(Backing {
            array: ArrayId(700),
            lun: "1".into(),
            pool: "fast".into(),
        });
        slab.capacity = Bytes::gib(600);
        estate.put(Fact::Volume(Arc::new(slab)));
    });
    small
}

fn told(small: &mut Small, probe: Probe, answer: Answer) {
    let mut book = EvidenceBook::clone(&small.view.evidence);
    book.put(probe, answer, small.now);
    small.view.evidence = book.into();
}

fn new_volume(edit: impl FnOnce(&mut ConnectVolume)) -> Proposal {
    let mut ask = ConnectVolume {
        array: Some(ArrayId(700)),
        source: VolumeSource::New {
            pool: "fast".into(),
            size: Bytes::gib(100),
            provisioning: Provisioning::Thin,
        },
        name: "quay".into(),
        cluster: Some(ClusterId(901)),
        hosts: None,
        typed: "".into(),
    };
    edit(&mut ask);
    Proposal::Storage(storage::Ask::ConnectVolume(ask))
}

fn sized(gib: u64, provisioning: Provisioning) -> Proposal {
    new_volume(|c| {
        c.source = VolumeSource::New {
            pool: "fast".into(),
            size: Bytes::gib(gib),
            provisioning,
        };
    })
}

#[test]
fn a_volume_goes_to_all_hosts_and_each_mounts_after_it_was_prepared() {
    let small = fixture(PLAIN);
    let a = put(&small, &new_volume(|_| {}));
    assert_eq!(worse(&a), Vec::<String>::new());
    let steps = a.steps();
    let prepare = steps
        .iter()
        .position(|s| matches!(s.step, Step::Storage(storage::Step::Prepare { .. })))
        .unwrap();
    let mut mounted = BTreeSet::new();
    for planned in steps {
        if let Step::Storage(storage::Step::Mount { host, .. }) = planned.step {
            assert!(planned.after.contains(&prepare), "{}", planned.title);
            let own_login = planned
                .after
                .iter()
                .any(|i| matches!(steps[*i].step, Step::Storage(storage::Step::LogIn { host: h, .. }) if h == host));
            assert!(own_login, "{}", planned.title);
            mounted.insert(host);
        }
        if let Step::Storage(storage::Step::Map { .. }) = planned.step {
            let after = &steps[planned.after[0]].step;
            assert!(
                matches!(after, Step::Storage(storage::Step::MakeLun { .. })),
                "it must exist first"
            );
        }
    }
    assert_eq!(mounted.len(), 3);
    assert!(matches!(
        steps.last().unwrap().step,
        Step::Storage(storage::Step::VolumeReady { .. })
    ));
}

#[test]
fn leaving_hosts_out_is_said_and_a_silent_one_stops_it() {
    let small = fixture(PLAIN);
    let some = new_volume(|c| c.hosts = Some(BTreeSet::from([HostId(1), HostId(2)])));
    assert_eq!(
        worse(&put(&small, &some)),
        ["mind: 2 of 3 hosts of eider get it; machines on it can't run on the others."]
    );
    let none = new_volume(|c| c.hosts = Some(BTreeSet::from([HostId(99)])));
    assert!(put(&small, &none).at_field("hosts").is_some());
    let down = fixture("cluster eider\nhost 1 256\nhost 2 256 down");
    assert_eq!(
        worse(&put(&down, &new_volume(|_| {}))),
        ["stop: h2 does not answer; it would be left out."]
    );
}

#[test]
fn the_pool_beneath_is_told_in_its_figures() {
    // 1,000 GiB, 400 used, 600 promised to the slab already.
    let small = fixture(PLAIN);
    let said = |ask: &Proposal| worse(&put(&small, ask));
    assert_eq!(said(&sized(400, Provisioning::Thin)), Vec::<String>::new());
    assert!(
        said(&sized(401, Provisioning::Thin))[0]
            .starts_with("mind: Pool fast would be promised more than it has")
    );
    assert_eq!(
        said(&sized(700, Provisioning::Thick)),
        ["stop: Pool fast is short of 100\u{a0}GiB."]
    );
    assert_eq!(
        said(&sized(600, Provisioning::Thick)).len(),
        1,
        "it fits, and is promised beyond"
    );
    assert!(said(&sized(1001, Provisioning::Thin))[0].starts_with("stop: Pool fast has"));
    assert!(said(&sized(0, Provisioning::Thin))[0].starts_with("stop: A volume has at least"));
}

#[test]
fn wrong_fields_of_a_volume_are_said_where_they_are() {
    let small = fixture(PLAIN);
    for (field, ask) in [
        ("name", new_volume(|c| c.name = "slab-951".into())),
        ("name", new_volume(|c| c.name = "No Name".into())),
        ("array", new_volume(|c| c.array = None)),
        ("cluster", new_volume(|c| c.cluster = None)),
        (
            "pool",
            new_volume(|c| {
                c.source = VolumeSource::New {
                    pool: "slow".into(),
                    size: Bytes::gib(1),
                    provisioning: Provisioning::Thin,
                }
            }),
        ),
        (
            "lun",
            new_volume(|c| c.source = VolumeSource::Existing { lun: "9".into() }),
        ),
    ] {
        let a = put(&small, &ask);
        assert!(a.at_field(field).is_some(), "{field}: {:?}", worse(&a));
    }
    let a = zastrugi_core::rooms::assess(
        &small.view,
        &Permits::of(Role::Operator),
        &new_volume(|_| {}),
        small.now,
    );
    assert!(a.blocked(), "storage is the admin's");
}

fn lun(initiators: &[&str]) -> Answer {
    Answer::Luns {
        luns: vec![SeenLun {
            id: "2".into(),
            uid: "naa.2".into(),
            name: "old".into(),
            pool: "fast".into(),
            capacity: Bytes::gib(50),
            used: Bytes::gib(5),
            initiators: initiators.iter().map(|i| (*i).to_owned()).collect(),
        }],
    }
}

fn device(signature: Option<&str>, owner: Option<(&str, &str)>) -> Answer {
    Answer::Devices {
        initiator: "iqn.2026-01.net.example:h1".into(),
        devices: vec![SeenDevice {
            uid: "naa.2".into(),
            signature: signature.map(str::to_owned),
            zero: signature.is_none(),
            owner: owner.map(|(id, name)| (id.to_owned(), name.to_owned())),
            machines: 3,
            mounted: false,
        }],
    }
}

/// What is said of an existing LUN with this on it.
fn existing(seen: Option<Answer>, initiators: &[&str], typed: &str) -> Vec<String> {
    let mut small = fixture(PLAIN);
    told(&mut small, Probe::Luns(ArrayId(700)), lun(initiators));
    if let Some(seen) = seen {
        told(&mut small, Probe::Devices(HostId(1)), seen);
    }
    let ask = new_volume(|c| {
        c.source = VolumeSource::Existing { lun: "2".into() };
        c.typed = typed.into();
    });
    worse(&put(&small, &ask))
}

#[test]
fn what_is_on_a_lun_decides_what_happens_to_it() {
    let none = Vec::<String>::new();
    assert!(existing(None, &[], "")[0].starts_with("unchecked: No host sees old yet"));
    assert_eq!(
        existing(Some(device(None, None)), &[], ""),
        none,
        "empty: formatted"
    );
    assert_eq!(
        existing(Some(device(Some("zastrugi 1"), None)), &[], ""),
        none,
        "nobody's: taken"
    );
    assert_eq!(
        existing(Some(device(Some("ntfs “books”"), None)), &[], ""),
        ["stop: old is not empty: ntfs “books”."]
    );
    let other = || Some(device(Some("zastrugi 1"), Some(("x-1", "Northern Yard"))));
    assert_eq!(
        existing(other(), &[], ""),
        ["stop: old belongs to Northern Yard."]
    );
    assert_eq!(existing(other(), &[], "wrong").len(), 1);
    assert!(
        existing(other(), &[], "quay")[0]
            .starts_with("mind: old is taken over from Northern Yard with its 3 machine records")
    );
    let mut data = device(None, None);
    if let Answer::Devices { devices, .. } = &mut data {
        devices[0].zero = false;
    }
    assert_eq!(
        existing(Some(data), &[], ""),
        ["stop: old is not empty: data without a known signature."]
    );
}

#[test]
fn an_initiator_that_is_no_host_of_ours_stops_it_and_ours_do_not() {
    let blank = || Some(device(None, None));
    assert_eq!(
        existing(blank(), &["iqn.2026-01.net.example:h2"], ""),
        Vec::<String>::new()
    );
    let foreign = existing(
        blank(),
        &["iqn.2026-01.net.example:h2", "iqn.1999-01.org.example:x"],
        "",
    );
    assert_eq!(
        foreign,
        [
            "stop: old can be reached by iqn.1999-01.org.example:x that is no host of ours; it may be in use there."
        ]
    );
}

#[test]
fn drift_is_what_an_intended_host_lacks() {
    let mut small = fixture(PLAIN);
    let drift = |small: &Small| {
        let found = small.view.estate.volumes[&SLAB].drift(&small.view.estate);
        found
            .iter()
            .map(|d| (d.host.name.clone(), d.up, d.of))
            .collect::<Vec<_>>()
    };
    assert_eq!(drift(&small), []);
    small.alter_host(2, |h| drop(h.mounts.insert(SLAB, paths(1))));
    small.alter_host(3, |h| h.mounts.clear());
    assert_eq!(
        drift(&small),
        [("h2".to_owned(), 1, 2), ("h3".to_owned(), 0, 2)]
    );
    let heal = Proposal::Storage(storage::Ask::HealVolume { volume: SLAB });
    let a = put(&small, &heal);
    assert_eq!(
        worse(&a),
        [
            "mind: h2 has 1 of 2 paths to slab-951.",
            "mind: h3 does not mount slab-951."
        ]
    );
    assert_eq!(
        a.steps().len(),
        8,
        "map, log in, mount and look, on two hosts"
    );
    assert!(
        a.steps()
            .iter()
            .all(|s| !s.step.about().contains(&Object::Host(HostId(1))))
    );
    // A host that is not intended is no drift, and cannot be left out while something runs there.
    let only = |hosts: &[u64]| {
        Proposal::Edits(edits::Ask::Edit {
            targets: vec![Target::Volume(SLAB)],
            sets: vec![Set::Intended(Some(
                hosts.iter().map(|h| HostId(*h)).collect(),
            ))],
        })
    };
    assert_eq!(
        worse(&put(&small, &only(&[2, 3]))),
        ["stop: db runs from it on h1."]
    );
    assert!(put(&small, &only(&[])).at_field("hosts").is_some());
    assert!(!put(&small, &only(&[1, 2])).blocked());
    small.alter(|estate| {
        estate.absorb(&Event::Edits(edits::Event::Edited {
            target: Target::Volume(SLAB),
            sets: vec![Set::Intended(Some(BTreeSet::from([HostId(1), HostId(2)])))],
        }));
    });
    assert_eq!(drift(&small), [("h2".to_owned(), 1, 2)]);
}

#[test]
fn machines_go_only_where_their_volume_is_and_one_path_is_said() {
    let mut small = fixture("cluster eider careless\nhost 1 256\nhost 2 256\nmachine 7 db 64 off");
    let on = |host| {
        Proposal::Machines(machines::Ask::Power {
            machines: vec![MachineId(7)],
            act: PowerAct::On { host },
        })
    };
    small.alter_host(1, |h| h.mounts.clear());
    small.alter_host(2, |h| drop(h.mounts.insert(SLAB, paths(1))));
    let a = put(&small, &on(None));
    assert_eq!(
        worse(&a),
        ["mind: db on h2: only one path to slab-951 works."]
    );
    assert_eq!(a.places()[0].host, HostId(2));
    let a = put(&small, &on(Some(HostId(1))));
    assert!(
        a.findings()[0]
            .evidence
            .contains("no path to slab-951 works"),
        "{:?}",
        a.findings()[0]
    );
}

#[test]
fn a_volume_only_grows_and_only_with_its_array() {
    let mut small = fixture(PLAIN);
    let extend = |gib| {
        Proposal::Storage(storage::Ask::ExtendVolume {
            volume: SLAB,
            size: Bytes::gib(gib),
        })
    };
    assert!(put(&small, &extend(600)).at_field("size").is_some());
    let a = put(&small, &extend(900));
    assert!(!a.blocked());
    assert_eq!(a.steps()[1].after, [0], "first the array, then the format");
    small.alter(|estate| {
        let mut gone = array();
        gone.condition = ArrayCondition::Lost {
            since: Moment(0),
            why: "silent".into(),
        };
        estate.put(Fact::Array(Arc::new(gone)));
    });
    assert_eq!(
        worse(&put(&small, &extend(900))),
        ["stop: basalt does not answer."]
    );
    let homeless = read(PLAIN);
    assert_eq!(
        worse(&put(&homeless, &extend(20_000))),
        ["stop: The array that slab-951 lies on is not connected."]
    );
}

#[test]
fn a_volume_with_machines_is_not_handed_back_and_an_empty_one_is_unmounted_first() {
    let small = fixture(PLAIN);
    let give = Proposal::Storage(storage::Ask::GiveVolume { volume: SLAB });
    assert_eq!(
        worse(&put(&small, &give)),
        ["stop: 1 machines have disks on slab-951."]
    );
    let empty = fixture("cluster eider\nhost 1 256\nhost 2 256\nhost 3 256");
    let a = put(&empty, &give);
    let kinds: Vec<_> = a.steps().iter().map(|s| s.step.group()).collect();
    assert_eq!(kinds.iter().filter(|k| **k == "unmount").count(), 2);
    let disown = kinds.iter().position(|k| *k == "clear the owner").unwrap();
    assert_eq!(
        a.steps()[disown].after.len(),
        2,
        "after the others unmounted it"
    );
    assert_eq!(
        kinds
            .iter()
            .filter(|k| **k == "take the host's reach away")
            .count(),
        3
    );
    assert_eq!(kinds.last(), Some(&"forget the volume"));
}

fn connecting(answers: &[(&str, &str)], edit: impl FnOnce(&mut ConnectArray)) -> Vec<String> {
    let mut small = read(PLAIN);
    let mut controllers = Vec::new();
    for (address, name) in answers {
        let pin = format!("pin of {address}");
        told(
            &mut small,
            Probe::ArrayGreeting((*address).to_owned()),
            Answer::Manager {
                name: (*name).to_owned(),
                pin: pin.clone(),
            },
        );
        controllers.push(Endpoint {
            address: (*address).into(),
            pin: pin.into(),
        });
    }
    let mut ask = ConnectArray {
        controllers,
        kind: ArrayKind::Block,
        site: "Quayside".into(),
        user: "keeper".into(),
        password: Password::Typed,
    };
    edit(&mut ask);
    let found = worse(&put(
        &small,
        &Proposal::Storage(storage::Ask::ConnectArray(ask)),
    ));
    let shown = found
        .iter()
        .filter(|f| f.contains("compare its fingerprint"));
    assert!(shown.count() <= answers.len(), "each is shown once");
    found
        .into_iter()
        .filter(|f| !f.contains("compare its fingerprint"))
        .collect()
}

#[test]
fn an_array_is_connected_by_all_of_its_addresses_and_the_certificates_that_were_shown() {
    let two = [("10.0.9.201:8443", "basalt"), ("10.0.9.202:8443", "basalt")];
    assert_eq!(connecting(&two, |_| {}), Vec::<String>::new());
    assert!(connecting(&two[..1], |_| {})[0].starts_with("mind: Only one management address"));
    let mixed = [("10.0.9.201:8443", "basalt"), ("10.0.9.203:8443", "gneiss")];
    assert_eq!(
        connecting(&mixed, |_| {}),
        ["stop: These addresses belong to different arrays; connect one at a time."]
    );
    assert!(
        connecting(&two, |a| a.controllers[0].pin = "else".into())[0]
            .contains("shows another certificate")
    );
    assert!(connecting(&two, |a| a.password = Password::Missing)[0].contains("Type the password"));
    assert!(connecting(&two, |a| a.user = " ".into())[0].contains("user name"));
    assert!(connecting(&[], |_| {})[0].contains("management address"));
}

#[test]
fn a_silent_probe_is_forgotten_soon_and_an_answer_later() {
    let mut book = EvidenceBook::default();
    let at = |s| Moment(0).plus(Span::secs(s));
    let probe = || Probe::ArrayGreeting("10.0.9.201:8443".into());
    book.put(probe(), Answer::Silent { why: "x".into() }, at(0));
    assert!(book.fresh(&probe(), at(19)).is_some());
    assert!(
        book.fresh(&probe(), at(21)).is_none(),
        "somebody may have mended it"
    );
    book.put(
        probe(),
        Answer::Manager {
            name: "basalt".into(),
            pin: "p".into(),
        },
        at(0),
    );
    assert!(book.fresh(&probe(), at(600)).is_some());
}

/// If this fails, what is stated of a volume is lost, or stated by whoever may not.
#[test]
fn what_a_volume_offers_is_stated_at_once_and_told() {
    use zastrugi_core::{
        permits::{Permits, Role},
        rooms::qualities::Ask,
    };
    let mut small = read("cluster a\nhost 1 64\nmachine 7 db 8 on 1");
    let volume = *small.view.estate.volumes.keys().next().unwrap();
    let offers = |words: &[&str]| {
        let qualities = words.iter().map(|w| (*w).into()).collect();
        Proposal::Qualities(Ask::State { volume, qualities })
    };
    let plan = put(&small, &offers(&["fast", "mirrored"]))
        .accept()
        .unwrap();
    let (_, events) = small.begin(plan);
    assert!(
        small.view.runs.is_empty(),
        "no device is told: it is done at once"
    );
    let told: Vec<_> = events
        .iter()
        .filter_map(|e| e.tell(&small.view.estate))
        .map(|e| e.text)
        .collect();
    assert!(
        told.iter().any(|t| t.ends_with("offers fast, mirrored")),
        "{told:?}"
    );
    let less = put(&small, &offers(&["fast"]));
    assert_eq!(worse(&less).len(), 1, "{:?}", worse(&less));
    assert!(worse(&less)[0].contains("1 machines lie on it; it no longer offers mirrored"));
    assert!(
        put(&small, &offers(&["fast", "mirrored"])).blocked(),
        "nothing is changed"
    );
    assert!(put(&small, &offers(&["two words"])).blocked());
    let many: Vec<String> = (0..13).map(|n| format!("q{n}")).collect();
    let many: Vec<&str> = many.iter().map(String::as_str).collect();
    assert!(put(&small, &offers(&many)).blocked());
    small.permits = Permits::of(Role::Operator);
    assert!(
        put(&small, &offers(&[])).blocked(),
        "an operator states nothing of storage"
    );
}

/// If this fails, a machine that needs mirrored storage is put where nothing is mirrored.
#[test]
fn machines_go_where_what_they_ask_for_is_offered() {
    use zastrugi_core::{
        estate::Volume,
        rooms::machines::{Ask, CreateMachines},
        testkit::machines,
    };
    let mut small = read("cluster a\nhost 1 64");
    let (id, first) = small
        .view
        .estate
        .volumes
        .iter()
        .next()
        .map(|(id, v)| (*id, v.clone()))
        .unwrap();
    // One that comes earlier by name and offers less.
    let other = Volume {
        id: VolumeId(952),
        name: "a".into(),
        uid: "u2".into(),
        ..Volume::clone(&first)
    };
    let offers = Volume {
        qualities: ["mirrored".into()].into(),
        ..Volume::clone(&first)
    };
    small.alter(|e| {
        e.put(Fact::Volume(Arc::new(other)));
        e.put(Fact::Volume(Arc::new(offers)));
    });
    small.alter_host(1, |h| {
        h.mounts
            .insert(VolumeId(952), zastrugi_core::testkit::paths(2));
    });
    let ask = |words: &[&str], volume| {
        let qualities = words.iter().map(|w| (*w).into()).collect();
        let machine = CreateMachines {
            pledge: None,
            qualities,
            volume,
            ..machines("m", 1, small.view.estate.clusters.keys().next().copied(), 2)
        };
        put(&small, &Ask::Create(Box::new(machine)).into())
    };
    let goes = |a: &zastrugi_core::rooms::Assessment| {
        let said = a
            .findings()
            .iter()
            .find(|f| f.text.starts_with("The disks go to"));
        said.map(|f| f.text.clone()).unwrap_or_default()
    };
    assert_eq!(goes(&ask(&[], None)), "The disks go to a.");
    assert_eq!(
        goes(&ask(&["mirrored"], None)),
        format!("The disks go to {}.", first.name)
    );
    let refused = ask(&["mirrored", "fast"], None);
    assert!(refused.blocked());
    assert!(
        refused.at_field("qualities").is_some(),
        "{:?}",
        worse(&refused)
    );
    assert!(!ask(&["mirrored"], Some(id)).blocked());
    assert!(ask(&["mirrored"], Some(VolumeId(952))).blocked());
}
