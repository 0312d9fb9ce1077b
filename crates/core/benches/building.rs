//! How long the consequences of a build sheet take while somebody types: 4 and 64 bare hosts, five networks.
#![expect(
    clippy::print_stdout,
    clippy::disallowed_methods,
    clippy::unwrap_used,
    reason = "a benchmark reads the clock, prints and fails loudly"
)]

#[path = "../tests/all/bare.rs"]
mod bare;
#[path = "shared/mod.rs"]
mod shared;

use shared::measure;
use zastrugi_core::{
    estate::NetRole,
    permits::{Permits, Role},
    rooms::{Proposal, assess, building::Ask},
};

fn main() {
    for hosts in [4, 64] {
        let mut build = bare::build(hosts);
        let crew = build.networks[1].clone();
        for (n, role) in [
            (3u16, NetRole::Storage),
            (4, NetRole::Migration),
            (5, NetRole::Guest),
        ] {
            let mut network = crew.clone();
            network.name = format!("net-{n}").into();
            network.role = role;
            network.vlan = Some(20 + n);
            build.networks.push(network);
        }
        let small = bare::told(&build, |_, _| {});
        let ask = Proposal::Building(Ask::Build(Box::new(build)));
        let permits = Permits::of(Role::Admin);
        let said = assess(&small.view, &permits, &ask, small.now);
        assert!(!said.blocked(), "{:?}", said.findings());
        println!(
            "{hosts} hosts, {} steps, foretold {}",
            said.steps().len(),
            said.time()
        );
        measure(&format!("assess the build of {hosts} hosts"), 100, || {
            std::hint::black_box(assess(&small.view, &permits, &ask, small.now));
        });
    }
}
