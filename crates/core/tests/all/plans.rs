//! Recovery plans: what may stand in one, who is in which stage, and what is found before anybody needs it.

use crate::{
    pledges::{HOUR, NOW, on},
    replicas::{HERE, PAIR, REPLICA, assessed, pair, replicated, stops},
};
use std::sync::Arc;
use uuid::Uuid;
use zastrugi_core::{
    crossing::Crossing,
    estate::{
        AnyPoint, Came, Cluster, Fact, Host, Machine, Network, Nic, Passage, PassageKind, Passed,
        Proof, PsabiLevel, RecoveryPlan, Stage, Subnet, Then, Way,
    },
    expression::Expression,
    finding::{Finding, Rule, Severity},
    ids::{ClusterId, HostId, MachineId, NetworkId, PairId, PassageId, PlanId, RunId},
    limits,
    moment::Span,
    rooms::{
        Proposal,
        plans::{self, Keep, KeepStage},
    },
    testkit::{self, Small},
    units::Bytes,
};

pub(crate) const PLAN: PlanId = PlanId(750);
pub(crate) const WAY: Way = Way {
    pair: PAIR,
    from: HERE,
};

pub(crate) fn stage(name: &str, named: &[u64]) -> Stage {
    Stage {
        name: name.into(),
        named: named.iter().copied().map(MachineId).collect(),
        who: None,
        in_turn: false,
        limit: Span::mins(5),
        then: vec![],
    }
}

pub(crate) fn plan(stages: Vec<Stage>) -> RecoveryPlan {
    RecoveryPlan {
        id: PLAN,
        name: "harbour".into(),
        way: WAY,
        stages,
        drills: Default::default(),
        edition: 1,
        changed: NOW.before(Span::days(3)),
    }
}

pub(crate) fn put(small: &mut Small, plan: RecoveryPlan) {
    small.alter(|e| e.put(Fact::RecoveryPlan(Arc::new(plan))));
}

/// Machine 7 and so many more, from 100 on, each with a replica an hour old; those are 200 and up.
pub(crate) fn fleet(more: u64) -> Small {
    let mut small = replicated(&[HOUR]);
    for n in 0..more {
        small.alter(|e| {
            let (db, kept) = (
                e.machines[&MachineId(7)].clone(),
                e.machines[&REPLICA].clone(),
            );
            let mut own = Machine::clone(&db);
            own.id = MachineId(100 + n);
            own.uuid = Uuid::from_u128(1000 + u128::from(n));
            own.name = format!("web-{n}");
            own.disks[0].key = Uuid::from_u128(3000 + u128::from(n));
            let mut there = Machine::clone(&kept);
            there.id = MachineId(200 + n);
            there.uuid = Uuid::from_u128(2000 + u128::from(n));
            there.name = format!("web-{n}-hilltop");
            there.disks[0].key = Uuid::from_u128(4000 + u128::from(n));
            if let Some(replica) = &mut there.replica {
                replica.of = own.uuid;
                replica.name = own.name.clone();
                replica.disks[0].original = own.disks[0].key;
                replica.disks[0].own = there.disks[0].key;
            }
            e.put(Fact::Machine(Arc::new(own)));
            e.put(Fact::Machine(Arc::new(there)));
        });
    }
    small
}

/// What came of a copy of `db`.
pub(crate) fn proof(came: Came) -> Proof {
    Proof {
        at: NOW.before(HOUR),
        host: "h3".into(),
        copy: "drill-db".into(),
        took: Span::secs(200),
        booted: Span::secs(73),
        came,
        said: String::new(),
        replies: vec![],
        with: vec![],
        picture: None,
    }
}

pub(crate) fn crossing(small: &Small) -> Crossing {
    Crossing::of(&small.view, &small.view.estate.plans[&PLAN], NOW)
}

fn found(small: &Small, rule: Rule, words: &str) -> Option<Finding> {
    let mut all = crossing(small).findings.into_iter();
    all.find(|f| f.rule == rule && f.text.contains(words))
}

