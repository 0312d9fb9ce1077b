//! Hosts fail: who restarts where, who can't and why.

use super::table::{CPU, MEMORY, Restart, SIZES, STARTS, Table, VCPUS, WELL};
use crate::{
    packing::{Bin, Job, Packing, Piece, Proof, pack},
    units::Bytes,
};
use std::collections::BTreeMap;

/// How hard to look before saying *undecided*.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Effort(pub u32);

impl Effort {
    /// For pages, while people wait.
    pub const QUICK: Effort = Effort(3_000);
    /// For files.
    pub const THOROUGH: Effort = Effort(300_000);
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Verdict {
    /// Every protected machine restarts.
    All,
    /// Some don't.
    Some,
    /// Nobody found a way within the work limit, nor that there is none; counts as no.
    Undecided,
}

/// A machine that doesn't come back by itself, and why.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Left {
    pub machine: usize,
    pub why: String,
}

/// What happens when these hosts fail together.
#[derive(Debug, Clone, PartialEq)]
pub struct Failure {
    pub hosts: Vec<usize>,
    pub verdict: Verdict,
    /// (machine, host)
    pub restarted: Vec<(usize, usize)>,
    pub not_restarted: Vec<Left>,
    /// Lost until somebody acts: not protected, or bound to what failed.
    pub lost: Vec<Left>,
    /// Whether CPU demand and active memory are at most 100 % everywhere afterwards; else the first host that is over.
    pub well: Result<(), String>,
    pub proof: String,
    /// What limits it: the dimension of which what must restart takes most of what is free elsewhere, and that share.
    pub tightest: (usize, f64),
}

/// Takes the hosts away, besides those that have failed already, and restarts their machines on the others.
pub fn fail(table: &Table, hosts: &[usize], effort: Effort) -> Failure {
    let mut down: Vec<usize> = hosts.to_vec();
    down.extend(table.gone().filter(|h| !hosts.contains(h)));
    let failure = take_away(table, &down, effort);
    Failure {
        hosts: hosts.to_vec(),
        ..failure
    }
}

fn take_away(table: &Table, hosts: &[usize], effort: Effort) -> Failure {
    let failed = |host: usize| hosts.contains(&host);
    let (open, pieces, lost) = split(table, hosts);
    let free = table.free(&failed);
    let groups = table.there();
    let bins: Vec<Bin> = open
        .iter()
        .map(|h| Bin {
            room: free[*h],
            groups: groups[*h].clone(),
        })
        .collect();
    let mut job = Job {
        bins,
        pieces: pieces.iter().map(|p| piece(table, p, &open)).collect(),
        dimensions: WELL,
        limit: effort.0,
    };
    // Running well is wanted first; to start is what counts.
    let mut packing = pack(&Job {
        limit: effort.0 / 10,
        ..job.clone()
    });
    if !packing.proof.all() {
        job.dimensions = STARTS;
        packing = pack(&job);
    }
    told(table, hosts, &open, &pieces, &job, packing, lost)
}

/// Hosts that take machines, the machines that must restart (those that stay together as one), and those that don't.
fn split(table: &Table, hosts: &[usize]) -> (Vec<usize>, Vec<Vec<usize>>, Vec<Left>) {
    let open = |h: &usize| !hosts.contains(h) && table.hosts[*h].closed.is_none();
    let open: Vec<usize> = (0..table.hosts.len()).filter(open).collect();
    let mut pieces: Vec<Vec<usize>> = Vec::new();
    let mut together: BTreeMap<u32, usize> = BTreeMap::new();
    let mut lost = Vec::new();
    for (i, machine) in table.machines.iter().enumerate() {
        if !machine.at.is_some_and(|at| hosts.contains(&at)) {
            continue;
        }
        match (machine.restart, machine.together) {
            (Restart::Arriving, _) => {}
            (Restart::Unprotected, _) => lost.push(Left {
                machine: i,
                why: "nobody asked that it is started elsewhere".into(),
            }),
            (Restart::Yes, Some(group)) => match together.get(&group) {
                Some(at) => pieces[*at].push(i),
                None => {
                    together.insert(group, pieces.len());
                    pieces.push(vec![i]);
                }
            },
            (Restart::Yes, None) => pieces.push(vec![i]),
        }
    }
    (open, pieces, lost)
}

