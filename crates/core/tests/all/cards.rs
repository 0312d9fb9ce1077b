//! The addresses of new machines' cards.

use crate::put;
use zastrugi_core::{
    ids::ClusterId,
    macs::MacRange,
    rooms::{Proposal, machines::Ask},
    testkit::{machines, read},
};

/// If this fails, machines get addresses of somebody else's range, or two of them the same.
#[test]
fn they_are_of_the_range_that_is_set_and_each_is_given_once() {
    let mut small = read("cluster eider careless\nhost 1 2048");
    small.view.macs = "02:5a:10".parse::<MacRange>().unwrap();
    let ask = Proposal::Machines(Ask::Create(Box::new(machines(
        "web-{01}",
        40,
        Some(ClusterId(901)),
        4,
    ))));
    let accepted = put(&small, &ask).accept().unwrap();
    small.begin(accepted);
    let all = small.view.estate.machines.values();
    let mut macs: Vec<&str> = all
        .flat_map(|m| m.nics.iter().map(|n| n.mac.as_str()))
        .collect();
    assert!(macs.iter().all(|m| m.starts_with("02:5a:10:")), "{macs:?}");
    let count = macs.len();
    macs.sort_unstable();
    macs.dedup();
    assert_eq!((macs.len(), count >= 40), (count, true));
}