fn keep_stage(name: &str, named: &str) -> KeepStage {
    KeepStage {
        row: 0,
        name: name.into(),
        named: named.into(),
        who: "".into(),
        in_turn: false,
        limit: Span::mins(5),
        then: "".into(),
    }
}

fn keep(mut stages: Vec<KeepStage>) -> Keep {
    stages.iter_mut().enumerate().for_each(|(n, s)| s.row = n);
    Keep {
        plan: None,
        name: "harbour".into(),
        way: Some(WAY),
        stages,
        drills: "".into(),
    }
}

fn ask(keep: Keep) -> Proposal {
    Proposal::Plans(plans::Ask::Keep(Box::new(keep)))
}

/// The fields at which it is stopped.
fn at(small: &Small, keep: Keep) -> Vec<String> {
    let said = assessed(small, &ask(keep));
    let fields = stops(&said)
        .iter()
        .filter_map(|f| f.field.clone())
        .collect::<Vec<_>>();
    assert_eq!(
        fields.len(),
        stops(&said).len(),
        "each at a field: {:?}",
        stops(&said)
    );
    fields
}

/// If this fails, what was typed is not what the plan does, or a change of it is not known by its edition.
#[test]
fn a_plan_is_kept_as_it_was_typed_and_each_change_is_another_edition() {
    let mut small = fleet(2);
    let stages = || {
        let first = KeepStage {
            in_turn: true,
            then:
                "confirm the phones are switched\nwait 2 min\nin db run systemctl is-active queue"
                    .into(),
            ..keep_stage("stores", "db")
        };
        let second = KeepStage {
            who: "env=prod".into(),
            ..keep_stage("front", "")
        };
        vec![first, second]
    };
    let said = assessed(&small, &ask(keep(stages())));
    assert!(stops(&said).is_empty(), "{:?}", stops(&said));
    small.begin(said.accept().unwrap());
    let estate = &small.view.estate;
    let kept = estate.plan_named("harbour").unwrap().clone();
    let then = vec![
        Then::Confirm {
            text: "the phones are switched".into(),
        },
        Then::Pause {
            time: Span::mins(2),
        },
        Then::Run {
            machine: MachineId(7),
            command: "systemctl is-active queue".into(),
        },
    ];
    assert_eq!(
        kept.stages[0],
        Stage {
            in_turn: true,
            then,
            ..stage("stores", &[7])
        }
    );
    assert_eq!(
        kept.stages[1].who,
        Some(Expression::read("env=prod").unwrap())
    );
    assert_eq!((kept.edition, kept.changed), (1, NOW));
    let names = |stage: usize| {
        estate.in_plan(&kept)[stage]
            .iter()
            .map(|m| m.name.clone())
            .collect::<Vec<_>>()
    };
    assert_eq!(names(0), ["db"], "who is named");
    assert_eq!(
        names(1),
        ["web-0", "web-1"],
        "the others with the label; db has it too, and is in the first"
    );
    let changed = |stages| Keep {
        plan: Some(kept.id),
        ..keep(stages)
    };
    let same = assessed(&small, &ask(changed(stages())));
    assert_eq!(stops(&same)[0].rule, Rule::Nothing);
    let said = assessed(
        &small,
        &ask(changed(vec![keep_stage("stores", "db web-0")])),
    );
    let told = |words: &str| said.findings().iter().any(|f| f.text.contains(words));
    for words in [
        "Stage front is left out",
        "web-0 is in stage stores",
        "In stage stores: no longer one after",
        "Between stage stores and the next",
    ] {
        assert!(told(words), "{words}: {:?}", said.findings());
    }
    small.begin(said.accept().unwrap());
    assert_eq!(small.view.estate.plans[&kept.id].edition, 2);
}

