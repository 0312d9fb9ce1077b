//! The hosts of a build sheet: each with what its controller says, its name and its own address. What nobody typed in a row is
//! the next of its pattern.

use super::expand::Into;
use crate::{
    frame::{Fields, consequences::Wrong},
    places::hosts::grouped,
};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use zastrugi_core::{
    endpoint::Endpoint,
    evidence::{Answer, Probe},
    ids::SecretRef,
    names,
    rooms::installing::BareHost,
    units::Bytes,
    view::View,
};

pub(super) struct HostRow {
    pub(super) at: String,
    pub(super) pin: String,
    pub(super) shown_pin: String,
    pub(super) take: bool,
    /// What was found beneath; empty before anybody looked.
    pub(super) hardware: String,
    pub(super) serial: String,
    pub(super) maker: String,
    pub(super) disks: String,
    pub(super) on: bool,
    /// As typed, and as the pattern has it.
    pub(super) name: String,
    pub(super) usual_name: String,
    pub(super) address: String,
    pub(super) usual_address: String,
    pub(super) erase: bool,
    /// Where it stands; empty: where the sheet says.
    pub(super) site: String,
}

fn first<'a>(typed: &'a str, usual: &'a str) -> &'a str {
    if typed.is_empty() { usual } else { typed }
}

impl HostRow {
    pub(super) fn ask(&self) -> BareHost {
        BareHost {
            controller: Endpoint {
                address: (&self.at).into(),
                pin: (&self.pin).into(),
            },
            name: first(&self.name, &self.usual_name).into(),
            address: first(&self.address, &self.usual_address).into(),
            overwrite: self.erase,
            site: (&self.site).into(),
        }
    }
    /// The name and the address that it shall have, where they can be ones.
    pub(super) fn named(&self) -> Option<(String, IpAddr)> {
        let name = first(&self.name, &self.usual_name).trim();
        names::check(name).ok()?;
        let address = first(&self.address, &self.usual_address).trim();
        Some((name.to_owned(), address.parse().ok()?))
    }
    /// The address that it shall have, with the agent's port.
    pub(super) fn agent(&self) -> Option<String> {
        let ip: IpAddr = first(&self.address, &self.usual_address).parse().ok()?;
        Some(std::net::SocketAddr::new(ip, 7443).to_string())
    }
}

/// Where names and addresses begin until somebody says otherwise.
pub(super) struct Usual {
    pub(super) pattern: String,
    pub(super) from: String,
    pub(super) time: String,
}

impl Usual {
    /// Behind those of the cluster that they join; else named after the one that they make.
    pub(super) fn of(fields: &Fields, into: Option<&Into>) -> Usual {
        match into {
            Some(into) => Usual {
                pattern: into.pattern.clone(),
                from: into.first.clone(),
                time: into.time.join(" "),
            },
            None => Usual {
                pattern: usual_pattern(fields),
                from: String::new(),
                time: String::new(),
            },
        }
    }
}

/// With what the hosts are looked at.
pub(super) struct Looked<'a> {
    pub(super) user: &'a str,
    pub(super) kept: Option<SecretRef>,
    pub(super) usual: &'a Usual,
}

/// From the cluster's name, until somebody says otherwise.
fn usual_pattern(fields: &Fields) -> String {
    let name: String = fields.get("name").trim().to_lowercase();
    let plain: String = name
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .collect();
    if plain.is_empty() {
        return String::new();
    }
    format!("{plain}-{{01}}")
}

pub(super) fn rows(
    view: &View,
    fields: &Fields,
    looked: &Looked<'_>,
    wrong: &mut Vec<Wrong>,
) -> Vec<HostRow> {
    let (user, kept) = (looked.user, looked.kept);
    let all: Vec<String> = fields.all("at").map(str::to_owned).collect();
    let taken: Vec<&str> = fields.all("take").collect();
    // A first look takes all that it found.
    let takes = |at: &str| !fields.has("rows") || taken.contains(&at);
    let count = all.iter().filter(|at| takes(at)).count();
    let pattern = first(fields.get("pattern"), &looked.usual.pattern);
    let mut names = usual_names(pattern, count, wrong).into_iter();
    let from = first(fields.get("from"), &looked.usual.from);
    let mut next = usual_addresses(from, count, wrong).into_iter();
    let mut row = |at: String| {
        let pin = fields.get(&format!("pin:{at}")).to_owned();
        let take = takes(&at);
        let beneath = kept.and_then(|password| {
            let probe = Probe::Beneath {
                address: at.clone(),
                pin: pin.clone(),
                user: user.to_owned(),
                password,
            };
            match view.evidence.answers.get(&probe).map(|e| &e.answer) {
                Some(Answer::Beneath(beneath)) => Some(beneath.clone()),
                _ => None,
            }
        });
        let typed = |what: &str| fields.get(&format!("{what}:{at}")).to_owned();
        let usual = |from: &mut dyn Iterator<Item = String>| {
            if take {
                from.next().unwrap_or_default()
            } else {
                String::new()
            }
        };
        HostRow {
            shown_pin: grouped(&pin),
            take,
            hardware: beneath.as_ref().map_or_else(String::new, |b| {
                let all = format!("{} {} · {} cores · {}", b.maker, b.model, b.cores, b.memory);
                let of_disks: Bytes = b.drives.iter().map(|d| d.size).sum();
                match b.drives.len() {
                    0 => all,
                    1 => format!("{all} · a disk of {of_disks}"),
                    n => format!("{all} · {n} disks, {of_disks}"),
                }
            }),
            serial: beneath
                .as_ref()
                .map_or_else(String::new, |b| b.serial.clone()),
            maker: beneath
                .as_ref()
                .map_or_else(String::new, |b| b.maker.clone()),
            disks: beneath
                .as_ref()
                .map_or_else(String::new, |b| b.disks.join(", ")),
            on: beneath.as_ref().is_some_and(|b| b.on),
            name: typed("name"),
            usual_name: usual(&mut names),
            address: typed("address"),
            usual_address: usual(&mut next),
            erase: fields.has(&format!("erase:{at}")),
            site: typed("site"),
            pin,
            at,
        }
    };
    all.into_iter().map(&mut row).collect()
}

fn usual_names(pattern: &str, count: usize, wrong: &mut Vec<Wrong>) -> Vec<String> {
    let count = u32::try_from(count).unwrap_or(u32::MAX);
    if pattern.is_empty() || count == 0 {
        return vec![];
    }
    names::spread(pattern, count).unwrap_or_else(|words| {
        wrong.push(("pattern".into(), words));
        vec![]
    })
}

/// The addresses from the first one on.
fn usual_addresses(first: &str, count: usize, wrong: &mut Vec<Wrong>) -> Vec<String> {
    if first.is_empty() {
        return vec![];
    }
    let after = |ip: IpAddr, n: usize| -> Option<IpAddr> {
        match ip {
            IpAddr::V4(v4) => {
                let next = u32::from(v4).checked_add(u32::try_from(n).ok()?)?;
                Some(Ipv4Addr::from(next).into())
            }
            IpAddr::V6(v6) => {
                let next = u128::from(v6).checked_add(u128::try_from(n).ok()?)?;
                Some(Ipv6Addr::from(next).into())
            }
        }
    };
    match first.parse::<IpAddr>() {
        Ok(ip) => (0..count)
            .filter_map(|n| after(ip, n))
            .map(|ip| ip.to_string())
            .collect(),
        Err(_) => {
            wrong.push(("from".into(), format!("“{first}” is no address.")));
            vec![]
        }
    }
}
