//! `zastrugi compute`: the mathematics from files, without database or devices, so that anyone can check the answers.

use crate::args::{Compute, ComputeWhat, Source};
use serde_json::{Value, json};
use std::path::Path;
use zastrugi_core::{
    availability::{
        CPU, Effort, Failure, Left, MEMORY, Placing, Table, VCPUS, Verdict, WELL, evacuate, fail,
        headroom, model, place,
    },
    balance::{Balance, Measure, balance},
    migration::{Ends, bare},
};
use zastrugi_formats::{estate, table};

/// Answers in JSON on standard output.
///
/// # Errors
/// What is wrong in the input, with its place in the file.
pub(crate) fn compute(args: &Compute) -> Result<Value, String> {
    let (table, measure) = match &args.what {
        ComputeWhat::Migrate { case } => return migrate(case),
        ComputeWhat::Headroom { source, .. }
        | ComputeWhat::Place { source }
        | ComputeWhat::Balance { source, .. }
        | ComputeWhat::Evacuate { source, .. } => load(source)?,
    };
    match &args.what {
        ComputeWhat::Headroom {
            failures,
            fail: these,
            ..
        } => headrooms(&table, *failures, these),
        ComputeWhat::Place { .. } => Ok(placed(&table, &place(&table, Effort::THOROUGH))),
        ComputeWhat::Balance { moves, .. } => {
            Ok(balanced(&table, &balance(&table, measure, *moves)))
        }
        ComputeWhat::Evacuate { host, .. } => {
            let at = host_named(&table, host)?;
            Ok(evacuated(
                &table,
                at,
                &evacuate(&table, at, Effort::THOROUGH),
            ))
        }
        ComputeWhat::Migrate { .. } => Err("unreachable".into()),
    }
}

fn read(path: &Path) -> Result<String, String> {
    std::fs::read_to_string(path).map_err(|e| format!("{}: {e}", path.display()))
}

fn load(source: &Source) -> Result<(Table, Measure), String> {
    let named = |path: &Path, e: table::Wrong| format!("{}: {e}", path.display());
    match (&source.table, &source.estate) {
        (Some(path), _) => {
            let table = table::read(&read(path)?).map_err(|e| named(path, e))?;
            let measure = Measure {
                cpu: VCPUS,
                memory: MEMORY,
                must_fit: CPU,
            };
            Ok((table, measure))
        }
        (None, Some(path)) => {
            let view = estate::read(&read(path)?).map_err(|e| named(path, e))?;
            let clusters: Vec<_> = view.estate.clusters.values().collect();
            let wanted = |c: &&&std::sync::Arc<zastrugi_core::estate::Cluster>| {
                source
                    .cluster
                    .as_ref()
                    .is_none_or(|name| c.name.eq_ignore_ascii_case(name))
            };
            let mut fitting = clusters.iter().filter(wanted);
            match (fitting.next(), fitting.next()) {
                (Some(one), None) => {
                    // Sizes are beyond what is balanced: what runs is.
                    let measure = Measure {
                        cpu: CPU,
                        memory: WELL - 1,
                        must_fit: CPU,
                    };
                    Ok((model(&view, one).0, measure))
                }
                (None, _) => Err(format!("{}: no such cluster is in it", path.display())),
                _ => Err(format!(
                    "{}: several clusters are in it; name one with --cluster",
                    path.display()
                )),
            }
        }
        (None, None) => Err("name a file with --table or --estate".into()),
    }
}

fn host_named(table: &Table, name: &str) -> Result<usize, String> {
    let at = table.hosts.iter().position(|h| h.name == name);
    at.ok_or_else(|| format!("there is no host “{name}”"))
}

fn hosts(table: &Table, of: &[usize]) -> Vec<String> {
    of.iter().map(|h| table.hosts[*h].name.clone()).collect()
}

fn pairs(table: &Table, all: &[(usize, usize)]) -> Vec<Value> {
    let pair = |(m, h): &(usize, usize)| json!({"machine": table.machines[*m].name, "host": table.hosts[*h].name});
    all.iter().map(pair).collect()
}

