//! Templates and copies: what is refused and where, what a copy is of, and what keeps a version from being removed.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    copying::Source,
    estate::{
        Consistent, Disk, Estate, Fact, Machine, Parent, Sealed, Snapshot, Template, Uplink,
        Version,
    },
    finding::Severity,
    ids::{MachineId, TemplateId, VolumeId},
    layers::{Chain, GRAIN},
    moment::{Moment, Span},
    road::{Premise, Work},
    rooms::{
        Assessment, Event, Proposal, Step,
        machines::{self, Copied, CreateMachines, NewDisk},
        templates::{self, Ask, Make, Remove},
    },
    testkit::{Small, machines, read},
    units::Bytes,
};

const DB: MachineId = MachineId(7);
pub(crate) const BASE: TemplateId = TemplateId(300);

fn on(small: &mut Small, id: MachineId, change: impl FnOnce(&mut Machine)) {
    small.alter(|estate: &mut Estate| {
        let mut m = Machine::clone(&estate.machines[&id]);
        change(&mut m);
        estate.put(Fact::Machine(Arc::new(m)));
    });
}

fn home(small: &Small) -> VolumeId {
    small.view.estate.machines[&DB].disks[0].volume
}

pub(crate) fn version(small: &Small, number: u32, sealed: Sealed) -> Version {
    Version {
        number,
        uuid: Uuid::from_u128(u128::from(number)),
        volume: home(small),
        disks: vec![Disk {
            key: Uuid::from_u128(99),
            ..small.view.estate.machines[&DB].disks[0]
        }],
        takes: Bytes::gib(12),
        vcpus: 2,
        memory: Bytes::gib(4),
        cards: vec![None],
        sealed,
        firmware: None,
        first_boot: None,
        from: "db".into(),
        made: Moment(0),
        note: String::new(),
        ready: true,
    }
}

/// Machine 7 runs, 9 is off; the hosts copy 1 GiB in about a second; *base* has versions 1 (not sealed) and 2.
pub(crate) fn fixture() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 512\nhost 2 512\nmachine 7 db 16 on 1\nmachine 9 old 16 off",
    );
    for host in [1, 2] {
        small.alter_host(host, |h| {
            h.uplinks = ["storage-1", "storage-2"]
                .map(|name| Uplink {
                    name: name.into(),
                    mac: "06:00:00:00:00:01".into(),
                    mbit: 10_000,
                    up: true,
                    switch: "s".into(),
                    port: "p".into(),
                })
                .into();
        });
    }
    let versions = vec![
        version(&small, 1, Sealed::No),
        version(&small, 2, Sealed::Yes(vec!["machine id".into()])),
    ];
    small.alter(|estate| {
        estate.put(Fact::Template(Arc::new(Template {
            id: BASE,
            name: "base".into(),
            note: String::new(),
            versions,
            next: 3,
        })));
    });
    small
}

fn of_version(version: u32) -> Source {
    Source::Template {
        template: BASE,
        version,
    }
}

fn of_db(snapshot: Option<Uuid>) -> Source {
    Source::Machine {
        machine: DB,
        snapshot,
    }
}

/// So many machines as copies, with one disk of 40 GiB and not started.
fn copies(small: &Small, source: Source, dependent: bool, count: u32) -> CreateMachines {
    let cluster = small.view.estate.clusters.keys().next().copied();
    CreateMachines {
        pledge: None,
        copied: Some(Copied {
            source,
            dependent,
            seal: true,
        }),
        disks: vec![NewDisk {
            size: Bytes::gib(40),
            provisioning: zastrugi_core::estate::Provisioning::Thin,
        }],
        start: false,
        ..machines("copy-{01}", count, cluster, 4)
    }
}

fn made(small: &Small, ask: CreateMachines) -> Assessment {
    put(
        small,
        &Proposal::Machines(machines::Ask::Create(Box::new(ask))),
    )
}

