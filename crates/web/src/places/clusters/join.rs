//! The sheet for hosts that join a cluster that is there.

use super::free_hosts::{HostChoice, choices};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use zastrugi_core::{
    ids::{ClusterId, HostId},
    rooms::{Proposal, joining::Ask},
    view::View,
};

#[derive(Template)]
#[template(path = "places/clusters/join.html")]
struct JoinFields {
    cluster: u64,
    clusters: Vec<(u64, String)>,
    hosts: Vec<HostChoice>,
}

/// The one that was chosen; else the only one at the first host's site.
fn cluster(view: &View, fields: &Fields, hosts: &[HostId]) -> Option<ClusterId> {
    let estate = &view.estate;
    if fields.has("cluster") {
        return fields.get("cluster").parse().ok().map(ClusterId);
    }
    let site = hosts
        .first()
        .and_then(|h| estate.hosts.get(h))
        .map(|h| h.site)?;
    let mut there = estate.clusters.values().filter(|c| c.site == site);
    let first = there.next()?;
    there.next().is_none().then_some(first.id)
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let chosen: Vec<HostId> = fields.ids("host");
    let id = cluster(view, fields, &chosen);
    let mut clusters: Vec<_> = estate.clusters.values().filter(|c| c.ready).collect();
    clusters.sort_by(|a, b| a.name.cmp(&b.name));
    let name = id
        .and_then(|id| estate.clusters.get(&id))
        .map_or("a cluster", |c| c.name.as_str());
    Filled {
        title: format!("Join {name}"),
        lead: "Hosts get every network of the cluster and mount every volume that all of its hosts have.".into(),
        run: format!("Run: join {name}"),
        danger: false,
        back: id.map_or_else(|| "/hosts".into(), |id| format!("/clusters/{}", id.0)),
        fields: render(&JoinFields {
            cluster: id.map_or(0, |id| id.0),
            clusters: clusters.iter().map(|c| (c.id.0, c.name.clone())).collect(),
            hosts: choices(view, &chosen),
        }),
        ask: Proposal::Joining(Ask::Join {
            cluster: id,
            hosts: chosen,
        }),
        wrong: vec![],
    }
}
