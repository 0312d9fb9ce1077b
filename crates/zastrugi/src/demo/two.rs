//! Two sites with a manager each.

use crate::args::{Database, Demo, Serve};
use std::net::{IpAddr, Ipv4Addr};

/// The second manager, on a copy of the first one's database.
pub(super) fn stand_by(args: &Demo, first: &Serve) -> Option<Serve> {
    let database = args.stand_by_database.clone()?;
    Some(Serve {
        database: Database { database },
        // A host of its own, as far as browsers can tell: who signs in here stays signed in there.
        address: IpAddr::V4(Ipv4Addr::new(127, 0, 0, 2)),
        port: args.port + 1,
        key_file: args.dir.join("stand-by.key"),
        stand_by: true,
        ..first.clone()
    })
}