fn says(said: &Assessment, severity: Severity, words: &str) {
    let plain = |text: &str| text.replace('\u{a0}', " ");
    let mut all = said.findings().iter();
    assert!(
        all.any(|f| f.severity == severity && plain(&f.text).contains(words)),
        "{severity:?}: {words}\n{:#?}",
        said.findings()
    );
}

fn copying(said: &Assessment) -> Vec<(Span, Vec<usize>)> {
    let all = said.steps().iter().filter_map(|p| match &p.step {
        Step::Machines(machines::Step::Copy { time, .. }) => Some((*time, p.after.clone())),
        _ => None,
    });
    all.collect()
}

/// If this fails, a hundred copies fight for one uplink, or take longer than was said.
#[test]
fn full_copies_go_one_after_the_other_and_say_how_long() {
    let mut small = fixture();
    let said = made(&small, copies(&small, of_version(2), false, 3));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let steps = copying(&said);
    assert_eq!(steps.len(), 3);
    // 12 GiB at 0.9 · 10 Gbit/s.
    let secs = Bytes::gib(12).as_f64() / (10e9 / 8.0 * 0.9);
    assert!(
        (steps[0].0.0 as f64 / 1000.0 - secs).abs() < 2.0,
        "{steps:?}"
    );
    let by_host: Vec<usize> = said.steps().iter().map(|p| p.after.len()).collect();
    assert!(by_host.iter().sum::<usize>() >= 1, "{by_host:?}");
    says(&said, Severity::Clear, "12 GiB of base 2 are copied in");
    says(
        &said,
        Severity::Clear,
        "keys, name and addresses of each copy are new",
    );
    small.begin(said.accept().unwrap());
    let all = small.view.estate.machines.values();
    let planned: Vec<_> = all.filter(|m| m.name.starts_with("copy-")).collect();
    let mut keys: Vec<Uuid> = planned.iter().map(|m| m.disks[0].key).collect();
    keys.push(small.view.estate.templates[&BASE].versions[1].disks[0].key);
    keys.sort_unstable();
    keys.dedup();
    assert_eq!(keys.len(), 4, "no two disks are the same one");
    assert!(
        planned
            .iter()
            .all(|m| m.parent.is_none() && m.made_from == "base 2")
    );
}

/// If this fails, disks lie on something that moves under them, or on another volume.
#[test]
fn disks_lie_only_on_versions_and_beside_them() {
    let mut small = fixture();
    let said = made(&small, copies(&small, of_version(2), true, 2));
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Clear, "take only the room that is written");
    assert!(
        copying(&said)
            .iter()
            .all(|(time, after)| *time < Span::secs(1) && after.is_empty())
    );
    let parent = Parent {
        template: BASE,
        version: 2,
    };
    small.begin(said.accept().unwrap());
    assert_eq!(small.view.estate.dependents(parent).count(), 2);
    says(
        &made(&small, copies(&small, of_db(None), true, 1)),
        Severity::Stop,
        "is not frozen",
    );
    let mut elsewhere = copies(&small, of_version(2), true, 1);
    elsewhere.volume = Some(VolumeId(home(&small).0 + 1));
    assert!(made(&small, elsewhere).blocked());
}

