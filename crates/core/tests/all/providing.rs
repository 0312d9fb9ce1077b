//! Machines on a volume that is made for them: what is made, in which order, and what speaks against it.

use crate::{put, worse};
use std::sync::Arc;
use zastrugi_core::{
    estate::{Array, Fact, Memory, Pool, Provisioning},
    ids::{ArrayId, ClusterId, SiteId, VolumeId},
    permits::{Permits, Role},
    rooms::{
        Proposal, Step,
        machines::{self, CreateMachines, NewDisk},
        providing::{self, Provide},
        storage,
    },
    testkit::{self, Small, read},
    units::Bytes,
};

const BASIN: ArrayId = ArrayId(700);

/// Two hosts, whose volume of 1 TiB is full but for 10 GiB, and an array with 4 TiB free.
fn fixture() -> Small {
    with("cluster eider careless\nhost 1 512\nhost 2 512")
}

fn with(text: &str) -> Small {
    let mut small = read(text);
    small.alter(|e| {
        let home = e.volumes.values().next().unwrap().clone();
        let mut full = zastrugi_core::estate::Volume::clone(&home);
        full.used = full.capacity.less(Bytes::gib(10));
        e.put(Fact::Volume(Arc::new(full)));
        let pool = Pool {
            name: "tide".into(),
            capacity: Bytes::gib(5 << 10),
            used: Bytes::gib(1 << 10),
            service: None,
        };
        e.put(Fact::Array(Arc::new(Array {
            pools: vec![pool],
            portals: vec!["10.0.9.1:3260".into(), "10.0.9.2:3260".into()],
            ..testkit::array(BASIN, "basin", SiteId(900))
        })));
    });
    small
}

fn machines(gib: u64) -> CreateMachines {
    let memory = Bytes::gib(8);
    CreateMachines {
        pattern: "yard-{01}".into(),
        count: 2,
        cluster: Some(ClusterId(901)),
        qualities: Default::default(),
        pledge: None,
        volume: None,
        host: None,
        vcpus: 2,
        memory: Memory {
            size: memory,
            kept: memory,
            max: memory,
        },
        disks: vec![NewDisk {
            size: Bytes::gib(gib),
            provisioning: Provisioning::Thick,
        }],
        nics: vec![],
        copied: None,
        taken: None,
        firmware: Default::default(),
        image: None,
        first_boot: None,
        document: None,
        labels: Default::default(),
        tier: 3,
        protected: false,
        apart: false,
        note: "".into(),
        start: true,
    }
}

fn provide(change: impl FnOnce(&mut Provide)) -> Proposal {
    let machines = machines(100);
    let mut ask = Provide {
        size: providing::usual(&machines),
        machines,
        array: Some(BASIN),
        pool: "tide".into(),
        name: "yard".into(),
    };
    change(&mut ask);
    Proposal::Providing(providing::Ask::Provide(Box::new(ask)))
}

/// If this fails, whoever has room in a pool is sent away, or gets machines on a volume that not all hosts have.
#[test]
fn a_volume_is_made_connected_to_all_and_then_there_are_machines_on_it() {
    let mut small = fixture();
    let create = Proposal::Machines(machines::Ask::Create(Box::new(machines(100))));
    let said = put(&small, &create);
    let stop = said
        .findings()
        .iter()
        .find(|f| f.stops())
        .expect("there is room");
    let remedy = stop.remedy.clone().unwrap();
    assert!(
        remedy.contains("pool tide of basin has 4\u{a0}TiB free"),
        "{remedy}"
    );

    let said = put(&small, &provide(|_| {}));
    assert_eq!(worse(&said), Vec::<String>::new());
    let ready = said.steps().iter().position(|s| {
        matches!(
            s.step,
            Step::Providing(providing::Step::Storage(storage::Step::VolumeReady { .. }))
        )
    });
    let ready = ready.expect("no volume is ready");
    let mut mounted = 0;
    for (n, planned) in said.steps().iter().enumerate() {
        match &planned.step {
            Step::Providing(providing::Step::Storage(step)) => {
                assert!(n <= ready);
                mounted += usize::from(matches!(step, storage::Step::Mount { .. }));
            }
            Step::Providing(providing::Step::Machine(machines::Step::Create { .. })) => {
                assert_eq!(planned.after, [ready], "before there is a volume");
            }
            _ => {}
        }
    }
    assert_eq!(mounted, 2, "every host has it");
    small.begin(said.accept().unwrap());
    let estate = &small.view.estate;
    let yard = estate.volumes.values().find(|v| v.name == "yard").unwrap();
    // 200 GiB of thick disks, and 15 % that stay free.
    assert_eq!((yard.capacity, yard.ready), (Bytes::gib(236), false));
    let on_it = estate.machines_with_disk_on(yard.id).count();
    assert_eq!(on_it, 2, "both lie on it, whatever else was chosen");
}

/// If this fails, somebody is warned that machines restart nowhere, as their volume is on no host before it is made.
#[test]
fn what_is_on_the_new_volume_restarts_wherever_it_is_connected() {
    let small = with("cluster eider\nhost 1 512\nhost 2 512\nhost 3 512");
    let said = put(&small, &provide(|_| {}));
    assert_eq!(worse(&said), Vec::<String>::new());
    let outlook = &said.outlooks()[0];
    assert_eq!(outlook.before, outlook.after);
}

/// If this fails, a mistake in the volume is told as one of the machines, or where nobody looks.
#[test]
fn what_speaks_against_it_stands_at_its_field() {
    let small = fixture();
    let fields = |change: &dyn Fn(&mut Provide)| -> Vec<String> {
        let said = put(&small, &provide(|p| change(p)));
        let stops = said.findings().iter().filter(|f| f.stops());
        stops.map(|f| f.field.clone().unwrap_or_default()).collect()
    };
    let home = small
        .view
        .estate
        .volumes
        .values()
        .next()
        .unwrap()
        .name
        .clone();
    assert_eq!(fields(&|p| p.name = home.as_str().into()), ["volume_name"]);
    assert_eq!(fields(&|p| p.size = Bytes::gib(6 << 10)), ["volume_size"]);
    assert_eq!(fields(&|p| p.size = Bytes::mib(10)), ["volume_size"]);
    assert_eq!(fields(&|p| p.pool = "none".into()), ["volume"]);
    assert_eq!(fields(&|p| p.array = None), ["volume"]);
    assert_eq!(
        fields(&|p| p.size = Bytes::gib(150)),
        ["disks"],
        "they do not fit on it"
    );
    assert_eq!(fields(&|p| p.machines.vcpus = 0), ["vcpus"]);
    assert_eq!(
        fields(&|p| p.machines.volume = Some(VolumeId(1))),
        Vec::<String>::new()
    );
    // Whoever may make machines may not make volumes.
    let mut small = fixture();
    small.permits = Permits::of(Role::Operator);
    let said = put(&small, &provide(|_| {}));
    assert!(said.accept().is_err(), "an operator makes a volume");
}
