//! Volumes of the hosts' own disks: which hosts fail as one, how much can be kept on them, and what is at stake when some go.

use crate::{
    estate::{Cluster, ClusterKind, Estate, Host, Pooled, Share, Volume},
    finding::{Finding, Rule},
    ids::HostId,
    units::Bytes,
};
use std::{
    collections::{BTreeMap, BTreeSet},
    sync::Arc,
};

/// Above this share of what is usable no more should be planned (rules, section 8), in per cent.
pub const PLAN: u64 = 75;

/// The fault domain of each host: its site where the cluster has two, else its rack where there are racks enough for the
/// copies, else itself.
pub fn domains(
    estate: &Estate,
    cluster: &Cluster,
    hosts: &[Arc<Host>],
    copies: u8,
) -> BTreeMap<HostId, String> {
    let site = |h: &Host| {
        estate
            .sites
            .get(&h.site)
            .map_or_else(|| h.name.clone(), |s| s.name.clone())
    };
    let racks: Option<BTreeMap<HostId, String>> = hosts
        .iter()
        .map(|h| Some((h.id, format!("rack {}", h.labels.get("rack")?))))
        .collect();
    let enough = |of: &BTreeMap<HostId, String>| {
        of.values().collect::<BTreeSet<_>>().len() >= usize::from(copies)
    };
    if cluster.kind == ClusterKind::TwoSites {
        return hosts.iter().map(|h| (h.id, site(h))).collect();
    }
    match racks {
        Some(racks) if enough(&racks) => racks,
        Some(_) | None => hosts.iter().map(|h| (h.id, h.name.clone())).collect(),
    }
}

/// What can be kept on hosts that lend so much each, with so many copies (rules, section 8): `(n·r − R) / c × 0.97`, where R is
/// the largest host's share if there is one more host than copies, else 0. Hosts that lend nothing don't count.
pub fn usable(raws: &[Bytes], copies: u8) -> Bytes {
    let lent: Vec<u64> = raws.iter().map(|b| b.0).filter(|b| *b > 0).collect();
    let spare = match lent.len() > usize::from(copies) {
        true => lent.iter().max().copied().unwrap_or(0),
        false => 0,
    };
    let all = lent
        .iter()
        .fold(0_u64, |sum, b| sum.saturating_add(*b))
        .saturating_sub(spare);
    Bytes(all / u64::from(copies.max(1)) / 100 * 97)
}

/// The same in words, with how it is reckoned.
pub fn reckoned(raws: &[Bytes], copies: u8) -> String {
    let lent: Vec<Bytes> = raws.iter().copied().filter(|r| *r > Bytes::ZERO).collect();
    let all: Bytes = lent.iter().copied().sum();
    let spare = match lent.len() > usize::from(copies) {
        true => format!(
            ", {} kept free for when a host fails",
            lent.iter().max().copied().unwrap_or_default()
        ),
        false => String::new(),
    };
    format!(
        "{} hosts lend {all}; with {copies} copies {} can be used{spare}.",
        lent.len(),
        usable(&lent, copies)
    )
}

/// What would be so while some hosts are away.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Risk {
    /// Something could have no copy left that can be read.
    Unreadable,
    /// Copies are missing, or being copied anew: with one more host away the last could be.
    NotWhole(String),
    /// One copy less of what they hold, as long as it lasts.
    Fewer(Bytes),
}

/// What is at stake for a volume when hosts go away for a while; none where they lend it nothing.
pub fn without(pooled: &Pooled, going: &BTreeSet<HostId>) -> Option<Risk> {
    let gone: Vec<&Share> = pooled
        .members
        .iter()
        .filter(|(h, _)| going.contains(h))
        .map(|(_, s)| s)
        .collect();
    let held: Bytes = gone.iter().map(|s| s.held).sum();
    if gone.iter().all(|s| s.raw == Bytes::ZERO) {
        return None;
    }
    let away = pooled
        .members
        .values()
        .filter(|s| s.away && s.held > Bytes::ZERO);
    let domains: BTreeSet<&str> = gone
        .iter()
        .copied()
        .filter(|s| s.held > Bytes::ZERO)
        .chain(away)
        .map(|s| s.domain.as_str())
        .collect();
    if domains.len() >= usize::from(pooled.copies) {
        return Some(Risk::Unreadable);
    }
    match pooled.trouble() {
        Some(trouble) => Some(Risk::NotWhole(trouble)),
        None if pooled.members.values().any(|m| m.leaving) => {
            Some(Risk::NotWhole("a host's disks are being given back".into()))
        }
        None => Some(Risk::Fewer(held)),
    }
}

/// What speaks against letting hosts go away for a while, of every volume that they lend disks to.
pub fn risks(estate: &Estate, going: &BTreeSet<HostId>, field: &str) -> Vec<Finding> {
    let said = |(volume, pooled): (&Arc<Volume>, &Pooled)| {
        let name = &volume.name;
        let stop = |text: String| Finding::stop(Rule::Pool, name, text).at(field);
        Some(match without(pooled, going)? {
            Risk::Unreadable => stop(format!("Then some of {name} would have no copy left that can be read: {} copies, each in another fault domain, are all that there are.", pooled.copies))
                .remedy("Take fewer hosts at a time, of one fault domain only, and wait until all copies are there again."),
            Risk::NotWhole(trouble) => stop(format!("{name} is not whole: {trouble}.")).remedy("Wait until all copies are there again; the volume's page says how far that is."),
            Risk::Fewer(held) => Finding::mind(Rule::Pool, name, format!("{held} of {name} have one copy less while this is off; away for more than {} min, they are copied anew.", pooled.wait.0 / 60_000)).at(field),
        })
    };
    estate
        .pools_of(going)
        .into_iter()
        .filter_map(said)
        .collect()
}

