//! What is beneath a volume of the hosts' own disks: its contents in pieces, each with copies on disks of different fault
//! domains. Who is away misses what is written meanwhile; what lacks a copy is copied anew, at a rate.

use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};

const GIB: u64 = 1 << 30;
/// The most bytes of a piece.
pub(crate) const PIECE: u64 = 4 * GIB;
/// How fast one host copies pieces anew, in bytes a second.
const RATE: f64 = 500_000_000.0;

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Pool {
    pub(crate) copies: usize,
    /// How long one that is away is waited for, in virtual milliseconds.
    pub(crate) grace: i64,
    /// Grows with whatever changes here.
    pub(crate) seq: u64,
    /// By host.
    pub(crate) members: BTreeMap<String, Member>,
    /// By what they are of, and their number.
    pub(crate) pieces: BTreeMap<String, Piece>,
    /// Until when all was reckoned, in virtual milliseconds.
    #[serde(default)]
    until: i64,
    /// Copied already of the piece that is being copied.
    #[serde(default)]
    ahead: f64,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Member {
    pub(crate) domain: String,
    /// Bytes of each disk that it lends, by name.
    pub(crate) disks: BTreeMap<String, u64>,
    #[serde(default)]
    pub(crate) away: Option<i64>,
    /// What it holds is copied to others.
    #[serde(default)]
    pub(crate) leaving: bool,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize)]
pub(crate) struct Piece {
    pub(crate) bytes: u64,
    pub(crate) version: u64,
    /// The version that lies on each `host/disk`.
    pub(crate) on: BTreeMap<String, u64>,
}

/// How whole it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
pub(crate) struct Health {
    /// Bytes with fewer copies that can be read than there should be.
    pub(crate) lacking: u64,
    /// Bytes without any copy that can be read.
    pub(crate) lost: u64,
    /// Bytes that are being copied anew.
    pub(crate) moving: u64,
}

impl Piece {
    fn is_current(&self, at: &str) -> bool {
        self.on.get(at) == Some(&self.version)
    }
}

fn host_of(at: &str) -> &str {
    at.split_once('/').map_or(at, |(host, _)| host)
}

impl Member {
    fn raw(&self) -> u64 {
        self.disks.values().sum()
    }
}

impl Pool {
    pub(crate) fn new(copies: usize, grace: i64) -> Self {
        Pool {
            copies,
            grace,
            ..Pool::default()
        }
    }

    /// What can be kept in it: without the largest host's share where there is one more host than copies.
    pub(crate) fn usable(&self) -> u64 {
        let raws: Vec<u64> = self
            .members
            .values()
            .filter(|m| !m.leaving)
            .map(Member::raw)
            .filter(|r| *r > 0)
            .collect();
        let spare = match raws.len() > self.copies {
            true => raws.iter().max().copied().unwrap_or(0),
            false => 0,
        };
        let all: u64 = raws.iter().sum::<u64>() - spare;
        all / u64::try_from(self.copies.max(1)).unwrap_or(1) / 100 * 97
    }

    /// Brings the pieces to what is on the volume now: bytes by what they are of. What grew was written to.
    pub(crate) fn fit(&mut self, holds: &BTreeMap<String, u64>, up: &dyn Fn(&str) -> bool) {
        let mut wanted = BTreeMap::new();
        for (of, bytes) in holds {
            let mut left = *bytes;
            for n in 0_u64.. {
                if left == 0 {
                    break;
                }
                wanted.insert(format!("{of}/{n:06}"), left.min(PIECE));
                left = left.saturating_sub(PIECE);
            }
        }
        let before = self.pieces.len();
        self.pieces.retain(|key, _| wanted.contains_key(key));
        let mut changed = before != self.pieces.len();
        let mut used = self.used();
        for (key, bytes) in wanted {
            match self.pieces.get_mut(&key) {
                Some(piece) if piece.bytes == bytes => {}
                Some(piece) => {
                    changed = true;
                    let last = piece.version;
                    (piece.bytes, piece.version) = (bytes, last + 1);
                    let there = piece
                        .on
                        .iter_mut()
                        .filter(|(at, v)| **v == last && up(host_of(at)));
                    there.for_each(|(_, v)| *v = last + 1);
                }
                None => {
                    changed = true;
                    let mut piece = Piece {
                        bytes,
                        version: 1,
                        on: BTreeMap::new(),
                    };
                    while piece.on.len() < self.copies {
                        let kept: BTreeSet<String> = piece.on.keys().cloned().collect();
                        let Some(at) = self.room(&kept, bytes, &used, up) else {
                            break;
                        };
                        *used.entry(at.clone()).or_insert(0) += bytes;
                        piece.on.insert(at, 1);
                    }
                    self.pieces.insert(key, piece);
                }
            }
        }
        self.seq += u64::from(changed);
    }

