//! Devices that say anything: no figure, however absurd, brings a rule down, and what is refused is refused in words.

use proptest::prelude::*;
use zastrugi_core::{
    availability::Survival,
    estate::{Estate, HostNet, MachineState, Memory, Uplink},
    evidence::SeenVolume,
    ids::{ClusterId, HostId, MachineId},
    moment::Moment,
    observe::{DiskReport, HostReport, MachineReport, NicReport, compare},
    permits::{Permits, Role},
    rooms::{Event, Proposal, assess, machines},
    testkit::{self, Folding, read},
    units::Bytes,
    view::View,
};

/// A figure as a broken or hostile device would give it.
fn figure() -> impl Strategy<Value = u64> {
    prop_oneof![
        Just(0),
        Just(1),
        Just(u64::MAX),
        Just(u64::MAX / 2 + 1),
        Just(1 << 53),
        0..1_000_000_000_000u64,
        any::<u64>(),
    ]
}

fn small() -> impl Strategy<Value = u32> {
    prop_oneof![Just(0), Just(u32::MAX), 0..64u32, any::<u32>()]
}

fn name() -> impl Strategy<Value = String> {
    prop_oneof![
        Just("db".to_owned()),
        Just(String::new()),
        Just("vol-951".to_owned()),
        any::<String>(),
    ]
}

fn state() -> impl Strategy<Value = MachineState> {
    prop_oneof![
        Just(MachineState::Off),
        Just(MachineState::Stopping),
        Just(MachineState::Running { guest: true }),
        name().prop_map(MachineState::Starting),
        name().prop_map(MachineState::Paused),
    ]
}

fn machine() -> impl Strategy<Value = MachineReport> {
    let numbers = (figure(), figure(), figure(), figure(), figure());
    let few = (1..12u128, name(), state(), small(), small(), name());
    let lists = (
        prop::collection::vec((figure(), any::<bool>()), 0..4),
        prop::collection::vec((name(), any::<[u8; 16]>()), 0..3),
        prop::collection::btree_map(name(), name(), 0..3),
        any::<u8>(),
        any::<i64>(),
    );
    (numbers, few, lists).prop_map(
        |(
            (kept, size, max, video, generation),
            (uuid, name, state, vcpus, hardware, volume),
            (disks, nics, labels, tier, created),
        )| MachineReport {
            name,
            state,
            vcpus,
            memory: Memory {
                kept: Bytes(kept),
                size: Bytes(size),
                max: Bytes(max),
            },
            video: Bytes(video),
            disks: disks
                .into_iter()
                .map(|(s, t)| DiskReport {
                    key: uuid::Uuid::from_u128(u128::from(s)),
                    size: Bytes(s),
                    thick: t,
                })
                .collect(),
            volume,
            nics: nics
                .into_iter()
                .map(|(mac, ip)| NicReport {
                    network: Some(mac.clone()),
                    mac,
                    addresses: vec![ip.into()],
                })
                .collect(),
            labels,
            tier,
            virtual_hardware: hardware,
            created: Moment(created),
            ..testkit::reported(uuid::Uuid::from_u128(uuid), "x", generation)
        },
    )
}

fn report() -> impl Strategy<Value = HostReport> {
    let volumes = prop::collection::vec((name(), name(), figure(), figure()), 0..3);
    let wires = prop::collection::vec((name(), figure()), 0..3);
    let nets = prop::collection::btree_map(name(), (any::<Option<u16>>(), small()), 0..3);
    let parts = (
        figure(),
        figure(),
        prop::collection::vec(machine(), 0..6),
        volumes,
        wires,
        nets,
    );
    parts.prop_map(|(boot, seq, machines, volumes, wires, nets)| HostReport {
        disks: vec![],
        ended: Default::default(),
        watchdog: false,
        keepers: Default::default(),
        boot,
        seq,
        obeyed: None,
        software: "1".into(),
        initiator: String::new(),
        uplinks: wires
            .into_iter()
            .map(|(name, mbit)| Uplink {
                name,
                mac: String::new(),
                up: true,
                mbit,
                switch: String::new(),
                port: String::new(),
            })
            .collect(),
        networks: nets
            .into_iter()
            .map(|(name, (vlan, mtu))| {
                let net = HostNet {
                    vlan,
                    mtu,
                    uplinks: Default::default(),
                };
                (name, net)
            })
            .collect(),
        machines,
        volumes: volumes
            .into_iter()
            .map(|(uid, name, capacity, used)| SeenVolume {
                unattached: None,
                shared: None,
                records: None,
                pool: None,
                uid,
                name,
                capacity: Bytes(capacity),
                used: Bytes(used),
                paths: vec![],
            })
            .collect(),
    })
}

fn house() -> Estate {
    let text =
        "cluster a\nhost 1 64\nhost 2 64\nmachine 7 db 8 on 1 label=app:x\nmachine 8 web 8 off";
    (*read(text).view.estate).clone()
}

proptest! {
    #![proptest_config(ProptestConfig { max_shrink_iters: 2000, ..ProptestConfig::default() })]

    /// If this fails, one host that reports nonsense stops the process that watches all hosts.
    #[test]
    fn whatever_hosts_report_it_is_absorbed_and_everything_can_still_be_asked(reports in prop::collection::vec((1..3u64, report()), 1..4)) {
        let mut estate = house();
        for (host, report) in reports {
            let view = View::of(estate.clone());
            for event in compare(&view, HostId(host), &report.bounded(), Moment(9)) {
                if let Event::Machines(machines::Event::Adopted(found)) = &event {
                    prop_assert!(found.id != MachineId(0), "it has a number");
                }
                estate.absorb(&event);
            }
        }
        let view = View::of(estate);
        let permits = Permits::of(Role::Admin);
        let ids: Vec<MachineId> = view.estate.machines.keys().copied().collect();
        let on = machines::PowerAct::On { host: None };
        let wishes: Vec<Proposal> = vec![
            machines::Ask::Create(Box::new(testkit::machines("new", 2, Some(ClusterId(901)), 8))).into(),
            machines::Ask::Power { machines: ids.clone(), act: on }.into(),
            machines::Ask::Delete { machines: ids.clone() }.into(),
        ];
        for wish in &wishes {
            let assessed = assess(&view, &permits, wish, Moment(10));
            prop_assert!(!assessed.title().is_empty());
        }
        let cluster = view.estate.clusters.values().next().unwrap().clone();
        prop_assert!(!Survival::of(&view, &cluster).sentence().is_empty());
    }
}
