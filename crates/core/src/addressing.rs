//! Addresses by CIDR (RFC 4632, RFC 4291): what a subnet and its ranges must obey, and the next free one
//! (rules, section 7).

use crate::{
    estate::{AddressRange, Network, Part, REST, Subnet},
    moment::Moment,
};
use ipnet::IpNet;
use std::{
    collections::BTreeSet,
    net::{IpAddr, Ipv4Addr, Ipv6Addr},
};

/// A word about a field: which, and what is wrong.
pub type Wrong = (&'static str, String);

/// Network and broadcast address, where there are any: /31, /32 and IPv6 have none.
pub fn unusable(net: &IpNet) -> Vec<IpAddr> {
    match net {
        IpNet::V4(v4) if v4.prefix_len() <= 30 => {
            vec![IpAddr::V4(v4.network()), IpAddr::V4(v4.broadcast())]
        }
        _ => vec![],
    }
}

/// Why an address can't be given to a guest's card, or kept for a guest that is not ours; whether somebody has it is
/// another question.
///
/// # Errors
/// Words for the person who typed it.
pub fn usable(network: &Network, address: IpAddr) -> Result<(), String> {
    let name = &network.name;
    let Some(subnet) = network.subnets.iter().find(|s| s.net.contains(&address)) else {
        let family = |v4: bool| if v4 { "IPv4" } else { "IPv6" };
        let same = network
            .subnets
            .iter()
            .any(|s| s.net.addr().is_ipv4() == address.is_ipv4());
        return Err(match (same, network.subnets.first()) {
            (false, Some(other)) => format!(
                "{address} is {}; {name} has only {}.",
                family(address.is_ipv4()),
                family(other.net.addr().is_ipv4())
            ),
            _ => format!("{address} is in no subnet of {name}."),
        });
    };
    let net = subnet.net;
    if unusable(&net).contains(&address) {
        let what = if address == net.network() {
            "network"
        } else {
            "broadcast"
        };
        return Err(format!("{address} is the {what} address of {net}."));
    }
    if subnet.gateway == Some(address) {
        return Err(format!("{address} is the gateway of {net}."));
    }
    Ok(())
}

/// Why an address is not for guests: it lies in a range that is for something else.
///
/// # Errors
/// Words for the person who typed it.
pub fn for_guests(network: &Network, address: IpAddr) -> Result<(), String> {
    usable(network, address)?;
    let mut ranges = network.subnets.iter().flat_map(|s| &s.ranges);
    match ranges.find(|r| r.part != Part::Guests && r.contains(address)) {
        Some(range) => Err(format!(
            "{address} is in {}–{}, which is for {}.",
            range.first,
            range.last,
            range.part.word()
        )),
        None => Ok(()),
    }
}

/// The addresses of a range, up to `most`.
///
/// # Errors
/// Words where there are more.
pub fn each(range: &AddressRange, most: usize) -> Result<Vec<IpAddr>, String> {
    let mut all = Vec::new();
    let mut at = Some(range.first).filter(|first| *first <= range.last);
    while let Some(address) = at {
        if all.len() == most {
            return Err(format!(
                "{}–{} has more than {most} addresses.",
                range.first, range.last
            ));
        }
        all.push(address);
        at = next(address).filter(|a| *a <= range.last);
    }
    Ok(all)
}

/// How many addresses the guests' ranges of a subnet have; those of IPv6 can be more than a machine can count to.
pub fn room(subnet: &Subnet) -> u128 {
    let size = |r: &AddressRange| match (r.first, r.last) {
        (IpAddr::V4(a), IpAddr::V4(b)) => u128::from(u32::from(b).saturating_sub(u32::from(a))) + 1,
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            let less = u128::from(b).saturating_sub(u128::from(a));
            less.saturating_add(1)
        }
        _ => 0,
    };
    let guests = subnet.ranges.iter().filter(|r| r.part == Part::Guests);
    guests.map(size).fold(0, u128::saturating_add)
}