/// If this fails, copies lose the end of a disk, or somebody copies what isn't there.
#[test]
fn what_can_t_be_copied_is_said() {
    let mut small = fixture();
    let mut smaller = copies(&small, of_version(2), false, 1);
    smaller.disks[0].size = Bytes::gib(39);
    says(
        &made(&small, smaller),
        Severity::Stop,
        "a copy is never smaller",
    );
    let mut fewer = copies(&small, of_version(2), false, 1);
    fewer.disks.clear();
    says(
        &made(&small, fewer),
        Severity::Stop,
        "has 1 disks; so must its copies",
    );
    says(
        &made(&small, copies(&small, of_version(7), false, 1)),
        Severity::Stop,
        "base 7 is not there",
    );
    let gone = Some(Uuid::from_u128(5));
    says(
        &made(&small, copies(&small, of_db(gone), false, 1)),
        Severity::Stop,
        "snapshot of db is gone",
    );
    let mut bare = copies(&small, of_version(1), false, 1);
    bare.copied = bare.copied.map(|c| Copied { seal: false, ..c });
    says(
        &made(&small, bare),
        Severity::Mind,
        "has the host keys, the machine id",
    );
    let running = made(&small, copies(&small, of_db(None), false, 1));
    says(
        &running,
        Severity::Clear,
        "is on and goes on; the copies begin as after a power cut",
    );
    says(
        &running,
        Severity::Unchecked,
        "How much db holds was not told; at most 40 GiB",
    );
    let volume = home(&small);
    small.alter(|estate| {
        let mut v = zastrugi_core::estate::Volume::clone(&estate.volumes[&volume]);
        v.used = v.capacity.less(Bytes::gib(20));
        estate.put(Fact::Volume(Arc::new(v)));
    });
    says(
        &made(&small, copies(&small, of_version(2), false, 2)),
        Severity::Stop,
        "is short of",
    );
}

fn make(small: &Small, change: impl FnOnce(&mut Make)) -> Assessment {
    let mut ask = Make {
        machine: DB,
        snapshot: None,
        of: None,
        name: "quay-base".into(),
        volume: None,
        first_boot: None,
        seal: true,
        note: "".into(),
    };
    change(&mut ask);
    put(small, &Proposal::Templates(Ask::Make(ask)))
}

/// If this fails, two templates have one name, a number is given twice, or half a version is offered.
#[test]
fn a_version_is_planned_made_and_given_up() {
    let mut small = fixture();
    let said = make(&small, |_| {});
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Clear, "host keys, machine id, leases");
    says(
        &make(&small, |m| m.name = "base".into()),
        Severity::Stop,
        "There is a template base already",
    );
    says(
        &make(&small, |m| m.name = " ".into()),
        Severity::Stop,
        "Give the template a name",
    );
    says(
        &make(&small, |m| m.seal = false),
        Severity::Mind,
        "has the keys, the machine id",
    );
    says(
        &make(&small, |m| m.of = Some(TemplateId(1))),
        Severity::Stop,
        "template is gone",
    );
    let next = make(&small, |m| m.of = Some(BASE));
    assert!(!next.blocked(), "{:#?}", worse(&next));
    let (run, _) = small.begin(next.accept().unwrap());
    let template = |small: &Small| small.view.estate.templates[&BASE].clone();
    let of = template(&small);
    assert_eq!((of.versions.len(), of.next), (3, 4));
    assert_eq!(of.newest().map(|v| v.number), Some(2), "not whole yet");
    says(
        &made(&small, copies(&small, of_version(3), false, 1)),
        Severity::Stop,
        "not whole yet",
    );
    let dropped = templates::Event::Dropped {
        template: BASE,
        version: 3,
    };
    small.fold(&[Event::Templates(dropped)]);
    assert_eq!(
        (template(&small).versions.len(), template(&small).next),
        (2, 4)
    );
    assert!(run.0 > 0);
}

/// If this fails, machines lose the disks that theirs lie on.
#[test]
fn a_version_on_which_disks_lie_stays() {
    let mut small = fixture();
    let remove = |small: &Small, versions: &[u32], typed: &str| {
        let ask = Remove {
            template: BASE,
            versions: versions.to_vec(),
            typed: typed.into(),
        };
        put(small, &Proposal::Templates(Ask::Remove(ask)))
    };
    on(&mut small, DB, |m| {
        m.parent = Some(Parent {
            template: BASE,
            version: 2,
        });
        m.deleted = Some(Moment(1));
    });
    says(
        &remove(&small, &[2], "base"),
        Severity::Stop,
        "The disks of db lie on base 2",
    );
    says(
        &remove(&small, &[1], ""),
        Severity::Stop,
        "Type the template's name to confirm: base",
    );
    let said = remove(&small, &[1], "base");
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let step = said.steps()[0].step.clone();
    assert_eq!(step.premise(&small.view), Premise::Holds);
    on(&mut small, DB, |m| {
        m.parent = Some(Parent {
            template: BASE,
            version: 1,
        });
    });
    assert!(
        matches!(step.premise(&small.view), Premise::Broken(_)),
        "somebody was quicker"
    );
    let whole = Event::Templates(templates::Event::Whole {
        machine: DB,
        copied: Bytes::gib(1),
        took: Span::secs(1),
    });
    small.fold(&[whole]);
    assert!(!remove(&small, &[1, 2], "base").blocked());
    let removed = |version| {
        Event::Templates(templates::Event::Removed {
            template: BASE,
            version,
        })
    };
    small.fold(&[removed(1), removed(2)]);
    assert!(
        small.view.estate.templates.is_empty(),
        "without versions it is gone"
    );
}