/// If this fails, somebody keeps a plan that means nothing, or is told at a field that is not the cause.
#[test]
fn what_can_not_be_meant_is_refused_at_its_field() {
    let small = fleet(2);
    type Change = fn(&mut Keep);
    let gone = |k: &mut Keep| {
        k.way = Some(Way {
            pair: PairId(1),
            from: HERE,
        });
    };
    let cases: [(&str, Change); 17] = [
        ("name", |k| k.name = "".into()),
        ("way", |k| k.way = None),
        ("way", gone),
        ("stage-0", |k| k.stages.clear()),
        ("named-0", |k| k.stages[0].named = "nobody".into()),
        ("named-0", |k| k.stages[0].named = "db, db".into()),
        ("named-0", |k| k.stages[0].named = "".into()),
        ("named-1", |k| {
            k.stages.push(keep_stage("two", "web-0 db"));
        }),
        ("stage-1", |k| k.stages.push(keep_stage("all", "web-0"))),
        ("who-0", |k| k.stages[0].who = "env=prod or".into()),
        ("limit-0", |k| k.stages[0].limit = Span::secs(1)),
        ("limit-0", |k| k.stages[0].limit = Span::mins(500)),
        ("then-0", |k| k.stages[0].then = "dance".into()),
        // It is not up by then.
        ("then-0", |k| {
            k.stages[0].then = "in web-0 run true".into();
            k.stages.push(keep_stage("two", "web-0"));
        }),
        ("drills", |k| k.drills = "crew".into()),
        ("drills", |k| k.drills = "crew = nowhere".into()),
        ("then-0", |k| {
            k.stages[0].then = "wait 1 s\n"
                .repeat(limits::BETWEEN.most + 1)
                .as_str()
                .into();
        }),
    ];
    for (field, change) in cases {
        let mut asked = keep(vec![keep_stage("all", "db")]);
        change(&mut asked);
        let asked = Keep {
            stages: keep(asked.stages.clone()).stages,
            ..asked
        };
        assert_eq!(at(&small, asked.clone()), [field], "{asked:?}");
    }
}

/// If this fails, there are as many plans or stages as somebody likes, or two that nobody can tell apart.
#[test]
fn there_are_only_so_many_and_no_two_of_a_name() {
    let one = || vec![keep_stage("all", "db")];
    let mut full = fleet(0);
    for n in 0..limits::PLANS.most {
        let n = n as u64;
        let named = RecoveryPlan {
            id: PlanId(5000 + n),
            name: n.to_string(),
            ..plan(vec![])
        };
        put(&mut full, named);
    }
    assert_eq!(at(&full, keep(one())), ["name"]);
    let mut small = fleet(0);
    let many = 0..=limits::STAGES.most;
    let many = many.map(|n| keep_stage(&n.to_string(), "db")).collect();
    assert_eq!(at(&small, keep(many)), ["stage-0"]);
    put(&mut small, plan(vec![stage("all", &[7])]));
    assert_eq!(at(&small, keep(one())), ["name"]);
}