/// How many of those addresses lie in the guests' ranges of a subnet.
pub fn held(subnet: &Subnet, addresses: &BTreeSet<IpAddr>) -> usize {
    let guests = subnet.ranges.iter().filter(|r| r.part == Part::Guests);
    let guests: Vec<_> = guests.collect();
    let within = |a: &&IpAddr| guests.iter().any(|r| r.contains(**a));
    addresses.iter().filter(within).count()
}

/// What is wrong with a subnet on its own.
pub fn check(subnet: &Subnet) -> Vec<Wrong> {
    let net = subnet.net;
    let mut wrong = Vec::new();
    if net.addr() != net.network() {
        let words = format!("{net} has host bits; the subnet is {}.", net.trunc());
        wrong.push(("subnet", words));
    }
    let never = unusable(&net);
    if let Some(gateway) = subnet.gateway {
        if !net.contains(&gateway) {
            wrong.push(("gateway", format!("{gateway} is not in {net}.")));
        } else if never.contains(&gateway) {
            let words = format!("{gateway} is the network or broadcast address of {net}.");
            wrong.push(("gateway", words));
        }
    }
    for (i, range) in subnet.ranges.iter().enumerate() {
        if let Some(words) = bad_range(subnet, &never, range) {
            wrong.push(("ranges", words));
        }
        if let Some(other) = subnet.ranges[..i].iter().find(|r| r.overlaps(range)) {
            let (a, b) = (range, other);
            let words = format!("{}–{} overlaps {}–{}.", a.first, a.last, b.first, b.last);
            wrong.push(("ranges", words));
        }
    }
    wrong
}

fn bad_range(subnet: &Subnet, never: &[IpAddr], range: &AddressRange) -> Option<String> {
    let words = format!("{}–{}", range.first, range.last);
    let net = subnet.net;
    if range.first > range.last {
        return Some(format!("{words}: the first is above the last."));
    }
    if !net.contains(&range.first) || !net.contains(&range.last) {
        return Some(format!("{words} is not wholly in {net}."));
    }
    if let Some(bad) = never.iter().find(|a| range.contains(**a)) {
        return Some(format!(
            "{words} holds {bad}, the network or broadcast address."
        ));
    }
    let gateway = subnet.gateway.filter(|g| range.contains(*g))?;
    Some(format!("{words} holds the gateway {gateway}."))
}

/// Reads `10.2.0.10-10.2.0.99`, `10.2.0.10-99` or a single address.
///
/// # Errors
/// Words for the person who typed it.
pub fn range(text: &str, part: Part) -> Result<AddressRange, String> {
    let wrong = || format!("“{text}” is not a range such as 10.2.0.10-10.2.0.99.");
    let (first, last) = text.split_once('-').unwrap_or((text, text));
    let first: IpAddr = first.trim().parse().map_err(|_| wrong())?;
    let last = match (last.trim().parse::<IpAddr>(), first) {
        (Ok(last), _) => last,
        (Err(_), IpAddr::V4(v4)) => {
            let end: u8 = last.trim().parse().map_err(|_| wrong())?;
            let [a, b, c, _] = v4.octets();
            IpAddr::V4(Ipv4Addr::new(a, b, c, end))
        }
        (Err(_), IpAddr::V6(_)) => return Err(wrong()),
    };
    if first.is_ipv4() != last.is_ipv4() {
        return Err(wrong());
    }
    Ok(AddressRange { first, last, part })
}

/// The address after this one; none after the last.
fn next(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(a) => {
            let n = u32::from(a).checked_add(1)?;
            Some(IpAddr::V4(Ipv4Addr::from(n)))
        }
        IpAddr::V6(a) => {
            let n = u128::from(a).checked_add(1)?;
            Some(IpAddr::V6(Ipv6Addr::from(n)))
        }
    }
}

