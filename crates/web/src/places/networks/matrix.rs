//! The picture of hosts × networks: a ridge where all is as meant, a mark with its words where it isn't. What is fine is
//! one path for each host, so that 64 × 40 stays small.

use askama::Template;
use std::sync::Arc;
use zastrugi_core::{
    estate::{Cluster, Host, Network, Standing},
    view::View,
};

struct Column {
    id: u64,
    name: String,
    words: String,
    x: usize,
}

struct Mark {
    x: usize,
    y: usize,
    class: &'static str,
    words: String,
    link: String,
}

struct Row {
    id: u64,
    name: String,
    y: usize,
    fine: String,
    unknown: String,
}

#[derive(Template)]
#[template(path = "places/networks/matrix.html")]
pub(super) struct Matrix {
    width: usize,
    height: usize,
    columns: Vec<Column>,
    rows: Vec<Row>,
    marks: Vec<Mark>,
    told: String,
}

pub(super) struct Found {
    pub(super) matrix: Matrix,
    /// (words, link to what mends it), the worst first
    pub(super) drift: Vec<(String, Option<u64>)>,
    pub(super) unchecked: usize,
}

const STEP: usize = 24;
const LEFT: usize = 130;
const TOP: usize = 92;

pub(super) fn picture(view: &View, cluster: &Cluster) -> Found {
    let estate = &view.estate;
    let networks: Vec<&Arc<Network>> = estate.networks_of(cluster.id);
    let mut hosts: Vec<&Arc<Host>> = estate.hosts_in(cluster.id).collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    // Few networks stand apart and can be read at once; many stand close.
    let across = if networks.len() > 16 { STEP } else { 2 * STEP };
    let (mut rows, mut marks, mut drift, mut unchecked, mut fine_cells) =
        (vec![], vec![], vec![], 0, 0);
    for (r, host) in hosts.iter().enumerate() {
        let y = TOP + r * STEP;
        let (mut fine, mut unknown) = (String::new(), String::new());
        for (c, network) in networks.iter().enumerate() {
            let x = LEFT + c * across;
            let standing = network.standing(estate, host);
            match &standing {
                Standing::Fine => {
                    fine_cells += 1;
                    fine.push_str(&format!("M{} {}l8-11 4 11z", x + 2, y + 12));
                }
                Standing::Unchecked(_) => {
                    unchecked += 1;
                    unknown.push_str(&format!("M{} {}l8-11 4 11z", x + 2, y + 12));
                }
                bad => {
                    let words = format!("{} on {}: {}", network.name, host.name, bad.words());
                    let mends = bad.drifts().then_some(network.id.0);
                    drift.push((words.clone(), mends));
                    marks.push(Mark {
                        x,
                        y,
                        class: if bad.drifts() { "missing" } else { "wire" },
                        words,
                        link: format!("/networks/{}", network.id.0),
                    });
                }
            }
        }
        rows.push(Row {
            id: host.id.0,
            name: host.name.clone(),
            y,
            fine,
            unknown,
        });
    }
    let all = hosts.len() * networks.len();
    let columns = networks.iter().enumerate().map(|(c, n)| Column {
        id: n.id.0,
        name: n.name.clone(),
        words: format!("{}, {}, MTU {}", n.role.word(), n.vlan_word(), n.mtu),
        x: LEFT + c * across + 10,
    });
    Found {
        matrix: Matrix {
            width: LEFT + networks.len() * across + 80,
            height: TOP + hosts.len() * STEP + 6,
            columns: columns.collect(),
            told: format!("{fine_cells} of {all} as meant, {unchecked} unchecked"),
            rows,
            marks,
        },
        drift,
        unchecked,
    }
}
