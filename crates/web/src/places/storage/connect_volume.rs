//! The sheet for connecting a volume: made new, or taken, and connected to all hosts of a cluster in one run.

use crate::frame::AtDesk;
use crate::frame::{
    Fields,
    consequences::Wrong,
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::collections::BTreeSet;
use zastrugi_core::rooms::storage;
use zastrugi_core::{
    estate::{Array, Pooled, Provisioning},
    evidence::{Answer, Probe, SeenLun},
    ids::{ArrayId, ClusterId, HostId},
    moment::Span,
    pooled::reckoned,
    rooms::Proposal,
    rooms::storage::{ConnectVolume, VolumeSource},
    units::Bytes,
    view::View,
};

type Choice = (String, String);

/// Where a volume can come from: every array's pools, and what it has already.
#[derive(Template)]
#[template(path = "places/storage/volume_options.html")]
struct VolumeOptions<'a> {
    from: &'a str,
    /// (array, its pools, what it has already)
    arrays: Vec<(String, Vec<Choice>, Vec<Choice>)>,
}

/// The options of a list, with `from` chosen.
pub(crate) fn options(view: &View, from: &str) -> String {
    let arrays = view.estate.arrays.values().map(|a| choices(view, a));
    render(&VolumeOptions {
        from,
        arrays: arrays.collect(),
    })
}

#[derive(Template)]
#[template(path = "places/storage/connect_volume.html")]
struct VolumeFields {
    options: String,
    size: String,
    /// Minutes until copies of a host that is away are made anew.
    wait: String,
    thick: bool,
    name: String,
    cluster: u64,
    clusters: Vec<(u64, String)>,
    hosts: Vec<(u64, String, bool)>,
    some: bool,
    typed: String,
}

fn luns(view: &View, array: ArrayId) -> &[SeenLun] {
    match view
        .evidence
        .answers
        .get(&Probe::Luns(array))
        .map(|e| &e.answer)
    {
        Some(Answer::Luns { luns }) => luns,
        _ => &[],
    }
}

fn choices(view: &View, array: &Array) -> (String, Vec<Choice>, Vec<Choice>) {
    let id = array.id.0;
    let pools = array.pools.iter().map(|p| {
        (
            format!("new:{id}:{}", p.name),
            format!(
                "{}, pool {} · {} of {} free",
                array.name,
                p.name,
                p.free(),
                p.capacity
            ),
        )
    });
    let there = luns(view, array.id)
        .iter()
        .filter(|l| view.estate.volume_with_uid(&l.uid).is_none())
        .map(|l| {
            (
                format!("lun:{id}:{}", l.id),
                format!(
                    "{}: {} · {} · {} used",
                    array.name, l.name, l.capacity, l.used
                ),
            )
        });
    (array.name.clone(), pools.collect(), there.collect())
}

/// `new:ARRAY:POOL`, `lun:ARRAY:NUMBER`, or `own:COPIES` for the hosts' own disks.
pub(crate) fn source(
    from: &str,
    size: Bytes,
    provisioning: Provisioning,
) -> (Option<ArrayId>, VolumeSource) {
    let mut words = from.splitn(3, ':');
    let (kind, array, rest) = (words.next(), words.next(), words.next().unwrap_or_default());
    let array = array.and_then(|a| a.parse().ok()).map(ArrayId);
    let rest = rest.to_owned();
    match kind {
        Some("lun") => (array, VolumeSource::Existing { lun: rest.into() }),
        Some("own") => {
            let copies = from
                .strip_prefix("own:")
                .and_then(|n| n.parse().ok())
                .unwrap_or(0);
            (
                None,
                VolumeSource::Pooled {
                    copies,
                    wait: Pooled::WAIT,
                },
            )
        }
        _ => (
            array,
            VolumeSource::New {
                pool: rest.into(),
                size,
                provisioning,
            },
        ),
    }
}

/// What must be asked before the sheet can speak: every array's volumes, and what the cluster's hosts see.
pub(crate) fn asks(view: &View, fields: &Fields) -> (Vec<ArrayId>, Vec<HostId>) {
    let arrays = view.estate.arrays.values().filter(|a| a.answers());
    let cluster = chosen_cluster(view, fields);
    let hosts = cluster.into_iter().flat_map(|c| view.estate.hosts_in(c));
    // Any host that sees a volume tells what is on it; two are enough for one to be without a path.
    let hosts = hosts.filter(|h| h.accepts_work()).take(2);
    (
        arrays.map(|a| a.id).collect(),
        hosts.map(|h| h.id).collect(),
    )
}

fn chosen_cluster(view: &View, fields: &Fields) -> Option<ClusterId> {
    let first = view.estate.clusters.keys().next().copied();
    fields.get("cluster").parse().ok().map(ClusterId).or(first)
}