    fn used(&self) -> BTreeMap<String, u64> {
        let mut used = BTreeMap::new();
        for piece in self.pieces.values() {
            for at in piece.on.keys() {
                *used.entry(at.clone()).or_insert(0) += piece.bytes;
            }
        }
        used
    }

    fn domain(&self, at: &str) -> &str {
        self.members
            .get(host_of(at))
            .map_or("", |m| m.domain.as_str())
    }

    /// The least filled disk of a domain that has none of the kept copies.
    fn room(
        &self,
        kept: &BTreeSet<String>,
        bytes: u64,
        used: &BTreeMap<String, u64>,
        up: &dyn Fn(&str) -> bool,
    ) -> Option<String> {
        let domains: BTreeSet<&str> = kept.iter().map(|at| self.domain(at)).collect();
        let members = self
            .members
            .iter()
            .filter(|(host, m)| up(host) && !m.leaving && !domains.contains(m.domain.as_str()));
        let disks = members.flat_map(|(host, m)| {
            m.disks
                .iter()
                .map(move |(disk, size)| (format!("{host}/{disk}"), *size))
        });
        let filled = |(at, size): (String, u64)| {
            let there = used.get(&at).copied().unwrap_or(0);
            (there + bytes <= size)
                .then_some((u128::from(there) * 1_000_000 / u128::from(size.max(1)), at))
        };
        disks.filter_map(filled).min().map(|(_, at)| at)
    }

    /// The copies that count: those that can be read, and those of one that is still waited for.
    fn kept(&self, piece: &Piece, now: i64, up: &dyn Fn(&str) -> bool) -> BTreeSet<String> {
        let counts = |at: &&String| {
            let Some(member) = self.members.get(host_of(at)) else {
                return false;
            };
            let waited = member.away.is_none_or(|since| now - since < self.grace);
            piece.is_current(at) && !member.leaving && (up(host_of(at)) || waited)
        };
        piece.on.keys().filter(counts).cloned().collect()
    }

