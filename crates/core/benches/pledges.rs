//! How long all promises of 20,000 machines take, and those that a change can touch.
#![expect(
    clippy::print_stdout,
    clippy::unwrap_used,
    clippy::disallowed_methods,
    reason = "a benchmark reads the clock and prints"
)]

#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use std::{collections::BTreeSet, hint::black_box, sync::Arc};
use zastrugi_core::{
    estate::{
        Array, Backing, Clauses, Estate, Fact, Machine, Offers, Pledge, Point, Served, Service,
        Snaps, Taker, Volume,
    },
    expression::Expression,
    ids::{ArrayId, MachineId, PledgeId, SiteId},
    moment::{Moment, Span},
    pledges::{Promises, Standing},
    testkit::{self, large, read},
};

const NOW: Moment = Moment(1_000_000_000_000);

/// Every machine has three labels; ten pledges, of which each machine has three or four.
fn estate() -> Estate {
    let mut estate = Estate::clone(&read(&large(20_000, 8)).view.estate);
    let array = ArrayId(900_000);
    let volumes: Vec<_> = estate.volumes.values().cloned().collect();
    let service = Service {
        class: "Gold".into(),
        latency_us: Some(400),
        spare: Some(2),
        snapshots: Some(Snaps {
            every: Span::mins(60),
            keep: Some(Span::days(2)),
        }),
        remote: None,
    };
    let served = |v: &Arc<Volume>| {
        let served = Served {
            service: service.clone(),
            group: None,
            since: NOW,
            before: None,
        };
        (v.id, served)
    };
    estate.put(Fact::Array(Arc::new(Array {
        served: volumes.iter().map(served).collect(),
        ..testkit::array(array, "basalt", SiteId(900))
    })));
    for volume in volumes {
        let mut v = Volume::clone(&volume);
        v.backing = Some(Backing {
            array,
            lun: v.id.0.to_string(),
            pool: "fast".into(),
        });
        estate.put(Fact::Volume(Arc::new(v)));
    }
    labelled(&mut estate);
    (0..10).for_each(|n| estate.put(pledge(n)));
    estate
}

fn labelled(estate: &mut Estate) {
    let machines: Vec<_> = estate.machines.values().cloned().collect();
    for machine in machines {
        let mut m = Machine::clone(&machine);
        let n = m.id.0;
        let env = if n.is_multiple_of(5) { "test" } else { "prod" };
        m.labels.insert("env".into(), env.into());
        m.labels.insert("app".into(), format!("app-{}", n % 200));
        m.labels.insert("owner".into(), format!("team-{}", n % 7));
        estate.put(Fact::Machine(Arc::new(m)));
    }
}

fn pledge(n: u64) -> Fact {
    let to = match n {
        0 => "not env=test".to_owned(),
        1 => "env=prod and not (app=app-3 or app=app-7)".to_owned(),
        n => format!("owner=team-{} or app=app-{n}", n - 2),
    };
    Fact::Pledge(Arc::new(Pledge {
        id: PledgeId(910_000 + n),
        name: format!("pledge {n}"),
        note: String::new(),
        to: Some(Expression::read(&to).unwrap()),
        clauses: Clauses {
            storage: Some(Offers {
                qualities: BTreeSet::new(),
                latency_us: Some(500),
                spare: Some(1),
            }),
            point: Some(Point {
                every: Span::mins(60 * (n + 1)),
                taker: Taker::Any,
                quiet: false,
            }),
            kept: Some(Span::days(1)),
            tier: Some(4),
            ..Clauses::default()
        },
    }))
}

fn main() {
    let estate = Arc::new(estate());
    let all = Promises::all(&estate, NOW);
    println!(
        "{} machines, {} pledges, {} machines have one, {} of them kept; one core",
        estate.machines.len(),
        estate.pledges.len(),
        all.len(),
        all.count(Standing::Kept)
    );
    measure("every promise, judged anew", 20, || {
        black_box(Promises::all(&estate, NOW));
    });
    let mut n = 0;
    measure("after one machine changed", 200, || {
        n += 1;
        let mut next = Estate::clone(&estate);
        let id = MachineId(2001 + n);
        let mut m = Machine::clone(&estate.machines[&id]);
        m.tier = 1;
        next.put(Fact::Machine(Arc::new(m)));
        black_box(all.then(&Arc::new(next), NOW));
    });
    let busiest = estate
        .volumes
        .keys()
        .max_by_key(|v| estate.machines_with_disk_on(**v).count())
        .unwrap();
    let on = estate.machines_with_disk_on(*busiest).count();
    measure(
        &format!("after a volume with {on} machines changed"),
        50,
        || {
            let mut next = Estate::clone(&estate);
            let mut v = Volume::clone(&estate.volumes[busiest]);
            v.qualities.insert("fast".into());
            next.put(Fact::Volume(Arc::new(v)));
            black_box(all.then(&Arc::new(next), NOW));
        },
    );
}
