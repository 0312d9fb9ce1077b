//! A cluster that another manager runs: what becomes of each object, and what stands against taking it.

use crate::{put, worse};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};
use uuid::Uuid;
use zastrugi_core::{
    endpoint::{Endpoint, Password},
    estate::{Fact, HostNet, NetRole, Nic, PsabiLevel},
    evidence::{Answer, Greeting, Probe, SeenVolume},
    ids::{NetworkId, SecretRef},
    inventory::{CarriedMachine, CarriedNic, CarriedVolume, Former, Inventory},
    moment::Span,
    rooms::{
        Assessment, Proposal, Step, hosts, storage,
        taking::{self, Ask, Kind, Plan, TakeOver, Verdict},
    },
    testkit::{self, Small, read},
    units::Bytes,
};

const SECRET: SecretRef = SecretRef(Uuid::from_u128(7));

/// One host as it says what it has.
struct Theirs {
    name: &'static str,
    inventory: Inventory,
}

fn net(vlan: u16, mtu: u32) -> HostNet {
    HostNet {
        vlan: Some(vlan),
        mtu,
        uplinks: BTreeSet::from(["uplink-1".to_owned()]),
    }
}

fn machine(n: u128, on: Option<&str>) -> CarriedMachine {
    CarriedMachine {
        uuid: Uuid::from_u128(n),
        name: format!("m{n}"),
        on: on.map(str::to_owned),
        up: None,
        nics: vec![CarriedNic {
            mac: format!("02:aa:00:00:00:{n:02x}"),
            network: Some("yard".into()),
            addresses: vec![format!("10.0.20.{n}").parse().unwrap()],
        }],
        hardware: 3,
    }
}

/// Three hosts of one manager that mount one volume, with a machine on each and one that is off.
fn three() -> Vec<Theirs> {
    let names = ["s1", "s2", "s3"];
    let records: Vec<CarriedMachine> = (1..=4)
        .map(|n| machine(n, names.get(n as usize - 1).copied()))
        .collect();
    let host = |name: &'static str| {
        let mut machines = records.clone();
        for m in machines
            .iter_mut()
            .filter(|m| m.on.as_deref() == Some(name))
        {
            m.up = Some(Span::days(9));
        }
        let seen = SeenVolume {
            unattached: None,
            shared: None,
            records: None,
            pool: None,
            uid: "their-uid".into(),
            name: "slate".into(),
            capacity: Bytes::gib(1000),
            used: Bytes::gib(200),
            paths: vec![],
        };
        let owner = Some(("id-theirs".to_owned(), "Breakwater".to_owned()));
        Theirs {
            name,
            inventory: Inventory {
                former: Some(Former {
                    id: "id-theirs".into(),
                    name: "Breakwater".into(),
                    silent: Span::mins(11),
                    automation: false,
                }),
                volumes: vec![CarriedVolume {
                    seen,
                    owner,
                    machines,
                }],
                networks: [("yard".to_owned(), net(20, 1500))].into(),
                uplinks: vec![],
                others: vec![],
            },
        }
    };
    names.map(host).into()
}

fn greeting(name: &str) -> Greeting {
    let opts = BTreeMap::new();
    let mut hardware = testkit::host(1, 256, &opts).hardware;
    hardware.serial = format!("SN-{name}");
    hardware.cpu.level = PsabiLevel::V3;
    Greeting {
        name: name.into(),
        pin: format!("pin-{name}"),
        hardware,
        software: "4.2.1".into(),
        owner: Some(("id-theirs".into(), "Breakwater".into())),
        machines: vec![],
        bmc: None,
    }
}

fn tell(small: &mut Small, theirs: &[Theirs]) {
    let mut book = (*small.view.evidence).clone();
    for host in theirs {
        let address = format!("10.0.0.{}:7443", host.name);
        let greeted = Answer::Greeting(Box::new(greeting(host.name)));
        book.put(Probe::Greeting(address.clone()), greeted, small.now);
        let probe = Probe::Inventory {
            address,
            pin: format!("pin-{}", host.name),
            password: SECRET,
        };
        let said = Answer::Inventory(Box::new(host.inventory.clone()));
        book.put(probe, said, small.now);
    }
    small.view.evidence = Arc::new(book);
}