/// If this fails, a plan that would not work today looks as if it would; or one that would does not.
#[test]
fn what_would_not_work_is_found_before_anybody_needs_it() {
    let mut small = fleet(1);
    put(&mut small, plan(vec![stage("all", &[7, 100])]));
    let fine = crossing(&small);
    assert!(!fine.is_stopped(), "{:?}", fine.findings);
    assert_eq!(fine.oldest(), Some(NOW.before(HOUR)));
    assert!(
        fine.machines()
            .all(|b| b.host.is_some_and(|h| h == HostId(3) || h == HostId(4)))
    );
    // No replica.
    let mut bare = fleet(1);
    put(&mut bare, plan(vec![stage("all", &[7, 100])]));
    on(&mut bare, 200, |m| m.replica = None);
    assert_eq!(
        found(&bare, Rule::Content, "no replica").unwrap().severity,
        Severity::Stop
    );
    // Nothing came over yet.
    let mut empty = fleet(1);
    put(&mut empty, plan(vec![stage("all", &[100])]));
    on(&mut empty, 200, |m| m.snapshots.all.clear());
    assert!(found(&empty, Rule::Content, "nothing was brought over").is_some());
    // Over there already.
    let mut there = fleet(1);
    put(&mut there, plan(vec![stage("all", &[7, 100])]));
    on(&mut there, 100, |m| {
        (m.cluster, m.host) = (Some(ClusterId(902)), Some(HostId(3)))
    });
    let said = found(&there, Rule::Place, "web-0 is not at Quayside").unwrap();
    assert_eq!(said.severity, Severity::Stop);
    // Deleted.
    let mut gone = fleet(1);
    put(&mut gone, plan(vec![stage("all", &[7, 100])]));
    on(&mut gone, 100, |m| m.deleted = Some(NOW));
    assert!(found(&gone, Rule::Exists, "gone or deleted").is_some());
    // No room.
    let mut full = fleet(1);
    put(&mut full, plan(vec![stage("all", &[7, 100])]));
    for id in [20, 200] {
        on(&mut full, id, |m| m.memory.kept = Bytes::gib(400));
        on(&mut full, id, |m| {
            (m.memory.size, m.memory.max) = (Bytes::gib(400), Bytes::gib(400))
        });
    }
    assert!(!crossing(&full).is_stopped(), "one on each host");
    full.alter_host(4, |h| h.hardware.memory = Bytes::gib(64));
    let said = found(&full, Rule::Placement, "no room for").unwrap();
    assert_eq!(said.severity, Severity::Stop);
    // The pair is gone.
    let mut lone = fleet(0);
    put(&mut lone, plan(vec![stage("all", &[7])]));
    lone.alter(|e| e.remove(zastrugi_core::estate::Kind::Pair, PAIR.0));
    assert!(crossing(&lone).is_stopped());
}

/// If this fails, machines that were started under newer software or on better processors are brought over to hosts on which
/// they do not run, and nobody hears of it before.
#[test]
fn a_site_that_offers_less_is_found_beforehand() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("first", &[7])]));
    let as_much = found(&small, Rule::Software, "offer as much");
    assert_eq!(as_much.map(|f| f.severity), Some(Severity::Clear));
    small.alter(|e| {
        let there: Vec<HostId> = e.hosts_in(ClusterId(902)).map(|h| h.id).collect();
        let mut old = Host::clone(&e.hosts[&there[0]]);
        old.software = "4.1.9".into();
        e.put(Fact::Host(Arc::new(old)));
        let mut weak = Cluster::clone(&e.clusters[&ClusterId(902)]);
        weak.cpu_level = PsabiLevel::V1;
        e.put(Fact::Cluster(Arc::new(weak)));
    });
    let older = found(&small, Rule::Software, "older than").unwrap();
    assert_eq!(older.severity, Severity::Mind);
    assert!(older.text.contains("4.1.9"), "{}", older.text);
    assert!(found(&small, Rule::CpuLevel, "offers less").is_some());
    // A plan of machines of another cluster has nothing to do with that one.
    small.alter(|e| {
        let mut db = Machine::clone(&e.machines[&MachineId(7)]);
        db.cluster = Some(ClusterId(99));
        e.put(Fact::Machine(Arc::new(db)));
    });
    assert_eq!(found(&small, Rule::Software, "older than"), None);
}

fn network(id: u64, name: &str, vlan: Option<u16>, cluster: u64) -> Network {
    Network {
        vlan,
        cluster: ClusterId(cluster),
        uplinks: ["guest-1".to_owned()].into(),
        ..testkit::network(NetworkId(id), name)
    }
}

/// With `crew` at both sites, on which `db` is, and `spare`, on which nobody is.
fn wired() -> Small {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("all", &[7])]));
    small.alter(|e| {
        e.put(Fact::Network(Arc::new(network(30, "crew", Some(20), 901))));
        e.put(Fact::Network(Arc::new(network(31, "crew", Some(20), 902))));
        e.put(Fact::Network(Arc::new(network(
            32,
            "spare",
            Some(900),
            902,
        ))));
        let mut p = pair();
        p.ends[1].networks = [(NetworkId(30), NetworkId(31))].into();
        e.put(Fact::Pair(Arc::new(p)));
    });
    let nic = |network| Nic {
        mac: "02:00:00:00:00:01".into(),
        network: Some(NetworkId(network)),
        addresses: vec!["10.0.0.9".parse().unwrap()],
    };
    on(&mut small, 7, |m| m.nics = vec![nic(30)]);
    on(&mut small, 20, |m| m.nics = vec![nic(31)]);
    small
}

