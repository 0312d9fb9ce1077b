//! The picture of paths: hosts at the left, the array's portals at the right, a line for each path that there should be.

use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::{
    estate::{Host, Volume},
    view::View,
};

struct HostMark {
    id: u64,
    name: String,
    y: usize,
    words: String,
    bad: bool,
}

struct PortalMark {
    address: String,
    y: usize,
    lost: bool,
}

struct Line {
    y1: usize,
    y2: usize,
    class: &'static str,
    words: String,
}

#[derive(Template)]
#[template(path = "places/storage/paths.html")]
pub(super) struct Paths {
    height: usize,
    hosts: Vec<HostMark>,
    portals: Vec<PortalMark>,
    lines: Vec<Line>,
    told: String,
}

const STEP: usize = 22;

/// The portals that a path should lead to: the array's, else those that hosts tell of.
fn portals(view: &View, volume: &Volume, hosts: &[&std::sync::Arc<Host>]) -> Vec<String> {
    let array = volume
        .backing
        .as_ref()
        .and_then(|b| view.estate.arrays.get(&b.array));
    let mut all: Vec<String> = array.map(|a| a.portals.clone()).unwrap_or_default();
    for host in hosts {
        for path in host.mounts.get(&volume.id).into_iter().flatten() {
            if !all.contains(&path.portal) {
                all.push(path.portal.clone());
            }
        }
    }
    all
}

pub(super) fn picture(view: &View, volume: &Volume) -> Paths {
    let hosts = volume.hosts(&view.estate);
    let portals = portals(view, volume, &hosts);
    let rows = hosts.len().max(portals.len()).max(1);
    let height = rows * STEP + 12;
    let spread =
        |i: usize, n: usize| 6 + STEP / 2 + (rows * STEP * (2 * i + 1)) / (2 * n.max(1)) - STEP / 2;
    let mut lines = Vec::new();
    let mut alive: BTreeMap<&str, usize> = BTreeMap::new();
    let mut marks = Vec::new();
    for (i, host) in hosts.iter().enumerate() {
        let y = spread(i, hosts.len());
        let had = host.mounts.get(&volume.id);
        for (j, portal) in portals.iter().enumerate() {
            let path = had.into_iter().flatten().find(|p| p.portal == *portal);
            let class = match path {
                Some(p) if p.up => "up",
                Some(_) => "dead",
                None => "none",
            };
            if class == "up" {
                *alive.entry(portal).or_default() += 1;
            }
            let how = match class {
                "up" => "works",
                "dead" => "is dead",
                _ => "is not logged in",
            };
            lines.push(Line {
                y1: y,
                y2: spread(j, portals.len()),
                class,
                words: format!("{} to {portal} {how}", host.name),
            });
        }
        let up = host.paths_up(volume.id);
        marks.push(HostMark {
            id: host.id.0,
            name: host.name.clone(),
            y,
            words: if host.reports() {
                format!("{up} of {}", portals.len().max(1))
            } else {
                "silent".into()
            },
            bad: up < portals.len().max(1),
        });
    }
    let whole = marks.iter().filter(|m| !m.bad).count();
    Paths {
        height,
        told: format!("{whole} of {} hosts have all paths", marks.len()),
        portals: portals
            .iter()
            .enumerate()
            .map(|(j, p)| PortalMark {
                address: p.clone(),
                y: spread(j, portals.len()),
                lost: !hosts.is_empty() && !alive.contains_key(p.as_str()),
            })
            .collect(),
        hosts: marks,
        lines,
    }
}