fn ask(names: &[&str]) -> TakeOver {
    TakeOver {
        hosts: names
            .iter()
            .map(|n| Endpoint {
                address: (&format!("10.0.0.{n}:7443")).into(),
                pin: (&format!("pin-{n}")).into(),
            })
            .collect(),
        password: Password::Kept(SECRET),
        site: "Quayside".into(),
        name: "Skua".into(),
        former: "Breakwater".into(),
        roles: BTreeMap::new(),
    }
}

fn with(theirs: &[Theirs]) -> Small {
    let mut small = read("cluster eider careless\nhost 1 256\nmachine 7 db 64 on 1");
    tell(&mut small, theirs);
    small
}

fn assessed(small: &Small, ask: TakeOver) -> Assessment {
    put(small, &Proposal::Taking(Ask::TakeOver(Box::new(ask))))
}

fn all_three(small: &Small) -> Assessment {
    assessed(small, ask(&["s1", "s2", "s3"]))
}

fn planned(small: &Small) -> Plan {
    taking::plan(&small.view, small.now, &ask(&["s1", "s2", "s3"]))
}

fn verdict(plan: &Plan, kind: Kind, name: &str) -> Verdict {
    let mut lines = plan.lines.iter();
    let found = lines.find(|l| l.kind == kind && l.name == name);
    found
        .unwrap_or_else(|| panic!("{name} is not in {:#?}", plan.lines))
        .verdict
}

/// If this fails, a host changes its owner while the other manager still gives orders to another one: two managers fight over
/// one cluster; or what is told of its machines was never compared.
#[test]
fn nothing_changes_its_owner_before_every_host_said_that_its_manager_is_silent() {
    let small = with(&three());
    let said = all_three(&small);
    assert!(!said.blocked(), "{:#?}", worse(&said));
    let of = |is: &dyn Fn(&taking::Step) -> bool| -> Vec<usize> {
        let steps = said.steps().iter().enumerate();
        steps
            .filter(|(_, p)| matches!(&p.step, Step::Taking(step) if is(step)))
            .map(|(n, _)| n)
            .collect()
    };
    let host = |step: &taking::Step, is: fn(&hosts::Step) -> bool| matches!(step, taking::Step::Host(s) if is(s));
    let heard = of(&|s| host(s, |s| matches!(s, hosts::Step::HearSilence { .. })));
    let taken = of(&|s| host(s, |s| matches!(s, hosts::Step::Take { .. })));
    let compared = of(&|s| host(s, |s| matches!(s, hosts::Step::CompareUptimes { .. })));
    assert_eq!((heard.len(), taken.len(), compared.len()), (3, 3, 3));
    let before = |step: usize| {
        let mut all = BTreeSet::new();
        let mut next = said.steps()[step].after.clone();
        while let Some(at) = next.pop() {
            if all.insert(at) {
                next.extend(&said.steps()[at].after);
            }
        }
        all
    };
    for (n, planned) in said.steps().iter().enumerate() {
        let Step::Taking(step) = &planned.step else {
            panic!("{planned:?}")
        };
        match step {
            taking::Step::Host(hosts::Step::HearSilence { .. }) => {
                assert!(planned.after.is_empty(), "it waits for nobody");
            }
            // Whatever writes at a device waits for all of them.
            _ => assert!(before(n).is_superset(&heard.iter().copied().collect())),
        }
    }
    let owner = of(
        &|s| matches!(s, taking::Step::Storage(storage::Step::Prepare { over: Some(over), .. }) if over == "id-theirs"),
    );
    assert_eq!(owner.len(), 1, "one volume, whose owner is named");
    for end in compared {
        assert!(before(end).is_superset(&taken.iter().copied().chain(owner.clone()).collect()));
    }
}