/// If this fails, machines come up that nobody hears, or a drill is heard by production.
#[test]
fn networks_lead_where_they_should_and_drills_nowhere() {
    let small = wired();
    assert!(found(&small, Rule::Vlan, "Nobody said").is_none());
    let mut unsaid = wired();
    unsaid.alter(|e| e.put(Fact::Pair(Arc::new(pair()))));
    let said = found(&unsaid, Rule::Vlan, "Nobody said what crew is at Hilltop").unwrap();
    assert_eq!(said.severity, Severity::Stop);
    let drills = |small: &mut Small, stands: u64| {
        let drills = [(NetworkId(31), NetworkId(stands))].into();
        put(
            small,
            RecoveryPlan {
                drills,
                ..plan(vec![stage("all", &[7])])
            },
        );
    };
    let mut good = wired();
    drills(&mut good, 32);
    assert!(found(&good, Rule::Vlan, "no network for drills").is_none());
    let refused = |small: &Small, why: &str| {
        let said = found(small, Rule::Vlan, "no network for drills").unwrap();
        assert!(said.stops() && said.text.contains(why), "{}", said.text);
    };
    let mut same = wired();
    drills(&mut same, 31);
    refused(&same, "come over the pair");
    let mut led = wired();
    drills(&mut led, 32);
    led.alter(|e| {
        let subnets = vec![Subnet {
            net: "10.0.0.0/24".parse().unwrap(),
            gateway: Some("10.0.0.1".parse().unwrap()),
            ranges: vec![],
        }];
        e.put(Fact::Network(Arc::new(Network {
            subnets,
            ..network(32, "spare", Some(900), 902)
        })));
    });
    refused(&led, "10.0.0.1 leads out");
    let mut peopled = wired();
    drills(&mut peopled, 32);
    on(&mut peopled, 20, |m| {
        m.nics[0].network = Some(NetworkId(32))
    });
    refused(&peopled, "db-hilltop is on it");
    let mut shared = wired();
    drills(&mut shared, 32);
    shared.alter(|e| {
        e.put(Fact::Network(Arc::new(network(
            33,
            "office",
            Some(900),
            902,
        ))))
    });
    refused(&shared, "office");
    let mut odd = wired();
    odd.alter(|e| {
        let subnets = vec![Subnet {
            net: "10.9.0.0/24".parse().unwrap(),
            gateway: None,
            ranges: vec![],
        }];
        e.put(Fact::Network(Arc::new(Network {
            subnets,
            ..network(31, "crew", Some(20), 902)
        })));
    });
    let said = found(&odd, Rule::Address, "belong to none of the subnets").unwrap();
    assert!(said.evidence.contains("10.0.0.9"), "{}", said.evidence);
}

fn drilled(edition: u32, age: Span, good: bool) -> Passage {
    Passage {
        id: PassageId(760),
        plan: PLAN,
        name: "harbour".into(),
        edition,
        way: "Quayside to Hilltop".into(),
        kind: PassageKind::Drill,
        run: RunId(5),
        began: NOW.before(age.plus(Span::mins(9))),
        ended: Some(NOW.before(age)),
        left: false,
        stages: vec![Passed {
            name: "all".into(),
            foretold: Span::secs(30),
            began: Some(NOW.before(age.plus(Span::mins(9)))),
            ended: Some(NOW.before(age)),
            machines: vec![zastrugi_core::estate::Arrived {
                machine: MachineId(7),
                name: "db".into(),
                point: AnyPoint::Replicated {
                    replica: REPLICA,
                    session: Uuid::from_u128(1),
                },
                taken: NOW.before(age.plus(HOUR)),
                host: "h3".into(),
                booted: Some(Span::secs(20)),
                good: Some(good),
                said: String::new(),
                equal: None,
            }],
            left_out: vec![],
            then: vec![],
        }],
    }
}

