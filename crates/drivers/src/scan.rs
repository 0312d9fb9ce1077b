//! Address ranges to look for hosts in: at most 4,096 addresses.

use crate::networks::{AGENT_PORT, BMC_PORT, Networks, NotAllowed};
use ipnet::{IpAddrRange, IpNet, Ipv4AddrRange, Ipv6AddrRange};
use std::net::{IpAddr, SocketAddr};
use zastrugi_core::limits;

/// The most addresses of one scan.
const MOST: usize = limits::SCAN.most;

/// A range as a person types it: `10.1.2.0/24`, `10.1.2.11-10.1.2.30`, `10.1.2.11-30`, a single address, or several of these with
/// commas between.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range(Vec<IpAddr>);

#[derive(Debug, Clone, thiserror::Error, PartialEq, Eq)]
pub enum RangeError {
    #[error("“{0}” is not a range; type 10.1.2.0/24, 10.1.2.11-30 or one address.")]
    NotARange(String),
    #[error(
        "{0} addresses are too many; a scan covers at most {MOST}. Choose a smaller range, such as a /24."
    )]
    TooMany(String),
    #[error("The range ends before it begins.")]
    Backwards,
    #[error("{0}.")]
    NotAllowed(#[from] NotAllowed),
}

impl std::str::FromStr for Range {
    type Err = RangeError;

    fn from_str(text: &str) -> Result<Range, RangeError> {
        let mut all = Vec::new();
        for part in text.split([',', '\n']) {
            all.extend(part_of(part)?);
            if all.len() > MOST {
                return Err(RangeError::TooMany(format!("More than {MOST}")));
            }
        }
        Ok(Range(all))
    }
}

fn part_of(text: &str) -> Result<Vec<IpAddr>, RangeError> {
    let text = text.trim();
    let wrong = || RangeError::NotARange(text.chars().take(60).collect());
    let range: IpAddrRange = if let Ok(net) = text.parse::<IpNet>() {
        let bits = net.max_prefix_len() - net.prefix_len();
        if bits > 12 {
            return Err(RangeError::TooMany(if bits < 40 {
                (1u64 << bits).to_string()
            } else {
                format!("2^{bits}")
            }));
        }
        net.hosts()
    } else {
        let (from, to) = text.split_once('-').unwrap_or((text, text));
        let from: IpAddr = from.trim().parse().map_err(|_| wrong())?;
        let to = end(from, to.trim()).ok_or_else(wrong)?;
        between(from, to)?
    };
    let all: Vec<IpAddr> = range.take(MOST + 1).collect();
    if all.len() > MOST {
        return Err(RangeError::TooMany(format!("More than {MOST}")));
    }
    if all.is_empty() {
        Err(RangeError::Backwards)
    } else {
        Ok(all)
    }
}

/// The end of a range: a whole address, or only its last number.
fn end(from: IpAddr, text: &str) -> Option<IpAddr> {
    if let Ok(address) = text.parse() {
        return Some(address);
    }
    match (from, text.parse::<u8>()) {
        (IpAddr::V4(v4), Ok(last)) => {
            let [a, b, c, _] = v4.octets();
            Some(IpAddr::from([a, b, c, last]))
        }
        _ => None,
    }
}

fn between(from: IpAddr, to: IpAddr) -> Result<IpAddrRange, RangeError> {
    match (from, to) {
        (IpAddr::V4(a), IpAddr::V4(b)) if a <= b => Ok(Ipv4AddrRange::new(a, b).into()),
        (IpAddr::V6(a), IpAddr::V6(b)) if a <= b => Ok(Ipv6AddrRange::new(a, b).into()),
        _ => Err(RangeError::Backwards),
    }
}

/// The agents' addresses in the range, all of them inside the management networks.
///
/// # Errors
/// [`RangeError::NotAllowed`] at the first that is outside.
pub fn addresses(range: &Range, networks: &Networks) -> Result<Vec<String>, RangeError> {
    at_port(range, networks, AGENT_PORT)
}

/// The same, of management controllers.
///
/// # Errors
/// [`RangeError::NotAllowed`] at the first that is outside.
pub fn controllers(range: &Range, networks: &Networks) -> Result<Vec<String>, RangeError> {
    at_port(range, networks, BMC_PORT)
}

fn at_port(range: &Range, networks: &Networks, port: u16) -> Result<Vec<String>, RangeError> {
    let at = |ip: &IpAddr| SocketAddr::new(*ip, port).to_string();
    range
        .0
        .iter()
        .map(|ip| {
            networks
                .check(&at(ip))
                .map(|a| a.to_string())
                .map_err(RangeError::from)
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn ranges_are_read_as_people_type_them() {
        let count = |text: &str| text.parse::<Range>().map(|r| r.0.len());
        assert_eq!(count("10.1.2.0/24"), Ok(254));
        assert_eq!(count("10.1.2.11-30"), Ok(20));
        assert_eq!(count("10.1.2.11 - 10.1.3.10"), Ok(256));
        assert_eq!(count("10.1.2.7"), Ok(1));
        assert_eq!(count("10.1.2.7/32"), Ok(1));
        assert_eq!(count("fd00::/120"), Ok(256));
        assert_eq!(count("10.1.2.30-11"), Err(RangeError::Backwards));
        assert!(matches!(count("10.0.0.0/8"), Err(RangeError::TooMany(n)) if n == "16777216"));
        assert!(matches!(count("fd00::/8"), Err(RangeError::TooMany(_))));
        assert!(matches!(count("ten"), Err(RangeError::NotARange(_))));
        assert!(matches!(count(""), Err(RangeError::NotARange(_))));
    }

    #[test]
    fn a_scan_stays_inside_the_management_networks() {
        let nets = Networks::parse("10.1.2.0/28").unwrap();
        assert_eq!(
            addresses(&"10.1.2.4-5".parse().unwrap(), &nets).unwrap(),
            ["10.1.2.4:7443", "10.1.2.5:7443"]
        );
        assert!(matches!(
            addresses(&"10.1.2.10-20".parse().unwrap(), &nets),
            Err(RangeError::NotAllowed(_))
        ));
    }
}