/// If this fails, somebody takes a cluster from a manager that is at work, or without having said from whom.
#[test]
fn a_manager_that_is_at_work_or_not_named_keeps_its_hosts() {
    let mut theirs = three();
    let mut typed = ask(&["s1", "s2", "s3"]);
    typed.former = "breakwater".into();
    let said = worse(&assessed(&with(&theirs), typed)).join("\n");
    assert!(
        said.contains("stop: These hosts belong to Breakwater."),
        "{said}"
    );
    let former = |theirs: &mut [Theirs], n: usize, change: fn(&mut Former)| {
        change(theirs[n].inventory.former.as_mut().unwrap());
    };
    former(&mut theirs, 1, |f| f.silent = Span::mins(9));
    let said = worse(&all_three(&with(&theirs))).join("\n");
    assert!(
        said.contains("stop: Breakwater gave an order 9 min ago (s2)."),
        "{said}"
    );
    former(&mut theirs, 1, |f| f.silent = Span::mins(10));
    assert!(
        !all_three(&with(&theirs)).blocked(),
        "ten minutes are enough"
    );
    former(&mut theirs, 2, |f| f.automation = true);
    let said = worse(&all_three(&with(&theirs))).join("\n");
    assert!(
        said.contains("stop: The automation of Breakwater is on (s3)."),
        "{said}"
    );
    former(&mut theirs, 2, |f| f.automation = false);
    former(&mut theirs, 0, |f| {
        (f.id, f.name) = ("other".into(), "Lighthouse".into())
    });
    let said = worse(&all_three(&with(&theirs))).join("\n");
    assert!(
        said.contains("s2 (host): it belongs to Breakwater, the first of them to Lighthouse."),
        "{said}"
    );
    theirs[0].inventory.former = None;
    let said = worse(&all_three(&with(&theirs))).join("\n");
    assert!(
        said.contains("stop: s1 belongs to nobody; claim it instead."),
        "{said}"
    );
}

/// If this fails, a machine is left running on a host of the old manager under our eyes, or is taken as if it were another one.
#[test]
fn what_only_one_may_have_is_said_and_what_would_be_torn_apart_stops_it() {
    let mut small = with(&three());
    let said = assessed(&small, ask(&["s1", "s2"]));
    let words = worse(&said).join("\n");
    assert!(
        words.contains("stop: m3 (machine): it runs on s3, which is not among these hosts."),
        "{words}"
    );
    let plan = planned(&small);
    assert!(
        plan.lines.iter().all(|l| l.verdict == Verdict::AsItIs),
        "{:#?}",
        plan.lines
    );
    assert_eq!(
        plan.count(|v| v == Verdict::AsItIs),
        [
            (Kind::Host, 3),
            (Kind::Network, 1),
            (Kind::Volume, 1),
            (Kind::Machine, 4)
        ]
    );
    // One of ours has the name of m1, one the hardware address of m2, one the address of m3 where it is heard.
    let mut yard = testkit::network(NetworkId(50), "crew");
    yard.uplinks = BTreeSet::from(["uplink-1".to_owned()]);
    small.alter(|e| {
        let mut yard = yard.clone();
        yard.vlan = Some(20);
        e.put(Fact::Network(Arc::new(yard)));
        let ours = e.machines.values().next().unwrap().clone();
        let nic = |mac: &str, address: &str| Nic {
            mac: mac.into(),
            network: Some(NetworkId(50)),
            addresses: vec![address.parse().unwrap()],
        };
        let mut clone = (*ours).clone();
        clone.name = "m1".into();
        clone.nics = vec![
            nic("02:aa:00:00:00:02", "10.0.20.99"),
            nic("02:bb:00:00:00:01", "10.0.20.3"),
        ];
        e.put(Fact::Machine(Arc::new(clone)));
    });
    let plan = planned(&small);
    assert_eq!(verdict(&plan, Kind::Machine, "m1"), Verdict::Renamed);
    let minds = Verdict::Conflicts { stops: false };
    assert_eq!(
        verdict(&plan, Kind::Machine, "m2"),
        minds,
        "a hardware address"
    );
    assert_eq!(verdict(&plan, Kind::Machine, "m3"), minds, "an address");
    assert_eq!(verdict(&plan, Kind::Machine, "m4"), Verdict::AsItIs);
    assert!(!all_three(&small).blocked());
    // The address is another's only where both are heard: on another VLAN it is not.
    small.alter(|e| {
        let mut yard = yard.clone();
        yard.vlan = Some(21);
        e.put(Fact::Network(Arc::new(yard)));
    });
    assert_eq!(
        verdict(&planned(&small), Kind::Machine, "m3"),
        Verdict::AsItIs
    );
    let twin = Uuid::from_u128(4);
    small.alter(|e| {
        let mut ours = (**e.machines.values().next().unwrap()).clone();
        ours.uuid = twin;
        e.put(Fact::Machine(Arc::new(ours)));
    });
    assert_eq!(
        verdict(&planned(&small), Kind::Machine, "m4"),
        Verdict::Conflicts { stops: true }
    );
    assert!(all_three(&small).blocked());
}