/// Why hosts can't leave a volume for good, if they can't: what stays has not enough fault domains, or no room.
pub fn keeps(volume: &Volume, pooled: &Pooled, going: &BTreeSet<HostId>) -> Option<String> {
    let name = &volume.name;
    let rest: Vec<&Share> = pooled
        .members
        .iter()
        .filter(|(h, s)| !going.contains(h) && s.raw > Bytes::ZERO)
        .map(|(_, s)| s)
        .collect();
    let domains: BTreeSet<&str> = rest.iter().map(|s| s.domain.as_str()).collect();
    let copies = usize::from(pooled.copies);
    if volume.used == Bytes::ZERO {
        return None;
    }
    if domains.len() < copies {
        return Some(format!(
            "{name} keeps {copies} copies on the hosts' own disks, each in another fault domain; {} would be left.",
            domains.len()
        ));
    }
    let raws: Vec<Bytes> = rest.iter().map(|s| s.raw).collect();
    let then = usable(&raws, pooled.copies);
    (volume.used > then).then(|| {
        format!(
            "{name} holds {}; without them it has room for {then}.",
            volume.used
        )
    })
}

impl Estate {
    /// Volumes to which any of these hosts lends disks, by name.
    pub fn pools_of<'a>(
        &'a self,
        hosts: &'a BTreeSet<HostId>,
    ) -> Vec<(&'a Arc<Volume>, &'a Pooled)> {
        let lends = |p: &Pooled| {
            p.members
                .iter()
                .any(|(h, s)| hosts.contains(h) && s.raw > Bytes::ZERO)
        };
        let pooled = self
            .volumes
            .values()
            .filter_map(|v| Some((v, v.pooled.as_deref()?)));
        let mut all: Vec<_> = pooled.filter(|(_, p)| lends(p)).collect();
        all.sort_by(|a, b| a.0.name.cmp(&b.0.name));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::estate::PoolHealth;

    fn share(domain: &str, held: u64) -> Share {
        Share {
            domain: domain.into(),
            raw: Bytes::gib(1000),
            held: Bytes::gib(held),
            ..Share::default()
        }
    }

    fn pooled(shares: &[(u64, Share)]) -> Pooled {
        Pooled {
            members: shares
                .iter()
                .map(|(h, s)| (HostId(*h), s.clone()))
                .collect(),
            ..Pooled::new(2, Pooled::WAIT)
        }
    }

    fn of(hosts: &[u64]) -> BTreeSet<HostId> {
        hosts.iter().map(|h| HostId(*h)).collect()
    }

    #[test]
    fn capacity_is_as_the_rule_says() {
        let tb = |n: u64| Bytes(n * 1_000_000_000_000);
        assert_eq!(
            usable(&[tb(8); 4], 2),
            Bytes(11_640_000_000_000),
            "(32 − 8) / 2 × 0.97"
        );
        assert_eq!(
            usable(&[tb(8); 3], 3),
            Bytes(7_760_000_000_000),
            "as many hosts as copies: nothing is kept free"
        );
        assert_eq!(
            usable(&[tb(8), tb(4), tb(4), Bytes::ZERO], 2),
            Bytes(3_880_000_000_000),
            "who lends nothing is no host of it"
        );
        assert_eq!(usable(&[], 2), Bytes::ZERO);
    }

    #[test]
    fn one_host_of_two_domains_may_go_and_two_may_not() {
        let p = pooled(&[
            (1, share("r1", 100)),
            (2, share("r1", 100)),
            (3, share("r2", 200)),
        ]);
        assert_eq!(without(&p, &of(&[1])), Some(Risk::Fewer(Bytes::gib(100))));
        assert_eq!(
            without(&p, &of(&[1, 2])),
            Some(Risk::Fewer(Bytes::gib(200))),
            "both are in one rack"
        );
        assert_eq!(without(&p, &of(&[1, 3])), Some(Risk::Unreadable));
        assert_eq!(without(&p, &of(&[9])), None);
    }

    #[test]
    fn while_one_is_away_no_other_domain_may_go() {
        let mut p = pooled(&[
            (1, share("a", 100)),
            (2, share("b", 100)),
            (3, share("c", 100)),
        ]);
        p.members.get_mut(&HostId(1)).unwrap().away = true;
        assert_eq!(without(&p, &of(&[2])), Some(Risk::Unreadable));
        p.members.get_mut(&HostId(1)).unwrap().away = false;
        p.health = PoolHealth {
            moving: Bytes::gib(4),
            lacking: Bytes::gib(4),
            ..PoolHealth::default()
        };
        assert!(
            matches!(without(&p, &of(&[2])), Some(Risk::NotWhole(_))),
            "a rebuild runs"
        );
    }
}
