//! Where the names of a cluster's machines stand: what its page says of it, and the sheet.

use crate::frame::{
    AtDesk, Fields,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use zastrugi_core::{
    endpoint::Password,
    estate::{Cluster, Estate},
    ids::ClusterId,
    rooms::{
        Proposal,
        naming::{self, Ask, SetNames},
    },
    text::Line,
    view::View,
};

/// In words, for the cluster's page.
pub(super) fn words(estate: &Estate, cluster: &Cluster) -> String {
    let Some(dns) = &cluster.dns else {
        return "none in DNS".into();
    };
    let machines = estate.machines_in(cluster.id);
    let machines = machines.filter(|m| m.entered.is_some()).count();
    let hosts = estate.hosts_in(cluster.id);
    let hosts = hosts.filter(|h| h.entered.is_some()).count();
    let signed = match &dns.key {
        Some(key) => format!("signed with the key {}", key.name),
        None => "not signed".into(),
    };
    format!(
        "{machines} machines and {hosts} hosts in {} at {}, {signed}",
        dns.zone,
        dns.servers.join(", ")
    )
}

#[derive(Template)]
#[template(path = "places/clusters/naming_fields.html")]
struct NamingFields {
    cluster: u64,
    zone: String,
    servers: String,
    key: String,
    /// Whether a secret of this key is kept.
    kept: bool,
    /// Names that stand in a zone that is given up.
    elsewhere: usize,
    leave: bool,
}

fn cluster_of(fields: &Fields) -> ClusterId {
    let named: Vec<ClusterId> = fields.ids("ids");
    named.first().copied().unwrap_or(ClusterId(0))
}

fn typed_servers(fields: &Fields, usual: &str) -> Vec<Line> {
    let typed = fields.or("servers", usual);
    let words = typed.split(|c: char| c == ',' || c.is_whitespace());
    words.filter(|w| !w.is_empty()).map(Line::from).collect()
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let id = cluster_of(fields);
    let cluster = view.estate.clusters.get(&id);
    let name = cluster.map_or_else(String::new, |c| c.name.clone());
    let now = cluster.and_then(|c| c.dns.as_deref());
    let now_servers = now.map_or_else(String::new, |d| d.servers.join(", "));
    let now_key = now.and_then(|d| d.key.as_ref());
    let zone = fields.or("zone", now.map_or("", |d| d.zone.as_str()));
    let key = fields.or("key", now_key.map_or("", |k| k.name.as_str()));
    let moves = now.is_some_and(|d| d.zone != zone.trim());
    let machines = view.estate.machines_in(id).filter(|m| m.entered.is_some());
    let hosts = view.estate.hosts_in(id).filter(|h| h.entered.is_some());
    let shown = NamingFields {
        cluster: id.0,
        servers: fields.or("servers", &now_servers),
        kept: now_key.is_some_and(|k| k.name == key.trim()),
        elsewhere: if moves {
            machines.count() + hosts.count()
        } else {
            0
        },
        leave: fields.ticked("leave", false),
        zone,
        key,
    };
    let ask = SetNames {
        cluster: id,
        zone: (&shown.zone).into(),
        servers: typed_servers(fields, &now_servers),
        key: (&shown.key).into(),
        secret: if fields.secret("password").is_empty() {
            Password::Missing
        } else {
            Password::Typed
        },
        leave: shown.leave,
    };
    Filled {
        title: format!("Names in DNS of {name}"),
        lead: "Each host, and each machine with an address, has its name in DNS, and its address leads back to it. Both follow it when it is renamed, gets other addresses, or is gone.".into(),
        run: format!("Run: set where {name} has its names"),
        danger: false,
        back: format!("/clusters/{}", id.0),
        fields: render(&shown),
        ask: Proposal::Naming(Ask::Set(ask)),
        wrong: vec![],
    }
}

/// Whether the servers that were typed are in charge of the zone.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let view = desk.look();
        let now = view.estate.clusters.get(&cluster_of(fields));
        let now = now.and_then(|c| c.dns.as_deref());
        let zone = fields.or("zone", now.map_or("", |d| d.zone.as_str()));
        let zone = zone.trim().trim_end_matches('.').to_lowercase();
        let usual = now.map_or_else(String::new, |d| d.servers.join(", "));
        let servers = naming::servers(&typed_servers(fields, &usual));
        if !zone.is_empty() {
            desk.ask_for_zone(&servers, &zone).await;
        }
    })
}