/// The lowest address of the guests' ranges that nobody has, that is not kept, and that was not given up in the last
/// seven days. One for each subnet that has such ranges; words where they are used up.
///
/// O(addresses taken), not O(size of the range).
pub fn next_free(
    network: &Network,
    taken: &BTreeSet<IpAddr>,
    now: Moment,
) -> Vec<Result<IpAddr, String>> {
    lowest_free(network, Part::Guests, taken, now)
}

/// The same in the ranges that are for something else.
pub fn lowest_free(
    network: &Network,
    part: Part,
    taken: &BTreeSet<IpAddr>,
    now: Moment,
) -> Vec<Result<IpAddr, String>> {
    let resting = |a: &IpAddr| {
        let since = network.released.get(a);
        since.is_some_and(|since| now.since(*since) < REST)
    };
    let free = |a: &IpAddr| !taken.contains(a) && !network.reserved.contains_key(a) && !resting(a);
    let mut found = Vec::new();
    for subnet in &network.subnets {
        let meant = subnet.ranges.iter().filter(|r| r.part == part);
        let mut ranges: Vec<_> = meant.collect();
        ranges.sort();
        if ranges.is_empty() {
            continue;
        }
        let lowest = ranges.iter().find_map(|range| {
            let mut at = range.first;
            while !free(&at) {
                at = next(at).filter(|a| *a <= range.last)?;
            }
            Some(at)
        });
        found.push(lowest.ok_or_else(|| {
            format!(
                "No address for {} is free in {} of {}.",
                match part {
                    Part::Hosts => "hosts",
                    Part::Virtual => "fronts",
                    Part::Guests => "guests",
                },
                subnet.net,
                network.name
            )
        }));
    }
    found
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{
        estate::{NetRole, Reservation},
        ids::{ClusterId, NetworkId},
        moment::Span,
    };
    use proptest::prelude::*;
    use std::collections::BTreeMap;

    fn subnet(net: &str, gateway: &str, ranges: &[&str]) -> Subnet {
        Subnet {
            net: net.parse().unwrap(),
            gateway: gateway.parse().ok(),
            ranges: ranges
                .iter()
                .map(|r| range(r, Part::Guests).unwrap())
                .collect(),
        }
    }

    fn wrong(net: &str, gateway: &str, ranges: &[&str]) -> Vec<String> {
        let all = check(&subnet(net, gateway, ranges)).into_iter();
        all.map(|(field, words)| format!("{field}: {words}"))
            .collect()
    }

    proptest! {
        /// The room of ranges is the number of addresses that one counts in them one by one.
        #[test]
        fn the_room_of_ranges_is_what_one_counts(first in 2u8..100, more in 0u8..100) {
            let words = format!("10.2.0.{first}-{}", first + more);
            let net = subnet("10.2.0.0/24", "10.2.0.1", &[&words, "10.2.0.250"]);
            let counted: usize = net.ranges.iter().map(|r| each(r, 1000).unwrap().len()).sum();
            prop_assert_eq!(room(&net), counted as u128);
            let all = (0..=255u8).map(|n| IpAddr::from([10, 2, 0, n])).collect();
            prop_assert_eq!(held(&net, &all), counted);
        }
    }

    #[test]
    fn what_does_not_fit_a_subnet_is_said_at_its_field() {
        let none: [&str; 0] = [];
        assert_eq!(wrong("10.2.0.0/24", "10.2.0.1", &["10.2.0.10-99"]), none);
        assert_eq!(
            wrong("10.2.0.7/24", "", &[]),
            ["subnet: 10.2.0.7/24 has host bits; the subnet is 10.2.0.0/24."]
        );
        assert_eq!(
            wrong("10.2.0.0/24", "10.3.0.1", &[]),
            ["gateway: 10.3.0.1 is not in 10.2.0.0/24."]
        );
        for (gateway, ranges, word) in [
            ("10.2.0.255", &[][..], "broadcast"),
            ("", &["10.2.0.200-10.2.1.9"], "not wholly in"),
            ("", &["10.2.0.0-10.2.0.9"], "network or broadcast"),
            ("10.2.0.5", &["10.2.0.1-10.2.0.9"], "gateway"),
            ("", &["10.2.0.9-10.2.0.2"], "above"),
            ("", &["10.2.0.2-10.2.0.9", "10.2.0.9-20"], "overlaps"),
        ] {
            let said = wrong("10.2.0.0/24", gateway, ranges);
            assert!(said[0].contains(word), "{said:?}");
        }
    }

    #[test]
    fn the_smallest_subnets_and_ipv6_have_no_broadcast() {
        for (net, gateway, range) in [
            ("10.2.0.0/31", "", "10.2.0.0-10.2.0.1"),
            ("10.2.0.9/32", "", "10.2.0.9"),
            (
                "2001:db8:1::/64",
                "2001:db8:1::1",
                "2001:db8:1::10-2001:db8:1::ffff",
            ),
            ("2001:db8:1::/64", "", "2001:db8:1::-2001:db8:1::1"),
        ] {
            assert_eq!(wrong(net, gateway, &[range]), Vec::<String>::new(), "{net}");
        }
    }

    #[test]
    fn ranges_are_read_as_people_type_them() {
        let read = |text| range(text, Part::Guests);
        assert_eq!(read("10.2.0.10-99"), read("10.2.0.10 - 10.2.0.99"));
        for bad in [
            "",
            "10.2.0",
            "10.2.0.1-x",
            "10.2.0.1-300",
            "10.2.0.1-2001:db8::1",
            "::1-9x",
        ] {
            assert!(read(bad).is_err(), "{bad}");
        }
    }

    fn network(ranges: &[&str]) -> Network {
        Network {
            id: NetworkId(1),
            name: "crew".into(),
            cluster: ClusterId(1),
            role: NetRole::Guest,
            vlan: Some(20),
            mtu: 1500,
            subnets: vec![subnet("10.2.0.0/24", "10.2.0.1", ranges)],
            uplinks: BTreeSet::new(),
            reserved: BTreeMap::new(),
            released: BTreeMap::new(),
            ready: true,
            note: String::new(),
        }
    }

    fn ip(n: u8) -> IpAddr {
        IpAddr::V4(Ipv4Addr::new(10, 2, 0, n))
    }

    #[test]
    fn an_address_that_was_given_up_rests_seven_days() {
        let mut net = network(&["10.2.0.10-10.2.0.12"]);
        let day = |n| Moment(0).plus(Span::days(n));
        net.released.insert(ip(10), day(1));
        let free = |net: &Network, now| next_free(net, &BTreeSet::from([ip(11)]), now).remove(0);
        assert_eq!(free(&net, day(2)), Ok(ip(12)));
        assert_eq!(free(&net, day(8)), Ok(ip(10)), "seven days later");
        let kept = Reservation {
            what: "printer".into(),
            since: day(0),
        };
        net.reserved.insert(ip(12), kept);
        let none = free(&net, day(2)).unwrap_err();
        assert!(none.contains("No address for guests is free"));
    }

    proptest! {
        /// Against the plain way: walk all addresses of the ranges in order.
        #[test]
        fn the_next_free_is_the_lowest_that_nobody_has(
            starts in prop::collection::btree_set(2u8..250, 1..4),
            taken in prop::collection::btree_set(2u8..250, 0..80),
        ) {
            let ranges: Vec<String> = starts.iter().map(|s| format!("10.2.0.{s}-{}", s + 3)).collect();
            let net = network(&ranges.iter().map(String::as_str).collect::<Vec<_>>());
            let taken: BTreeSet<IpAddr> = taken.iter().map(|n| ip(*n)).collect();
            let naive = (0u8..=255)
                .map(ip)
                .find(|a| net.subnets[0].ranges.iter().any(|r| r.contains(*a)) && !taken.contains(a));
            prop_assert_eq!(next_free(&net, &taken, Moment(0)).remove(0).ok(), naive);
        }
    }
}