/// How long a host that is away is waited for, as it was typed, where the volume lies on the hosts' own disks.
fn wait(fields: &Fields, source: &mut VolumeSource, wrong: &mut Vec<Wrong>) -> String {
    let typed = fields.or("wait", &(Pooled::WAIT.0 / 60_000).to_string());
    if let VolumeSource::Pooled { wait, .. } = source {
        *wait = typed.trim().parse().map(Span::mins).unwrap_or_else(|_| {
            wrong.push(("wait".to_owned(), "Type minutes, such as 10.".to_owned()));
            Pooled::WAIT
        });
    }
    typed
}

/// What the run does; of the hosts' own disks, what can be kept on them.
fn lead(view: &View, cluster: Option<ClusterId>, ask: &Proposal) -> String {
    let own = match ask {
        Proposal::Storage(storage::Ask::ConnectVolume(ask)) => match ask.source {
            VolumeSource::Pooled { copies, .. } => Some((copies, ask.hosts.clone())),
            _ => None,
        },
        _ => None,
    };
    let Some((copies, only)) = own else {
        return "One run maps, logs in, formats only what is empty, mounts and verifies, on every host.".into();
    };
    let hosts = cluster.into_iter().flat_map(|c| view.estate.hosts_in(c));
    let hosts = hosts.filter(|h| only.as_ref().is_none_or(|o| o.contains(&h.id)));
    let raws: Vec<Bytes> = hosts.map(|h| h.free_disks()).collect();
    reckoned(&raws, copies)
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let estate = &view.estate;
    let mut wrong = Vec::new();
    let first = estate.arrays.values().next().map(|a| choices(view, a));
    let first = first.and_then(|a| a.1.into_iter().next());
    let from = fields.or("from", &first.map_or_else(|| "own:2".into(), |c| c.0));
    let typed_size = fields.or("size", "2 TiB");
    let size = Bytes::parse(&typed_size).unwrap_or_else(|words| {
        wrong.push(("size".to_owned(), words));
        Bytes::ZERO
    });
    let thick = fields.get("provisioning") == "thick";
    let provisioning = if thick {
        Provisioning::Thick
    } else {
        Provisioning::Thin
    };
    let (array, mut source) = source(&from, size, provisioning);
    if !matches!(source, VolumeSource::New { .. }) {
        wrong.clear();
    }
    let typed_wait = wait(fields, &mut source, &mut wrong);
    let cluster = chosen_cluster(view, fields);
    let chosen: BTreeSet<HostId> = fields.ids("host").into_iter().collect();
    let mut hosts: Vec<_> = cluster
        .into_iter()
        .flat_map(|c| estate.hosts_in(c))
        .map(|h| (h.id.0, h.name.clone(), chosen.contains(&h.id)))
        .collect();
    hosts.sort_by(|a, b| a.1.cmp(&b.1));
    let (name, typed) = (
        fields.get("name").to_owned(),
        fields.get("typed").to_owned(),
    );
    let ask = Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array,
        source,
        name: (&name).into(),
        cluster,
        hosts: (!chosen.is_empty()).then(|| chosen.clone()),
        typed: (&typed).into(),
    }));
    let count = if chosen.is_empty() {
        hosts.len()
    } else {
        chosen.len()
    };
    Filled {
        title: "Connect a volume".into(),
        lead: lead(view, cluster, &ask),
        run: format!("Run: connect it to {count} hosts"),
        danger: false,
        back: "/storage".into(),
        fields: render(&VolumeFields {
            options: options(view, &from),
            size: typed_size,
            wait: typed_wait,
            thick,
            name,
            cluster: cluster.map_or(0, |c| c.0),
            clusters: estate
                .clusters
                .values()
                .map(|c| (c.id.0, c.name.clone()))
                .collect(),
            some: !chosen.is_empty(),
            hosts,
            typed,
        }),
        ask,
        wrong,
    }
}

/// What lies on the array, and what hosts see of it; anew when the sheet is opened: arrays change by other hands too.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let (arrays, hosts) = asks(&desk.look(), fields);
        let anew = !fields.has("sent");
        desk.inspect_storage(&arrays, &hosts, anew).await;
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_choice_names_array_and_pool_or_volume() {
        let read = |from: &str| source(from, Bytes::gib(2), Provisioning::Thick);
        let new = VolumeSource::New {
            pool: "fast:1".into(),
            size: Bytes::gib(2),
            provisioning: Provisioning::Thick,
        };
        assert_eq!(read("new:7:fast:1"), (Some(ArrayId(7)), new));
        let lun = VolumeSource::Existing { lun: "12".into() };
        assert_eq!(read("lun:7:12"), (Some(ArrayId(7)), lun));
        let own = VolumeSource::Pooled {
            copies: 3,
            wait: Pooled::WAIT,
        };
        assert_eq!(read("own:3"), (None, own));
        assert_eq!(read("").0, None, "nothing chosen: the sheet asks for it");
        assert_eq!(read("new:x:fast").0, None);
    }
}
