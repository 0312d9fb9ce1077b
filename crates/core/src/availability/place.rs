//! Placing machines that have no host yet, and emptying a host: the same packing as after a failure.

use super::{
    fail::{Effort, Left, job_reasons},
    table::{STARTS, Table},
};
use crate::packing::{Bin, Job, Piece, pack};

/// Where machines go, and which find no room.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Placing {
    /// (machine, host)
    pub placed: Vec<(usize, usize)>,
    pub left: Vec<Left>,
    pub proof: String,
}

/// Places every machine without a host; those that are somewhere stay.
pub fn place(table: &Table, effort: Effort) -> Placing {
    let machines: Vec<usize> = (0..table.machines.len())
        .filter(|m| table.machines[*m].at.is_none())
        .collect();
    put(table, &machines, None, effort)
}

/// Finds a host for every machine of one host on the others; nobody else moves.
pub fn evacuate(table: &Table, host: usize, effort: Effort) -> Placing {
    let machines: Vec<usize> = table.on(host).collect();
    put(table, &machines, Some(host), effort)
}

fn put(table: &Table, machines: &[usize], without: Option<usize>, effort: Effort) -> Placing {
    let open = |h: &usize| Some(*h) != without && table.hosts[*h].closed.is_none();
    let open: Vec<usize> = (0..table.hosts.len()).filter(open).collect();
    let free = table.free(&|h| Some(h) == without);
    let groups = table.there();
    let bins = open
        .iter()
        .map(|h| Bin {
            room: free[*h],
            groups: groups[*h].clone(),
        })
        .collect();
    let pieces = machines.iter().map(|m| {
        let row = &table.machines[*m];
        Piece {
            needs: row.needs,
            tier: row.tier,
            count: 1,
            kept: row.kept,
            groups: row.apart.clone(),
            only: row
                .only
                .as_ref()
                .map(|only| open.iter().map(|h| only[*h]).collect()),
        }
    });
    let job = Job {
        bins,
        pieces: pieces.collect(),
        dimensions: STARTS,
        limit: effort.0,
    };
    let packing = pack(&job);
    let each: Vec<Vec<usize>> = machines.iter().map(|m| vec![*m]).collect();
    let (reasons, proof) = job_reasons(&job, &each, table, &packing);
    let placed = machines
        .iter()
        .zip(&packing.at)
        .filter_map(|(m, at)| Some((*m, open[(*at)?])));
    Placing {
        placed: placed.collect(),
        left: reasons
            .into_iter()
            .map(|(n, why)| Left {
                machine: machines[n],
                why,
            })
            .collect(),
        proof,
    }
}