fn piece(table: &Table, members: &[usize], open: &[usize]) -> Piece {
    let mut piece = Piece {
        tier: u8::MAX,
        ..Piece::default()
    };
    let mut allowed = vec![true; open.len()];
    for i in members {
        let machine = &table.machines[*i];
        for (sum, need) in piece.needs.iter_mut().zip(machine.needs) {
            *sum = sum.saturating_add(need);
        }
        piece.tier = piece.tier.min(machine.tier);
        piece.count += 1;
        piece.kept += machine.kept;
        piece.groups.extend(&machine.apart);
        for (bin, host) in open.iter().enumerate() {
            let may = machine.only.as_ref().is_none_or(|only| only[*host]);
            allowed[bin] &= may && follows(table, *i, *host, open);
        }
    }
    piece.only = allowed.contains(&false).then_some(allowed);
    piece
}

/// A machine that shares its host with others goes where those are that are left.
fn follows(table: &Table, machine: usize, host: usize, open: &[usize]) -> bool {
    let Some(group) = table.machines[machine].together else {
        return true;
    };
    let with = |m: &&super::table::MachineRow| {
        m.together == Some(group) && m.at.is_some_and(|at| open.contains(&at))
    };
    let mut others = table.machines.iter().filter(with).peekable();
    others.peek().is_none() || others.any(|m| m.at == Some(host))
}

fn told(
    table: &Table,
    hosts: &[usize],
    open: &[usize],
    pieces: &[Vec<usize>],
    job: &Job,
    packing: Packing,
    lost: Vec<Left>,
) -> Failure {
    let mut restarted = Vec::new();
    let mut not_restarted = Vec::new();
    let mut after: Vec<_> = job.bins.iter().map(|b| b.room).collect();
    for (n, members) in pieces.iter().enumerate() {
        match packing.at[n] {
            Some(bin) => {
                restarted.extend(members.iter().map(|m| (*m, open[bin])));
                for (room, need) in after[bin].iter_mut().zip(job.pieces[n].needs) {
                    *room = room.saturating_sub(need);
                }
            }
            None => {
                let why = why_not(job, n);
                not_restarted.extend(members.iter().map(|m| Left {
                    machine: *m,
                    why: why.clone(),
                }));
            }
        }
    }
    restarted.sort_unstable();
    not_restarted.sort_by_key(|l| l.machine);
    let verdict = match (&packing.proof, not_restarted.is_empty()) {
        (_, true) => Verdict::All,
        (Proof::Undecided { .. }, false) => Verdict::Undecided,
        (_, false) => Verdict::Some,
    };
    Failure {
        hosts: hosts.to_vec(),
        verdict,
        well: runs_well(table, open, &restarted),
        tightest: tightest(job),
        restarted,
        not_restarted,
        lost,
        proof: proof(job, pieces, table, &packing.proof),
    }
}

/// Why a piece was left over: what stands in its way on the hosts as they were.
fn why_not(job: &Job, piece: usize) -> String {
    let p = &job.pieces[piece];
    let may = |bin: &usize| p.only.as_ref().is_none_or(|only| only[*bin]);
    let allowed: Vec<usize> = (0..job.bins.len()).filter(may).collect();
    if job.bins.is_empty() {
        return "no host is left".into();
    }
    if allowed.is_empty() {
        return "no host that is left may take it".into();
    }
    let free: Vec<usize> = allowed
        .into_iter()
        .filter(|b| p.groups.iter().all(|g| !job.bins[*b].groups.contains(g)))
        .collect();
    if free.is_empty() {
        return "each host that is left has a machine that it must be apart from".into();
    }
    for dimension in 0..job.dimensions {
        let most = free
            .iter()
            .map(|b| job.bins[*b].room[dimension])
            .max()
            .unwrap_or(0);
        if p.needs[dimension] > most {
            return format!(
                "it needs {} and no host that may take it has more than {} free",
                amount(dimension, p.needs[dimension]),
                amount(dimension, most)
            );
        }
    }
    "others take the room that is left".into()
}