/// If this fails, a plan that was changed since its drill, or whose drill went wrong, looks tried.
#[test]
fn a_drill_counts_for_the_plan_as_it_was_then() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("all", &[7])]));
    let said = |small: &Small| {
        let all = crossing(small).findings;
        all.into_iter().find(|f| f.subject == "drills").unwrap()
    };
    assert_eq!(
        (said(&small).severity, said(&small).text.contains("never")),
        (Severity::Mind, true)
    );
    let with = |p: Passage| {
        let mut small = fleet(0);
        put(&mut small, plan(vec![stage("all", &[7])]));
        small.alter(|e| e.put(Fact::Passage(Arc::new(p))));
        said(&small)
    };
    assert_eq!(
        with(drilled(1, Span::days(2), true)).severity,
        Severity::Clear
    );
    let left = |p: Passage| Passage {
        stages: vec![Passed {
            left_out: vec!["gig".into()],
            ..p.stages[0].clone()
        }],
        ..p
    };
    let some = with(left(drilled(1, Span::days(2), true)));
    assert!(some.text.contains("good end"), "not all was tried");
    let mut grown = fleet(1);
    put(&mut grown, plan(vec![stage("all", &[7, 100])]));
    grown.alter(|e| e.put(Fact::Passage(Arc::new(drilled(1, Span::days(2), true)))));
    assert!(said(&grown).text.contains("without web-0"));
    assert!(
        with(drilled(2, Span::days(2), true))
            .text
            .contains("changed since")
    );
    assert!(
        with(drilled(1, Span::days(2), false))
            .text
            .contains("good end")
    );
    assert!(
        with(drilled(1, Span::days(300), true))
            .text
            .contains("300 days ago")
    );
    let open = Passage {
        ended: None,
        ..drilled(1, Span::days(2), true)
    };
    assert!(with(open).text.contains("never"), "it is not over");
}

/// If this fails, what is foretold of the next time ignores what was measured.
#[test]
fn what_was_measured_is_what_is_foretold() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("all", &[7])]));
    let boots = |small: &Small| {
        crossing(small)
            .machines()
            .next()
            .map(|b| (b.boots, b.measured))
    };
    assert_eq!(boots(&small), Some((Span::secs(15), false)));
    on(&mut small, 20, |m| {
        m.replica.as_mut().unwrap().points[0].proof = Some(Box::new(proof(Came::Up)));
    });
    assert_eq!(boots(&small), Some((Span::secs(73), true)));
    assert_eq!(crossing(&small).time(), Span::secs(74));
}

/// If this fails, a plan goes whose machines are being brought up, or goes by a slip.
#[test]
fn a_plan_is_removed_by_its_name_and_its_reports_stay() {
    let mut small = fleet(0);
    put(&mut small, plan(vec![stage("all", &[7])]));
    small.alter(|e| e.put(Fact::Passage(Arc::new(drilled(1, HOUR, true)))));
    let remove = |typed: &str| {
        Proposal::Plans(plans::Ask::Remove {
            plan: PLAN,
            typed: typed.into(),
        })
    };
    assert_eq!(
        stops(&assessed(&small, &remove("harbor")))[0]
            .field
            .as_deref(),
        Some("typed")
    );
    let mut busy = fleet(0);
    put(&mut busy, plan(vec![stage("all", &[7])]));
    busy.alter(|e| {
        e.put(Fact::Passage(Arc::new(Passage {
            ended: None,
            ..drilled(1, HOUR, true)
        })))
    });
    assert_eq!(
        stops(&assessed(&busy, &remove("harbour")))[0].rule,
        Rule::State
    );
    let said = assessed(&small, &remove("harbour"));
    small.begin(said.accept().unwrap());
    assert!(small.view.estate.plans.is_empty());
    assert_eq!(small.view.estate.passages_of(PLAN).len(), 1);
}