/// If this fails, a network becomes ours as the one odd host has it, and all others stand under Needs you.
#[test]
fn where_hosts_differ_it_is_taken_as_most_have_it() {
    let mut theirs = three();
    theirs[0].inventory.networks = [("yard".to_owned(), net(20, 9000))].into();
    theirs[2]
        .inventory
        .networks
        .insert("skua-migration".into(), net(40, 9000));
    let plan = planned(&with(&theirs));
    let of = |name: &str| plan.networks.iter().find(|n| n.name == name).unwrap();
    assert_eq!(
        (of("yard").net.mtu, of("yard").role),
        (1500, NetRole::Guest)
    );
    assert_eq!(
        of("skua-migration").role,
        NetRole::Migration,
        "guessed from its name"
    );
    assert_eq!(verdict(&plan, Kind::Network, "yard"), Verdict::Differs);
    assert_eq!(
        verdict(&plan, Kind::Network, "skua-migration"),
        Verdict::Differs
    );
    let words: Vec<&str> = plan
        .lines
        .iter()
        .filter(|l| l.kind == Kind::Network)
        .map(|l| l.words.as_str())
        .collect();
    assert!(
        words[0].contains("s1, s2 have it not")
            && words[1].contains("s1 has VLAN 20, MTU 9000, on uplink-1"),
        "{words:?}"
    );
    // A volume that one of them does not mount is meant for the others.
    let mut theirs = three();
    theirs[1].inventory.volumes.clear();
    let small = with(&theirs);
    assert_eq!(
        verdict(&planned(&small), Kind::Volume, "slate"),
        Verdict::Differs
    );
    theirs[0].inventory.volumes[0].owner = Some(("id-third".into(), "Lighthouse".into()));
    let said = worse(&all_three(&with(&theirs))).join("\n");
    assert!(
        said.contains("stop: slate (volume): it belongs to Lighthouse."),
        "{said}"
    );
}

/// If this fails, a person is told of a plan that nobody has read, or a refused password is tried again and locks the host.
#[test]
fn what_was_not_read_is_said_so_and_hides_no_stop() {
    let small = with(&three());
    let mut unread = ask(&["s1", "s2", "s3"]);
    unread.password = Password::Missing;
    let said = worse(&assessed(&small, unread)).join("\n");
    assert!(
        said.contains("stop: Type the hosts' own password and read them"),
        "{said}"
    );
    let mut other = ask(&["s1"]);
    other.hosts[0].pin = "another".into();
    let said = worse(&assessed(&small, other)).join("\n");
    assert!(
        said.contains("stop: s1 shows another certificate now"),
        "{said}"
    );
    let mut later = with(&three());
    later.now = later.now.plus(Span::mins(3));
    let said = worse(&all_three(&later)).join("\n");
    assert!(said.contains("stop: s1 was not read lately."), "{said}");
    assert!(
        all_three(&later).steps().is_empty(),
        "no plan of what nobody knows"
    );
}