fn reasons(table: &Table, all: &[Left]) -> Vec<Value> {
    let left = |l: &Left| json!({"machine": table.machines[l.machine].name, "reason": l.why});
    all.iter().map(left).collect()
}

fn failure(table: &Table, f: &Failure) -> Value {
    let verdict = match f.verdict {
        Verdict::All => "all",
        Verdict::Some => "some",
        Verdict::Undecided => "undecided",
    };
    let lost: Vec<Left> = f.not_restarted.iter().chain(&f.lost).cloned().collect();
    json!({"hosts": hosts(table, &f.hosts), "verdict": verdict, "restarted": pairs(table, &f.restarted),
        "not_restarted": reasons(table, &lost), "proof": f.proof})
}

fn headrooms(table: &Table, failures: usize, these: &[String]) -> Result<Value, String> {
    /// Sets of hosts that are looked at, at most.
    const SETS: usize = 200_000;
    let failures = failures.max(1);
    if sets(table.hosts.len(), failures) > SETS {
        return Err(format!(
            "--failures {failures}: more than {SETS} sets of hosts; ask for fewer, or for one set with --fail"
        ));
    }
    let (survived, mut all) = headroom(table, failures, Effort::THOROUGH);
    if !these.is_empty() {
        let at = these
            .iter()
            .map(|name| host_named(table, name))
            .collect::<Result<Vec<_>, _>>()?;
        all = vec![fail(table, &at, Effort::THOROUGH)];
    }
    let told: Vec<Value> = all.iter().map(|f| failure(table, f)).collect();
    Ok(json!({"headroom": survived, "failures": told}))
}

/// How many sets of up to `k` of `n` there are.
fn sets(n: usize, k: usize) -> usize {
    let mut all: usize = 0;
    let mut of = 1usize;
    for i in 0..k.min(n) {
        of = of.saturating_mul(n - i) / (i + 1);
        all = all.saturating_add(of);
    }
    all
}

fn placed(table: &Table, p: &Placing) -> Value {
    json!({"placed": pairs(table, &p.placed), "not_placed": reasons(table, &p.left), "proof": p.proof})
}

fn evacuated(table: &Table, from: usize, p: &Placing) -> Value {
    let from = &table.hosts[from].name;
    let moved = |(m, h): &(usize, usize)| json!({"machine": table.machines[*m].name, "from": from, "to": table.hosts[*h].name});
    let moves: Vec<Value> = p.placed.iter().map(moved).collect();
    json!({"moves": moves, "not_moved": reasons(table, &p.left), "proof": p.proof})
}

fn balanced(table: &Table, b: &Balance) -> Value {
    let name = |h: usize| table.hosts[h].name.as_str();
    let moved = |(m, from, to): &(usize, usize, usize)| json!({"machine": table.machines[*m].name, "from": name(*from), "to": name(*to)});
    let moves: Vec<Value> = b.moves.iter().map(moved).collect();
    json!({"before": b.before, "after": b.after, "moves": moves})
}

fn migrate(case: &Path) -> Result<Value, String> {
    let case_read =
        table::read_case(&read(case)?).map_err(|e| format!("{}: {e}", case.display()))?;
    let course = bare(&case_read);
    let reason = match course.ends {
        Ends::Downtime => "downtime",
        Ends::Rounds => "rounds",
        Ends::Stalled => "stalled",
    };
    let bytes: Vec<f64> = course.rounds.iter().map(|r| r.0).collect();
    let seconds: f64 = course.rounds.iter().map(|r| r.1).sum();
    let downtime = course.rest / case_read.bandwidth;
    Ok(
        json!({"rounds": bytes.len(), "reason": reason, "total_bytes": bytes.iter().sum::<f64>() + course.rest,
        "per_round_bytes": bytes, "total_s": seconds + downtime, "downtime_s": downtime, "throttle": course.slowed}),
    )
}
