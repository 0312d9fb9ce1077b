//! Claimed hosts that no cluster has, to choose from: for making one and for joining one.

use crate::frame::{AtDesk, Fields};
use futures::future::BoxFuture;
use zastrugi_core::{ids::HostId, rooms::clusters, view::View};

pub(super) struct HostChoice {
    pub(super) id: u64,
    pub(super) name: String,
    pub(super) words: String,
    pub(super) chosen: bool,
}

/// By name, with site, processor, memory and software of each.
pub(super) fn choices(view: &View, chosen: &[HostId]) -> Vec<HostChoice> {
    let estate = &view.estate;
    let free = estate.hosts.values().filter(|h| h.cluster.is_none());
    let mut free: Vec<_> = free.collect();
    free.sort_by(|a, b| a.name.cmp(&b.name));
    let choice = |h: &std::sync::Arc<zastrugi_core::estate::Host>| {
        let site = estate.sites.get(&h.site).map_or("", |s| s.name.as_str());
        HostChoice {
            id: h.id.0,
            name: h.name.clone(),
            words: format!(
                "{site} · {} · {} cores · {} · {}",
                h.hardware.cpu.level, h.hardware.cpu.cores, h.hardware.memory, h.software
            ),
            chosen: chosen.contains(&h.id),
        }
    };
    free.into_iter().map(choice).collect()
}

/// What each chosen host says of its clock, its controller and the volumes it sees.
pub(super) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let hosts: Vec<HostId> = fields.ids("host");
        desk.inspect(&hosts).await;
        let view = desk.look();
        let known = hosts.iter().filter_map(|h| view.estate.hosts.get(h));
        if let Some(ends) = clusters::ends(&known.cloned().collect::<Vec<_>>()) {
            desk.measure_between(&[clusters::between(&ends)]).await;
        }
    })
}
