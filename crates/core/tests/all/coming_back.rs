//! Deleted machines come back: off or on, where, and on which networks.

use crate::put;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Fact, Machine},
    finding::Severity,
    ids::{HostId, MachineId, NetworkId},
    rooms::{
        Assessment, Proposal, Step,
        machines::{self, Ask, Back},
    },
    testkit::{Small, network, read},
};

const OLD: MachineId = MachineId(9);

fn small() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 64\nhost 2 64\nmachine 7 db 40 on 1\nmachine 9 old 16 off deleted",
    );
    small.alter(|estate| {
        let crew = network(NetworkId(77), "crew");
        let cluster = estate.machines[&OLD].cluster.unwrap();
        estate.put(Fact::Network(Arc::new(zastrugi_core::estate::Network {
            cluster,
            ..crew
        })));
        let mut m = Machine::clone(&estate.machines[&OLD]);
        m.nics[0].network = Some(NetworkId(99));
        estate.put(Fact::Machine(Arc::new(m)));
    });
    small
}

fn asked(small: &Small, how: Back) -> Assessment {
    let machines = vec![OLD];
    put(small, &Proposal::Machines(Ask::Recover { machines, how }))
}

fn said(assessment: &Assessment, severity: Severity) -> Vec<String> {
    let all = assessment
        .findings()
        .iter()
        .filter(|f| f.severity == severity);
    all.map(|f| f.text.clone()).collect()
}

/// If this fails, a machine comes back without its network and nobody is told, or on a host that nobody chose.
#[test]
fn it_comes_back_where_it_is_wanted() {
    let small = small();
    let plain = asked(&small, Back::default());
    assert_eq!(plain.steps().len(), 1);
    assert!(said(&plain, Severity::Mind)[0].contains("network of card 1 of old is gone"));
    let chosen = Back {
        start: true,
        host: Some(HostId(2)),
        networks: vec![],
    };
    let on = asked(&small, chosen);
    assert_eq!(said(&on, Severity::Stop), Vec::<String>::new());
    assert_eq!(on.steps().len(), 3);
    let recovers = |assessment: &Assessment| match &assessment.steps()[0].step {
        Step::Machines(machines::Step::Recover { start, cards, .. }) => {
            (*start, cards.clone().unwrap())
        }
        other => panic!("{other:?}"),
    };
    let (start, cards) = recovers(&on);
    assert_eq!(
        (start, cards[0].network),
        (Some(HostId(2)), None),
        "its own is gone"
    );
    let elsewhere = Back {
        networks: vec![Some(NetworkId(77))],
        ..Back::default()
    };
    let (start, cards) = recovers(&asked(&small, elsewhere));
    assert_eq!((start, cards[0].network), (None, Some(NetworkId(77))));
    let full = Back {
        start: true,
        host: Some(HostId(1)),
        networks: vec![],
    };
    let mut crowded = small;
    crowded.alter(|estate| {
        let mut m = Machine::clone(&estate.machines[&MachineId(7)]);
        m.memory.size = zastrugi_core::units::Bytes::gib(60);
        m.memory.kept = m.memory.size;
        m.memory.max = m.memory.size;
        estate.put(Fact::Machine(Arc::new(m)));
    });
    assert!(said(&asked(&crowded, full), Severity::Stop)[0].contains("no host can take it"));
    let elsewhere = Back {
        networks: vec![Some(NetworkId(4))],
        ..Back::default()
    };
    assert!(
        said(&asked(&crowded, elsewhere), Severity::Stop)[0].contains("no network of its cluster")
    );
}