    /// Time goes on: who is away is noticed, and what lacks copies is copied as far as time allows.
    pub(crate) fn tick(&mut self, now: i64, up: &dyn Fn(&str) -> bool) {
        let passed = (now - std::mem::replace(&mut self.until, now)).clamp(0, 3_600_000);
        let mut changed = false;
        for (host, member) in &mut self.members {
            let away = (!up(host)).then(|| member.away.unwrap_or(now));
            changed |= away.is_some() != member.away.is_some();
            member.away = away;
        }
        let hosts = self.members.keys().filter(|h| up(h)).count();
        #[expect(
            clippy::cast_precision_loss,
            reason = "bytes and milliseconds of a simulation"
        )]
        let mut budget = self.ahead + RATE * hosts as f64 * passed as f64 / 1000.0;
        let (done, idle) = self.mend(now, &mut budget, up);
        self.ahead = if idle { 0.0 } else { budget };
        let leaves = |m: &Member| m.leaving;
        let gone: Vec<String> = self
            .members
            .iter()
            .filter(|(h, m)| leaves(m) && self.held_by(h) == 0)
            .map(|(h, _)| h.clone())
            .collect();
        for host in &gone {
            self.members.remove(host);
        }
        self.seq += u64::from(changed || done || !gone.is_empty());
    }

    /// Answers whether something was done, and whether nothing is left to do.
    fn mend(&mut self, now: i64, budget: &mut f64, up: &dyn Fn(&str) -> bool) -> (bool, bool) {
        let mut keys: Vec<(usize, String)> = self
            .pieces
            .iter()
            .map(|(k, p)| (self.kept(p, now, up).len(), k.clone()))
            .collect();
        // What has the fewest copies comes first.
        keys.sort();
        let mut used = self.used();
        let mut done = false;
        for (_, key) in keys {
            let Some(piece) = self.pieces.get(&key).cloned() else {
                continue;
            };
            let mut kept = self.kept(&piece, now, up);
            let readable = piece
                .on
                .keys()
                .any(|at| piece.is_current(at) && up(host_of(at)));
            while readable && kept.len() < self.copies {
                let domains: BTreeSet<&str> = kept.iter().map(|at| self.domain(at)).collect();
                let stays = |at: &&String| {
                    self.members.get(host_of(at)).is_some_and(|m| !m.leaving)
                        && up(host_of(at))
                        && !domains.contains(self.domain(at))
                };
                let stale = piece
                    .on
                    .keys()
                    .filter(|at| !piece.is_current(at))
                    .find(stays)
                    .cloned();
                let fresh = stale.is_none();
                let Some(at) = stale.or_else(|| self.room(&kept, piece.bytes, &used, up)) else {
                    break;
                };
                #[expect(clippy::cast_precision_loss, reason = "bytes of a simulation")]
                let bytes = piece.bytes as f64;
                if *budget < bytes {
                    return (done, false);
                }
                *budget -= bytes;
                if fresh {
                    *used.entry(at.clone()).or_insert(0) += piece.bytes;
                }
                if let Some(held) = self.pieces.get_mut(&key) {
                    held.on.insert(at.clone(), piece.version);
                }
                kept.insert(at);
                done = true;
            }
            if kept.len() >= self.copies
                && let Some(held) = self.pieces.get_mut(&key)
            {
                let before = held.on.len();
                held.on.retain(|at, _| kept.contains(at));
                done |= held.on.len() != before;
            }
        }
        (done, true)
    }

    /// Bytes that lie on a host's disks.
    pub(crate) fn held_by(&self, host: &str) -> u64 {
        let on = |p: &&Piece| p.on.keys().any(|at| host_of(at) == host);
        self.pieces.values().filter(on).map(|p| p.bytes).sum()
    }

    pub(crate) fn health(&self, now: i64, up: &dyn Fn(&str) -> bool) -> Health {
        let mut health = Health {
            lacking: 0,
            lost: 0,
            moving: 0,
        };
        let used = self.used();
        for piece in self.pieces.values() {
            let readable = piece
                .on
                .keys()
                .filter(|at| piece.is_current(at) && up(host_of(at)))
                .count();
            if readable < self.copies {
                health.lacking += piece.bytes;
            }
            if readable == 0 {
                health.lost += piece.bytes;
            }
            let kept = self.kept(piece, now, up);
            if readable > 0
                && kept.len() < self.copies
                && self.room(&kept, piece.bytes, &used, up).is_some()
            {
                health.moving += piece.bytes;
            }
        }
        health
    }

    /// Whether everything on it can be read.
    pub(crate) fn serves(&self, up: &dyn Fn(&str) -> bool) -> bool {
        let readable = |p: &Piece| p.on.keys().any(|at| p.is_current(at) && up(host_of(at)));
        self.pieces.values().all(readable)
    }

    /// Why a host's disks can't be given back, if they can't: the others have no room in other domains.
    pub(crate) fn keeps(&self, host: &str) -> Option<String> {
        if self.pieces.is_empty() {
            return None;
        }
        let others: Vec<&Member> = self
            .members
            .iter()
            .filter(|(h, m)| *h != host && !m.leaving && m.raw() > 0)
            .map(|(_, m)| m)
            .collect();
        let domains: BTreeSet<&str> = others.iter().map(|m| m.domain.as_str()).collect();
        if domains.len() < self.copies {
            return Some(format!(
                "{} copies need as many fault domains; {} would be left.",
                self.copies,
                domains.len()
            ));
        }
        let needs: u64 = self.pieces.values().map(|p| p.bytes).sum::<u64>()
            * u64::try_from(self.copies).unwrap_or(1);
        let have: u64 = others.iter().map(|m| m.raw()).sum();
        (needs > have).then(|| "The other hosts have no room for what it holds.".to_owned())
    }

    /// A host is left out, with whatever it has.
    pub(crate) fn expel(&mut self, host: &str) {
        self.members.remove(host);
        for piece in self.pieces.values_mut() {
            piece.on.retain(|at, _| host_of(at) != host);
        }
        self.seq += 1;
    }

    /// A disk is dead, and what lay on it is gone.
    pub(crate) fn dies(&mut self, host: &str, disk: &str) {
        let at = format!("{host}/{disk}");
        if let Some(member) = self.members.get_mut(host) {
            member.disks.remove(disk);
        }
        for piece in self.pieces.values_mut() {
            piece.on.remove(&at);
        }
        self.seq += 1;
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn pool(hosts: &[(&str, &str)], copies: usize) -> Pool {
        let member = |domain: &str| Member {
            domain: domain.into(),
            disks: BTreeMap::from([("d1".into(), 100 * GIB), ("d2".into(), 100 * GIB)]),
            ..Member::default()
        };
        Pool {
            copies,
            grace: 60_000,
            members: hosts
                .iter()
                .map(|(h, d)| ((*h).to_owned(), member(d)))
                .collect(),
            ..Pool::default()
        }
    }

    fn holds(gib: u64) -> BTreeMap<String, u64> {
        BTreeMap::from([("m".to_owned(), gib * GIB)])
    }

    const FOUR: [(&str, &str); 4] = [("a", "r1"), ("b", "r1"), ("c", "r2"), ("d", "r3")];

    fn all(_: &str) -> bool {
        true
    }

    fn without<'a>(gone: &'a [&'a str]) -> impl Fn(&str) -> bool + 'a {
        |host| !gone.contains(&host)
    }

    /// What must hold whatever happens: current copies of one piece are never in one domain.
    fn apart(pool: &Pool) {
        for piece in pool.pieces.values() {
            let current: Vec<&String> = piece.on.keys().filter(|at| piece.is_current(at)).collect();
            let domains: BTreeSet<&str> = current.iter().map(|at| pool.domain(at)).collect();
            assert_eq!(domains.len(), current.len(), "{piece:?}");
        }
    }

    #[test]
    fn every_piece_has_its_copies_in_different_domains() {
        let mut p = pool(&FOUR, 2);
        p.fit(&holds(90), &all);
        assert_eq!(p.pieces.len(), 23, "22 whole ones and a rest");
        assert!(p.pieces.values().all(|piece| piece.on.len() == 2));
        apart(&p);
        assert_eq!(
            p.health(0, &all),
            Health {
                lacking: 0,
                lost: 0,
                moving: 0
            }
        );
        assert_eq!(
            p.usable(),
            600 * GIB / 2 / 100 * 97,
            "the largest host's share is kept free"
        );
    }

    #[test]
    fn one_that_comes_back_in_time_misses_only_what_was_written() {
        let mut p = pool(&FOUR, 2);
        p.fit(&holds(90), &all);
        p.tick(0, &all);
        let gone = without(&["c"]);
        p.tick(1_000, &gone);
        let away = p.health(1_000, &gone);
        assert!(
            away.lacking > 0 && away.lost == 0 && away.moving == 0,
            "it is waited for: {away:?}"
        );
        assert!(p.serves(&gone), "the other copies are read");
        p.fit(&holds(92), &gone);
        p.tick(30_000, &gone);
        p.tick(59_000, &all);
        p.tick(90_000, &all);
        assert_eq!(p.health(90_000, &all).lacking, 0);
        apart(&p);
    }

    #[test]
    fn one_that_stays_away_is_replaced_and_nothing_is_lost_when_the_next_goes() {
        let mut p = pool(&FOUR, 2);
        p.fit(&holds(90), &all);
        p.tick(0, &all);
        let gone = without(&["d"]);
        p.tick(1_000, &gone);
        p.tick(62_000, &gone);
        let now = p.health(62_000, &gone);
        assert!(now.moving > 0 || now.lacking == 0, "{now:?}");
        p.tick(400_000, &gone);
        assert_eq!(p.health(400_000, &gone).lacking, 0, "rebuilt on the others");
        apart(&p);
        assert!(p.serves(&without(&["c", "d"])) && p.serves(&without(&["a", "b", "d"])));
        // It comes back: what it has is old and goes.
        p.tick(500_000, &all);
        assert_eq!(p.held_by("d"), 0);
    }

    #[test]
    fn both_domains_gone_at_once_is_said_to_be_lost_until_they_are_back() {
        let mut p = pool(&[("a", "r1"), ("b", "r2"), ("c", "r3")], 2);
        p.fit(&holds(60), &all);
        let gone = without(&["a", "b"]);
        assert!(!p.serves(&gone));
        assert!(p.health(0, &gone).lost > 0);
        p.tick(500_000, &gone);
        p.tick(600_000, &all);
        assert_eq!(p.health(600_000, &all).lost, 0);
        apart(&p);
    }

    #[test]
    fn what_leaves_is_copied_first_and_a_dead_disk_at_once() {
        let mut p = pool(&FOUR, 2);
        p.fit(&holds(120), &all);
        p.tick(0, &all);
        p.members.get_mut("c").unwrap().leaving = true;
        p.tick(1, &all);
        assert!(p.members.contains_key("c"), "not before all is copied");
        p.tick(200_000, &all);
        assert!(!p.members.contains_key("c"));
        assert_eq!(p.health(200_000, &all).lacking, 0);
        p.dies("a", "d1");
        let hurt = p.health(200_000, &all);
        assert!(
            hurt.lacking > 0 && hurt.moving == hurt.lacking,
            "nobody waits for a dead disk: {hurt:?}"
        );
        p.tick(400_000, &all);
        assert_eq!(p.health(400_000, &all).lacking, 0);
        apart(&p);
    }

    #[test]
    fn too_few_domains_are_refused() {
        let mut p = pool(&[("a", "r1"), ("b", "r1"), ("c", "r2")], 2);
        assert!(p.keeps("c").is_none(), "nothing is on it");
        p.fit(&holds(10), &all);
        assert!(p.keeps("c").unwrap().contains("1 would be left"));
        assert!(p.keeps("a").is_none());
    }
}
