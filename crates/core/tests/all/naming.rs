//! Names of machines in DNS: what is due for each, and what is said before a cluster's names go somewhere else.

use crate::{put, worse};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    endpoint::Password,
    estate::{Dns, Due, Entered, MachineState, Nic, TsigKey},
    evidence::{Answer, Probe},
    ids::{ClusterId, MachineId, SecretRef},
    moment::Moment,
    road::Work,
    rooms::{
        Assessment, Proposal, Step,
        naming::{self, Ask, SetNames},
    },
    testkit::{Small, read},
};

const SECRET: SecretRef = SecretRef(Uuid::from_u128(9));

pub(crate) fn dns() -> Dns {
    Dns {
        zone: "quay.example".into(),
        servers: vec!["10.0.0.53:53".into()],
        key: Some(TsigKey {
            name: "zastrugi".into(),
            secret: SECRET,
        }),
    }
}

/// A cluster with names whose machines 7 and 8 have an address each.
fn named() -> Small {
    let mut small = read(
        "cluster eider careless\nhost 1 256\nmachine 7 db 8 on 1\nmachine 8 web 8 on 1\nmachine 9 bare 8 on 1",
    );
    small.alter(|e| {
        let mut cluster = (*e.clusters[&ClusterId(901)]).clone();
        cluster.dns = Some(Box::new(dns()));
        e.put(zastrugi_core::estate::Fact::Cluster(Arc::new(cluster)));
    });
    for (id, address) in [(7, "10.1.0.7"), (8, "2001:db8::8")] {
        alter(&mut small, id, |m| {
            m.nics = vec![Nic {
                mac: format!("02:00:00:00:00:0{id}"),
                network: None,
                addresses: vec![address.parse().unwrap()],
            }];
        });
    }
    small
}

fn alter(small: &mut Small, id: u64, change: impl FnOnce(&mut zastrugi_core::estate::Machine)) {
    small.alter(|e| {
        let mut machine = (*e.machines[&MachineId(id)]).clone();
        change(&mut machine);
        e.put(zastrugi_core::estate::Fact::Machine(Arc::new(machine)));
    });
}

fn due(small: &Small, id: u64) -> Option<Due> {
    let estate = &small.view.estate;
    estate.name_due(&estate.machines[&MachineId(id)])
}

fn entered(name: &str, address: &str) -> Option<Box<Entered>> {
    Some(Box::new(Entered {
        name: name.into(),
        addresses: [address.parse().unwrap()].into(),
        back: true,
    }))
}

/// If this fails, a name leads to where a machine was, stays when it is gone, or is written anew for ever.
#[test]
fn a_name_follows_its_machine_and_rests_when_it_is_right() {
    let mut small = named();
    let first = due(&small, 7);
    let Some(Due::Enter { name, addresses }) = first else {
        panic!("{first:?}")
    };
    assert_eq!((name.as_str(), addresses.len()), ("db.quay.example", 1));
    assert_eq!(due(&small, 9), None, "without an address it has no name");
    alter(&mut small, 7, |m| {
        m.entered = entered("db.quay.example", "10.1.0.7")
    });
    assert_eq!(due(&small, 7), None);
    alter(&mut small, 7, |m| m.name = "db-2".into());
    assert!(matches!(due(&small, 7), Some(Due::Enter { name, .. }) if name == "db-2.quay.example"));
    alter(&mut small, 7, |m| {
        m.nics[0].addresses = vec!["10.1.0.99".parse().unwrap()]
    });
    assert!(
        matches!(due(&small, 7), Some(Due::Enter { addresses, .. }) if addresses.contains(&"10.1.0.99".parse().unwrap()))
    );
    // What can be no name, has no address any more, or is deleted has none.
    alter(&mut small, 7, |m| m.name = "Old Box".into());
    assert_eq!(due(&small, 7), Some(Due::Withdraw));
    alter(&mut small, 7, |m| {
        (m.name, m.deleted) = ("db".into(), Some(Moment(1)))
    });
    assert_eq!(due(&small, 7), Some(Due::Withdraw));
    alter(&mut small, 7, |m| m.entered = None);
    assert_eq!(due(&small, 7), None);
    alter(&mut small, 8, |m| m.state = MachineState::Planned);
    assert_eq!(
        due(&small, 8),
        None,
        "nobody knows yet whether it will be made"
    );
    // A cluster whose machines have no names asks for nothing, whatever stands there.
    alter(&mut small, 8, |m| {
        m.entered = entered("web.quay.example", "2001:db8::8")
    });
    small.alter(|e| {
        let mut cluster = (*e.clusters[&ClusterId(901)]).clone();
        cluster.dns = None;
        e.put(zastrugi_core::estate::Fact::Cluster(Arc::new(cluster)));
    });
    assert_eq!(due(&small, 8), None);
}

fn set(zone: &str, servers: &[&str], key: &str, secret: Password) -> SetNames {
    SetNames {
        cluster: ClusterId(901),
        zone: zone.into(),
        servers: servers.iter().map(|s| (*s).into()).collect(),
        key: key.into(),
        secret,
        leave: false,
    }
}

fn said(small: &Small, ask: SetNames) -> Assessment {
    put(small, &Proposal::Naming(Ask::Set(ask)))
}

fn tell(small: &mut Small, zone: &str, answer: Answer) {
    let mut book = (*small.view.evidence).clone();
    let probe = Probe::Zone {
        server: "10.0.0.53:53".into(),
        zone: zone.into(),
    };
    book.put(probe, answer, small.now);
    small.view.evidence = Arc::new(book);
}