/// Why each piece that is left over was left, and the proof in words.
pub(super) fn job_reasons(
    job: &Job,
    pieces: &[Vec<usize>],
    table: &Table,
    packing: &Packing,
) -> (Vec<(usize, String)>, String) {
    let left = (0..pieces.len()).filter(|n| packing.at[*n].is_none());
    let reasons = left.map(|n| (n, why_not(job, n))).collect();
    (reasons, proof(job, pieces, table, &packing.proof))
}

/// So much of a dimension, in words.
pub(super) fn amount(dimension: usize, figure: u64) -> String {
    match dimension {
        VCPUS => format!("{} vCPUs", figure as f64 / 1000.0),
        CPU => format!("{figure} MHz of CPU"),
        _ => format!(
            "{} of {}",
            Bytes(figure),
            super::words::dimension(dimension)
        ),
    }
}

fn proof(job: &Job, pieces: &[Vec<usize>], table: &Table, proof: &Proof) -> String {
    match proof {
        Proof::Witness => "each was placed; the placement is the proof".into(),
        Proof::Aggregate {
            dimension,
            needed,
            free,
        } => format!(
            "all of them need {}; all hosts that are left have {} free",
            amount(*dimension, *needed),
            amount(*dimension, *free)
        ),
        Proof::Nowhere { piece } => {
            let name = pieces[*piece]
                .first()
                .map_or("", |m| table.machines[*m].name.as_str());
            format!("{name} fits nowhere: {}", why_not(job, *piece))
        }
        Proof::Exhausted { nodes } => format!("every way was tried ({nodes} placements)"),
        Proof::Undecided { nodes } => {
            format!("undecided within the work limit ({nodes} placements tried)")
        }
    }
}

/// CPU demand and active memory against what each host has.
fn runs_well(table: &Table, open: &[usize], restarted: &[(usize, usize)]) -> Result<(), String> {
    let used = used(table, restarted);
    for host in open {
        for dimension in CPU..WELL {
            let (used, room) = (used[*host][dimension], table.hosts[*host].room[dimension]);
            if used > room {
                let percent = used.saturating_mul(100) / room.max(1);
                let what = super::words::dimension(dimension);
                return Err(format!(
                    "{} would be at {percent} % of its {what}",
                    table.hosts[*host].name
                ));
            }
        }
    }
    Ok(())
}

/// What is used on each host afterwards.
fn used(table: &Table, restarted: &[(usize, usize)]) -> Vec<crate::packing::Amount> {
    let mut used = vec![[0u64; crate::packing::DIMENSIONS]; table.hosts.len()];
    let mut add = |machine: usize, host: usize| {
        for (sum, need) in used[host].iter_mut().zip(table.machines[machine].needs) {
            *sum = sum.saturating_add(need);
        }
    };
    for (i, machine) in table.machines.iter().enumerate() {
        if let Some(at) = machine.at {
            add(i, at);
        }
    }
    restarted
        .iter()
        .for_each(|(machine, host)| add(*machine, *host));
    used
}

/// The dimension of which what must restart takes the largest share of what is free elsewhere.
fn tightest(job: &Job) -> (usize, f64) {
    let share = |dimension: usize| {
        let needed: f64 = job.pieces.iter().map(|p| p.needs[dimension] as f64).sum();
        let free: f64 = job.bins.iter().map(|b| b.room[dimension] as f64).sum();
        needed / free.max(1.0)
    };
    let all = [MEMORY, SIZES, VCPUS].map(|d| (d, share(d)));
    let larger = |a: (usize, f64), b: (usize, f64)| if b.1 > a.1 { b } else { a };
    all.into_iter().fold((MEMORY, 0.0), larger)
}