/// If this fails, somebody who lies on a version can neither get off it nor learn why something else is refused.
#[test]
fn who_lies_on_a_version_is_made_whole_first() {
    let mut small = fixture();
    let whole = |small: &Small| {
        put(
            small,
            &Proposal::Templates(Ask::Whole { machines: vec![DB] }),
        )
    };
    says(
        &whole(&small),
        Severity::Stop,
        "None of them depends on a template",
    );
    on(&mut small, DB, |m| {
        m.parent = Some(Parent {
            template: BASE,
            version: 2,
        });
        let more = Disk {
            key: Uuid::from_u128(72),
            ..m.disks[0]
        };
        m.disks.push(more);
    });
    let said = whole(&small);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    says(&said, Severity::Clear, "db gets up to 12 GiB of its own");
    let detach = zastrugi_core::rooms::hardware::Change {
        machine: DB,
        disks: vec![zastrugi_core::rooms::hardware::DiskWish::Detach {
            disk: Uuid::from_u128(72),
        }],
        cards: vec![],
    };
    let detach = Proposal::Hardware(zastrugi_core::rooms::hardware::Ask::Change(detach));
    let own = small.view.estate.machines[&DB].host.unwrap();
    small.alter_host(own.0, |h| {
        h.condition = zastrugi_core::estate::Condition::Hangs {
            since: Moment(0),
            why: "slow".into(),
        };
    });
    let hangs = whole(&small);
    assert!(
        hangs.blocked() && hangs.steps().is_empty(),
        "another host would write to its disks"
    );
    small.alter_host(own.0, |h| {
        h.condition = zastrugi_core::estate::Condition::Steady
    });
    says(&put(&small, &detach), Severity::Stop, "lie on base 2");
}

/// If this fails, how much a copy takes is told from somebody else's layers, or twice as much as it is.
#[test]
fn what_a_copy_holds_is_counted_once_for_each_block() {
    let mut chain = Chain::alone(&[GRAIN.times(100)]);
    assert_eq!(chain.seen(chain.current), GRAIN.times(100));
    let base = chain.layers[&chain.current].clone();
    let above = zastrugi_core::layers::Layer {
        parent: Some(chain.current),
        disks: vec![(50..150).collect()],
        ..base
    };
    let top = chain.current + 1;
    chain.layers.insert(top, above);
    chain.current = top;
    assert_eq!(chain.seen(top), GRAIN.times(150));
    let mut small = fixture();
    on(&mut small, DB, |m| {
        m.snapshots.all = vec![Snapshot {
            uuid: Uuid::from_u128(1),
            name: "eve".into(),
            note: String::new(),
            taken: Moment(0),
            parent: None,
            consistent: Consistent::Off,
            memory: None,
            disks: Some(1),
            ends: None,
        }];
    });
    let known = of_db(Some(Uuid::from_u128(1)))
        .resolve(&small.view, Moment(0))
        .unwrap();
    assert_eq!(
        (known.words.as_str(), known.known, known.running),
        ("“eve” of db", false, false)
    );
    assert_eq!(known.bytes, Bytes::gib(40), "nobody told: all of it");
}
