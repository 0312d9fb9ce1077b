//! Could the cluster lose a host? The failure matrix as a picture that opens row by row, pairs as a triangle, and the
//! smallest change that would let it survive one more.

use super::matrix::{Strip, Triangle};
use crate::frame::sheet::render;
use askama::Template;
use zastrugi_core::{
    availability::{Case, Domain, Left, MEMORY, MachineRow, Raise, Survival, Verdict},
    estate::Estate,
    ids::{ClusterId, MachineId, Revision},
    moment::Moment,
    units::Bytes,
};
use zastrugi_engine::Headroom;

/// Rows that are drawn at most.
const MOST: usize = 64;

struct RowView {
    glyph: &'static str,
    name: String,
    words: String,
    /// How full each host is afterwards, and what of it is new.
    picture: Option<Strip>,
    percent: String,
    time: String,
    restarted: Vec<(String, String)>,
    left: Vec<(String, String)>,
    notes: Vec<String>,
}

#[derive(Template)]
#[template(path = "places/clusters/headroom.html")]
struct Section {
    sentence: String,
    revision: String,
    raise: String,
    link: Option<(String, &'static str)>,
    /// Whether machines start elsewhere by themselves.
    recovers: bool,
    /// Hosts whose controllers were not tried for too long: how many, and the sheet that tries them.
    untested: Option<(usize, String)>,
    rows: Vec<RowView>,
    more: usize,
    triangle: Option<Triangle>,
    /// Why some two may not fail at once: an example with its proof.
    not_two: Option<String>,
}

pub(super) fn section(
    estate: &Estate,
    cluster: u64,
    (revision, now): (Revision, Moment),
    headroom: &Headroom,
) -> String {
    let answer = headroom.whole();
    let (raise, link) = raise_words(estate, &answer, cluster, headroom.raise());
    render(&Section {
        sentence: answer.sentence(),
        revision: revision.to_string(),
        raise,
        link,
        recovers: estate
            .clusters
            .get(&ClusterId(cluster))
            .is_none_or(|c| c.recovers),
        untested: untested(estate, cluster, now),
        rows: answer
            .matrix
            .rows
            .iter()
            .take(MOST)
            .map(|r| row(&answer, r))
            .collect(),
        more: answer.matrix.rows.len().saturating_sub(MOST),
        not_two: answer
            .matrix
            .pairs
            .as_ref()
            .and_then(|p| not_two(&answer, p)),
        triangle: answer
            .matrix
            .pairs
            .as_ref()
            .map(|pairs| Triangle::draw(&answer.table, pairs)),
    })
}

fn not_two(answer: &Survival, pairs: &zastrugi_core::availability::Pairs) -> Option<String> {
    let failure = pairs.counterexample.as_ref()?;
    let hosts: Vec<_> = failure
        .hosts
        .iter()
        .map(|h| answer.table.hosts[*h].name.as_str())
        .collect();
    let left: Vec<_> = failure
        .not_restarted
        .iter()
        .take(3)
        .map(|l| answer.table.machines[l.machine].name.as_str())
        .collect();
    let more = if failure.not_restarted.len() > 3 {
        ", …"
    } else {
        ""
    };
    Some(format!(
        "If {} fail at once, {}{more} find no place: {}.",
        hosts.join(" and "),
        left.join(", "),
        failure.proof
    ))
}

fn untested(estate: &Estate, cluster: u64, now: Moment) -> Option<(usize, String)> {
    let hosts = estate.hosts_in(ClusterId(cluster));
    let all: Vec<u64> = hosts
        .filter(|h| h.untested(now).is_some())
        .map(|h| h.id.0)
        .collect();
    let link = format!(
        "/sheet/test-fencing?ids={}",
        crate::frame::fields::joined(all.iter().copied())
    );
    (!all.is_empty()).then_some((all.len(), link))
}

fn row(answer: &Survival, row: &Case) -> RowView {
    let (table, failure) = (&answer.table, &row.failure);
    let machine = |m: usize| table.machines[m].name.clone();
    let told = |l: &Left| (machine(l.machine), l.why.clone());
    let counts = [
        (failure.restarted.len(), "have a place"),
        (failure.not_restarted.len(), "find no room"),
        (failure.lost.len(), "lost until somebody acts"),
    ];
    let words: Vec<_> = counts
        .iter()
        .filter(|c| c.0 > 0)
        .map(|(n, what)| format!("{n} {what}"))
        .collect();
    let mut notes = Vec::new();
    if !failure.hosts.is_empty() {
        notes.push(format!("Proof: {}.", failure.proof));
    }
    if let (Err(over), false) = (&failure.well, failure.restarted.is_empty()) {
        notes.push(format!("They would start, but not run well: {over}."));
    }
    if !row.waits.is_empty() {
        let names: Vec<_> = row
            .waits
            .iter()
            .map(|h| table.hosts[*h].name.as_str())
            .collect();
        notes.push(format!(
            "Nothing proves by itself that {} is off: nothing is started elsewhere until somebody says so.",
            names.join(", ")
        ));
    }
    let volume = matches!(row.domain, Domain::Volume(_));
    let glyph = match failure.verdict {
        _ if volume => "unchecked",
        Verdict::All if failure.well.is_ok() => "clear",
        Verdict::All => "mind",
        Verdict::Some => "stop",
        Verdict::Undecided => "unchecked",
    };
    let share = failure.tightest.1;
    RowView {
        glyph,
        name: if row.happened {
            format!("{}: has failed", row.domain.words())
        } else {
            row.domain.words()
        },
        words: if words.is_empty() {
            "nothing runs there".into()
        } else {
            words.join(", ")
        },
        picture: (!volume).then(|| Strip::draw(table, row)),
        percent: if volume {
            String::new()
        } else {
            format!("{:.0} %", share * 100.0)
        },
        time: if failure.restarted.is_empty() {
            String::new()
        } else {
            row.time.to_string()
        },
        restarted: failure
            .restarted
            .iter()
            .map(|(m, h)| (machine(*m), table.hosts[*h].name.clone()))
            .collect(),
        left: failure
            .not_restarted
            .iter()
            .chain(&failure.lost)
            .map(told)
            .collect(),
        notes,
    }
}

fn raise_words(
    estate: &Estate,
    answer: &Survival,
    cluster: u64,
    raise: &Raise,
) -> (String, Option<(String, &'static str)>) {
    let more = match answer.matrix.headroom {
        0 => "any one host",
        _ => "any two hosts",
    };
    let table = &answer.table;
    let group = |g: u32| {
        table
            .groups
            .get(usize::try_from(g).unwrap_or(0))
            .map_or("", String::as_str)
    };
    let rules = estate
        .clusters
        .get(&zastrugi_core::ids::ClusterId(cluster))
        .map_or(0, |c| c.rules.len());
    match raise {
        _ if answer.matrix.headroom >= 2 => (String::new(), None),
        Raise::Move { machine, to } => {
            let (m, h) = (&table.machines[*machine], &table.hosts[*to]);
            let from = m.at.map_or("", |at| table.hosts[at].name.as_str());
            let ids = m.id.zip(h.id);
            let link =
                ids.map(|(m, h)| (format!("/sheet/move?ids={}&to={}", m.0, h.0), "Propose it"));
            (
                format!(
                    "With {} moved from {from} to {}, it would survive {more}.",
                    m.name, h.name
                ),
                link,
            )
        }
        Raise::Shrink { machine, to } => shrink(&table.machines[*machine], *to, more),
        Raise::Stop { machine } => {
            let m = &table.machines[*machine];
            let sheet = |id: MachineId| format!("/sheet/power?act=stop&ids={}", id.0);
            let words = format!("With {} stopped, it would survive {more}.", m.name);
            (words, m.id.map(|id| (sheet(id), "Propose it")))
        }
        Raise::Apart { group: g } | Raise::Together { group: g } => {
            let words = format!(
                "If “{}” were not required, it would survive {more}.",
                group(*g)
            );
            let link = match rules {
                // It is a label that keeps them apart.
                0 => (
                    format!("/machines?cluster={cluster}"),
                    "Look at the machines",
                ),
                _ => (format!("/clusters/{cluster}#rules"), "Look at the rules"),
            };
            let link = Some(link);
            (words, link)
        }
        Raise::Memory { percent } => (
            format!("With {percent} % more memory in each host, it would survive {more}."),
            Some(("/hosts".to_owned(), "Look at the hosts")),
        ),
        Raise::None => (
            format!(
                "None of these would let it survive {more}: one machine moved, shrunk to half or stopped, one rule dropped, up to twice the memory in each host."
            ),
            None,
        ),
        Raise::Unknown => (
            format!(
                "No small change was found that lets it survive {more}; not all of them could be tried in time."
            ),
            None,
        ),
    }
}

fn shrink(m: &MachineRow, to: u64, more: &str) -> (String, Option<(String, &'static str)>) {
    let (size, kept) = (Bytes(to), Bytes(m.kept.min(to)));
    let typed = |b: Bytes| b.to_string().replace('\u{a0}', "+");
    let sheet = |id: MachineId| {
        let (size, kept) = (typed(size), typed(kept));
        format!(
            "/sheet/edit-machines?ids={}&memory={size}&kept={kept}&max={size}",
            id.0
        )
    };
    let words = format!("With {size} for {}, it would survive {more}.", m.name);
    (words, m.id.map(|id| (sheet(id), "Propose it")))
}

/// What its protected machines hold, for the facts of the page.
pub(super) fn protected(answer: &Survival) -> String {
    let machines = &answer.table.machines;
    let on = machines
        .iter()
        .filter(|m| m.at.is_some() && m.restart == zastrugi_core::availability::Restart::Yes);
    let (count, held) = on.fold((0, 0), |(n, sum), m| (n + 1, sum + m.needs[MEMORY]));
    format!("{count} machines, {} held", Bytes(held))
}
