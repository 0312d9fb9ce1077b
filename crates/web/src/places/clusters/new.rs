//! The sheet for making a cluster of claimed hosts.

use super::{
    free_hosts::{HostChoice, choices},
    kind,
};
use crate::frame::{
    Fields,
    sheet::{Filled, render},
};
use askama::Template;
use std::collections::BTreeMap;
use zastrugi_core::rooms::clusters;
use zastrugi_core::{
    estate::{ClusterKind, Demand, PsabiLevel},
    evidence::{Answer, Probe},
    ids::HostId,
    rooms::Proposal,
    rooms::clusters::CreateCluster,
    view::View,
};

#[derive(Template)]
#[template(path = "places/clusters/new.html")]
struct ClusterFields {
    name: String,
    hosts: Vec<HostChoice>,
    level: String,
    levels: Vec<&'static str>,
    kind: String,
    volume: String,
    volumes: Vec<(String, String)>,
    survive: bool,
    enforced: bool,
}

/// Volumes that any chosen host sees and that no cluster has.
fn volumes(view: &View, chosen: &[HostId]) -> Vec<(String, String)> {
    let mut seen: BTreeMap<String, String> = BTreeMap::new();
    for host in chosen {
        if let Some(Answer::Sight { volumes }) = view
            .evidence
            .answers
            .get(&Probe::Sight(*host))
            .map(|e| &e.answer)
        {
            for v in volumes
                .iter()
                .filter(|v| view.estate.volume_with_uid(&v.uid).is_none())
            {
                seen.insert(
                    v.uid.clone(),
                    format!("{} · {} free", v.name, v.capacity.less(v.used)),
                );
            }
        }
    }
    seen.into_iter().collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let chosen: Vec<HostId> = fields.ids("host");
    let (name, level, volume) = (
        fields.get("name").to_owned(),
        fields.get("level").to_owned(),
        fields.get("volume").to_owned(),
    );
    let (survive, enforced) = (
        fields.ticked("survive", true),
        fields.ticked("enforced", false),
    );
    let kind = kind::chosen(fields, ClusterKind::default());
    let ask = Proposal::Clusters(clusters::Ask::Create(CreateCluster {
        time: vec![],
        kind,
        name: (&name).into(),
        hosts: chosen.clone(),
        level: PsabiLevel::ALL.into_iter().find(|l| l.word() == level),
        volume: (!volume.is_empty()).then(|| (&volume).into()),
        demand: Demand {
            failures: u32::from(survive),
            domains: [false; 3],
            enforced,
        },
    }));
    let shown = ClusterFields {
        hosts: choices(view, &chosen),
        level,
        levels: PsabiLevel::ALL.into_iter().map(PsabiLevel::word).collect(),
        kind: kind::field(kind, &ClusterKind::ALL),
        volume,
        volumes: volumes(view, &chosen),
        survive,
        enforced,
        name,
    };
    Filled {
        title: "New cluster".into(),
        lead: "Hosts that share volumes and keep room for each other's machines.".into(),
        run: "Run: create the cluster".into(),
        danger: false,
        back: "/hosts".into(),
        fields: render(&shown),
        ask,
        wrong: vec![],
    }
}