/// If this fails, a wrong value of the sheet is found by a failed run, or a secret that nobody typed is thought to be kept.
#[test]
fn what_can_be_no_zone_server_or_key_is_said_beside_its_field() {
    let small = read("cluster eider careless\nhost 1 256\nmachine 7 db 8 on 1");
    let at = ["10.0.0.53"];
    let typed = Password::Typed;
    let long = format!("{}.example", ["a"; 120].join("."));
    for (ask, words) in [
        (
            set("", &[], "", Password::Missing),
            "Nothing is changed yet.",
        ),
        (
            set("quay example", &at, "k", typed),
            "is no zone: A name has no spaces",
        ),
        (
            set("quay..example", &at, "k", typed),
            "is no zone: A name is missing",
        ),
        (set(&long, &at, "k", typed), "is too long"),
        (
            set("quay.example", &[], "k", typed),
            "Type the address of a name server",
        ),
        (
            set("quay.example", &["lantern"], "k", typed),
            "is no address of a name server",
        ),
        (
            set("quay.example", &at, "no key", typed),
            "is no key's name",
        ),
        (
            set("quay.example", &at, "k", Password::Missing),
            "Type the secret of this key",
        ),
    ] {
        let said = said(&small, ask);
        assert!(said.blocked(), "{words}");
        let all = worse(&said).join("\n");
        assert!(all.contains(words), "{words}: {all}");
    }
    let unsigned = said(&small, set("quay.example", &at, "", Password::Missing));
    assert!(!unsigned.blocked());
    assert!(
        worse(&unsigned)
            .join("\n")
            .contains("mind: Changes are not signed")
    );
}

/// If this fails, a server that is not in charge is told names, and nobody reads them.
#[test]
fn a_server_that_is_not_in_charge_or_silent_stops_it() {
    let mut small = read("cluster eider careless\nhost 1 256\nmachine 7 db 8 on 1");
    let ask = || {
        set(
            "Quay.Example.",
            &["10.0.0.53"],
            "zastrugi",
            Password::Kept(SECRET),
        )
    };
    assert!(
        worse(&said(&small, ask()))
            .join("\n")
            .contains("unchecked: 10.0.0.53:53 was not asked yet")
    );
    tell(&mut small, "quay.example", Answer::Zone { serial: None });
    assert!(
        worse(&said(&small, ask()))
            .join("\n")
            .contains("stop: 10.0.0.53:53 answers and is not in charge of quay.example")
    );
    tell(
        &mut small,
        "quay.example",
        Answer::Silent { why: "gone".into() },
    );
    assert!(
        worse(&said(&small, ask()))
            .join("\n")
            .contains("stop: 10.0.0.53:53 does not answer: gone")
    );
    tell(&mut small, "quay.example", Answer::Zone { serial: Some(4) });
    let fine = said(&small, ask());
    assert!(
        !fine.blocked() && worse(&fine).is_empty(),
        "{:?}",
        worse(&fine)
    );
    let kinds: Vec<&Step> = fine.steps().iter().map(|p| &p.step).collect();
    assert!(
        matches!(
            kinds.as_slice(),
            [Step::Naming(naming::Step::Try { .. }), Step::Naming(naming::Step::Keep { dns: Some(kept), .. })] if *kept == dns()
        ),
        "the zone as it is written everywhere: {kinds:?}"
    );
}

/// If this fails, names stay behind in a zone that is given up, or can't be left there when its server is gone for good.
#[test]
fn names_are_taken_out_of_a_zone_that_is_given_up_or_left_there() {
    let mut small = named();
    alter(&mut small, 7, |m| {
        m.entered = entered("db.quay.example", "10.1.0.7")
    });
    tell(&mut small, "hill.example", Answer::Zone { serial: Some(1) });
    let mut ask = set(
        "hill.example",
        &["10.0.0.53"],
        "zastrugi",
        Password::Missing,
    );
    let moves = said(&small, ask.clone());
    assert!(
        !moves.blocked(),
        "the key's secret is kept: {:?}",
        worse(&moves)
    );
    let groups: Vec<&str> = moves.steps().iter().map(|p| p.step.group()).collect();
    assert_eq!(
        groups,
        [
            "try a name in the zone",
            "take the name out",
            "names stand there from now on"
        ]
    );
    assert_eq!(moves.steps()[2].after, [0, 1], "only then");
    ask.leave = true;
    let left = said(&small, ask);
    assert_eq!(left.steps().len(), 2);
    let Step::Naming(keep) = &left.steps()[1].step else {
        panic!()
    };
    let event = keep.record().unwrap();
    small.fold(&[event.into()]);
    assert!(
        small.view.estate.machines[&MachineId(7)].entered.is_none(),
        "nobody takes it out later"
    );
    let follow = put(
        &small,
        &Proposal::Naming(Ask::Follow {
            cluster: ClusterId(901),
        }),
    );
    assert_eq!(
        (follow.title(), follow.steps().len()),
        ("3 names of eider", 3)
    );
    // Another server of the same zone is told nothing anew.
    let again = said(
        &small,
        set(
            "hill.example",
            &["10.0.0.54"],
            "zastrugi",
            Password::Missing,
        ),
    );
    assert_eq!(again.steps().len(), 2, "tried, and kept");
}
