//! The sheet for creating machines.

use super::provided::{self, Provided};
use super::{
    super::storage::qualities,
    copies::Copies,
    firmware::{self, FirmwareFields},
};
use crate::frame::{
    AtDesk, Fields,
    consequences::Wrong,
    fields::{read_labels, whole},
    sheet::{Filled, render},
};
use askama::Template;
use futures::future::BoxFuture;
use std::collections::{BTreeMap, BTreeSet};
use zastrugi_core::{
    estate::{Disk, Memory, NetRole, Provisioning},
    ids::{ClusterId, FirstBootId, HostId, ImageId, NetworkId, PledgeId, VolumeId},
    rooms::machines::{CreateMachines, NewDisk, NewNic},
    text::Line,
    units::Bytes,
    view::View,
};

/// (name, vCPUs, memory in GiB, disk in GiB)
const SIZES: [(&str, u32, u64, u64); 4] = [
    ("Small", 2, 4, 20),
    ("Medium", 4, 16, 40),
    ("Large", 8, 32, 80),
    ("Wide", 16, 64, 120),
];

pub(super) struct DiskField {
    pub(super) size: String,
    pub(super) thick: bool,
}

struct NicField {
    network: u64,
    address: String,
}

#[derive(Template)]
#[template(path = "places/machines/new.html")]
struct NewFields {
    name: String,
    count: String,
    sizes: Vec<(&'static str, u32, String, String)>,
    vcpus: String,
    memory: String,
    kept: String,
    max: String,
    disks: Vec<DiskField>,
    nics: Vec<NicField>,
    networks: Vec<(u64, String)>,
    clusters: Vec<(u64, String)>,
    cluster: u64,
    hosts: Vec<(u64, String)>,
    host: u64,
    labels: String,
    tier: String,
    apart: bool,
    protected: bool,
    start: bool,
    note: String,
    volume: String,
    /// Where there would be a new one: its name and size.
    provided: Option<(String, String)>,
    qualities: String,
    pledge: u64,
    pledges: Vec<(u64, String)>,
    /// What the cluster's volumes offer.
    offered: Vec<String>,
    volumes: Vec<(String, String)>,
    image: u64,
    images: Vec<(u64, String)>,
    first_boot: String,
    document: u64,
    documents: Vec<(u64, String)>,
    firmware: FirmwareFields,
    copies: Copies,
}

/// Reads a number; what can't be read is said at the field, and counts as nothing.
fn number(fields: &Fields, name: &str, otherwise: &str, wrong: &mut Vec<Wrong>) -> u32 {
    let text = fields.or(name, otherwise);
    whole(&text).unwrap_or_else(|words| {
        wrong.push((name.to_owned(), words));
        1
    })
}

/// Reads a size; `otherwise` where nothing was typed.
pub(super) fn size(fields: &Fields, name: &str, otherwise: Bytes, wrong: &mut Vec<Wrong>) -> Bytes {
    match fields.get(name) {
        "" => otherwise,
        text => Bytes::parse(text).unwrap_or_else(|words| {
            wrong.push((name.to_owned(), words));
            otherwise
        }),
    }
}

fn disks(
    fields: &Fields,
    copies: &Copies,
    wrong: &mut Vec<Wrong>,
) -> (Vec<DiskField>, Vec<NewDisk>) {
    if let Some(original) = copies.original.as_ref().filter(|_| !fields.has("disk")) {
        let thick = |d: &Disk| d.provisioning == Provisioning::Thick;
        let shown = original.disks.iter().map(|d| DiskField {
            size: d.size.to_string().replace('\u{a0}', " "),
            thick: thick(d),
        });
        let read = original.disks.iter().map(|d| NewDisk {
            size: d.size,
            provisioning: d.provisioning,
        });
        return (shown.collect(), read.collect());
    }
    if !fields.has("disk") {
        let disk = NewDisk {
            size: Bytes::gib(40),
            provisioning: Provisioning::Thin,
        };
        return (
            vec![DiskField {
                size: "40 GiB".into(),
                thick: false,
            }],
            vec![disk],
        );
    }
    disk_rows(fields, 1, wrong)
}

/// Disks as rows have them; after so many an empty one is none.
pub(super) fn disk_rows(
    fields: &Fields,
    least: usize,
    wrong: &mut Vec<Wrong>,
) -> (Vec<DiskField>, Vec<NewDisk>) {
    let kinds: Vec<&str> = fields.all("provisioning").collect();
    let (mut shown, mut read) = (Vec::new(), Vec::new());
    for (i, text) in fields.all("disk").enumerate() {
        let thick = kinds.get(i) == Some(&"thick");
        if text.is_empty() && i >= least {
            continue;
        }
        let provisioning = if thick {
            Provisioning::Thick
        } else {
            Provisioning::Thin
        };
        match Bytes::parse(text) {
            Ok(size) => read.push(NewDisk { size, provisioning }),
            Err(words) => {
                wrong.push(("disks".into(), words));
                read.push(NewDisk {
                    size: Bytes::gib(1),
                    provisioning,
                });
            }
        }
        shown.push(DiskField {
            size: text.to_owned(),
            thick,
        });
    }
    (shown, read)
}

/// The networks that guests of the cluster can have.
pub(super) fn networks(view: &View, cluster: Option<ClusterId>) -> Vec<(u64, String)> {
    let all = cluster
        .map(|c| view.estate.networks_of(c))
        .unwrap_or_default();
    let guests = all
        .into_iter()
        .filter(|n| n.role == NetRole::Guest && n.ready);
    guests
        .map(|n| (n.id.0, format!("{} · {}", n.name, n.vlan_word())))
        .collect()
}

/// The cards; one on the first network of guests if nobody said otherwise.
fn nics(
    view: &View,
    cluster: Option<ClusterId>,
    fields: &Fields,
    copies: &Copies,
    wrong: &mut Vec<Wrong>,
) -> (Vec<NicField>, Vec<NewNic>) {
    // One whose networks are not here gets what any other machine gets.
    let cards = copies.cards.as_ref().filter(|_| !fields.has("network"));
    if let Some(like) = cards.and_then(|cards| like(view, cluster, cards)) {
        return like;
    }
    if !fields.has("network") {
        let first = networks(view, cluster).first().map(|n| n.0);
        let shown = NicField {
            network: first.unwrap_or(0),
            address: String::new(),
        };
        let nic = NewNic {
            network: first.map(NetworkId),
            address: None,
        };
        return (vec![shown], vec![nic]);
    }
    let addresses: Vec<&str> = fields.all("address").collect();
    let (mut shown, mut read) = (Vec::new(), Vec::new());
    for (i, network) in fields.all("network").enumerate() {
        if network == "none" {
            continue;
        }
        let text = addresses.get(i).copied().unwrap_or_default();
        let address = match text {
            "" => None,
            text => text.parse().map_or_else(
                |_| {
                    wrong.push(("nics".to_owned(), format!("“{text}” is no address.")));
                    None
                },
                Some,
            ),
        };
        let network: u64 = network.parse().unwrap_or(0);
        shown.push(NicField {
            network,
            address: text.to_owned(),
        });
        read.push(NewNic {
            network: (network > 0).then_some(NetworkId(network)),
            address,
        });
    }
    (shown, read)
}

/// Cards as the original has them, on networks of the cluster.
fn like(
    view: &View,
    cluster: Option<ClusterId>,
    cards: &[Option<NetworkId>],
) -> Option<(Vec<NicField>, Vec<NewNic>)> {
    let here = networks(view, cluster);
    let known = |n: &Option<NetworkId>| n.filter(|n| here.iter().any(|(id, _)| *id == n.0));
    let all: Vec<_> = cards.iter().map(known).collect();
    all.iter().any(Option::is_some).then_some(())?;
    let shown = all.iter().map(|network| NicField {
        network: network.map_or(0, |n| n.0),
        address: String::new(),
    });
    let read = all.iter().map(|network| NewNic {
        network: *network,
        address: None,
    });
    Some((shown.collect(), read.collect()))
}

/// The volumes of the cluster with what is free on each.
pub(crate) fn volumes(view: &View, cluster: Option<ClusterId>) -> Vec<(u64, String)> {
    let cluster = cluster.and_then(|c| view.estate.clusters.get(&c));
    cluster
        .map(|c| view.estate.volumes_of(c))
        .unwrap_or_default()
        .into_iter()
        .map(|v| (v.id.0, format!("{} · {} free", v.name, v.free())))
        .collect()
}

fn memory(fields: &Fields, usual: Bytes, wrong: &mut Vec<Wrong>) -> Memory {
    let all = size(fields, "memory", usual, wrong);
    Memory {
        size: all,
        kept: size(fields, "kept", all, wrong),
        max: size(fields, "max", all, wrong),
    }
}

/// How much a machine holds that is copied is read before it is said.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        let machine = Copies::machine(fields);
        desk.ask_for_layers(machine.as_slice()).await;
        if let Some(image) = Copies::archive(fields) {
            desk.ask_for_package(image).await;
        }
        if let Some(at) = Copies::point(fields) {
            desk.ask_for_point(at).await;
        }
    })
}

/// Sizes that can be taken as they are: name, vCPUs, memory, disk.
fn sizes() -> Vec<(&'static str, u32, String, String)> {
    let gib = |n: &u64| format!("{n} GiB");
    let all = SIZES.iter();
    all.map(|(name, vcpus, memory, disk)| (*name, *vcpus, gib(memory), gib(disk)))
        .collect()
}

fn many(count: u32) -> String {
    match count {
        1 => "the machine".into(),
        n => format!("{n} machines"),
    }
}

fn labels(typed: &str) -> BTreeMap<Line, Line> {
    let typed = read_labels(typed).into_iter();
    typed.map(|(k, v)| (k.into(), v.into())).collect()
}

/// What the volumes of a cluster offer.
fn offered(view: &View, cluster: Option<ClusterId>) -> Vec<String> {
    let of = cluster.and_then(|c| view.estate.clusters.get(&c));
    let volumes = of.map(|c| view.estate.volumes_of(c)).unwrap_or_default();
    let all: BTreeSet<Line> = volumes.iter().flat_map(|v| v.qualities.clone()).collect();
    all.into_iter().map(String::from).collect()
}

type Parts = (Memory, Vec<NewDisk>, Vec<NewNic>);

/// What is wished, as it was filled in.
fn asked(
    fields: &Fields,
    copies: &Copies,
    (cluster, count): (Option<ClusterId>, u32),
    (memory, disks, nics): Parts,
    (usual, name): (&str, &str),
    wrong: &mut Vec<Wrong>,
) -> CreateMachines {
    CreateMachines {
        pledge: fields.get("pledge").parse().ok().map(PledgeId),
        pattern: name.into(),
        count,
        cluster,
        qualities: qualities::words(fields.get("qualities")),
        volume: fields.get("volume").parse().ok().map(VolumeId),
        host: fields.get("host").parse().ok().map(HostId),
        vcpus: number(fields, "vcpus", usual, wrong),
        memory,
        disks,
        nics,
        copied: copies.copied,
        firmware: Default::default(),
        taken: copies.taken(),
        image: fields.get("image").parse().ok().map(ImageId),
        first_boot: fields.get("once").parse().ok(),
        document: fields
            .or("document", &copies.document())
            .parse()
            .ok()
            .map(FirstBootId),
        labels: labels(&fields.or("labels", &copies.labels())),
        tier: u8::try_from(number(fields, "tier", "3", wrong)).unwrap_or(0),
        protected: fields.ticked("protected", false),
        apart: fields.ticked("apart", false),
        note: fields.or("note", &copies.note()).into(),
        start: fields.ticked("start", true),
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let mut wrong = vec![];
    let clusters = view.estate.clusters.values();
    let clusters: Vec<(u64, String)> = clusters.map(|c| (c.id.0, c.name.clone())).collect();
    let given = fields.get("cluster").parse().ok();
    let copies = Copies::of(view, fields);
    wrong.extend(copies.unread());
    let cluster = given
        .or_else(|| copies.cluster(view).map(|c| c.0))
        .or_else(|| clusters.first().map(|c| c.0))
        .map(ClusterId);
    let memory = memory(fields, copies.usual.1, &mut wrong);
    let usual = (
        copies.usual.0.to_string(),
        copies.usual.1.to_string().replace('\u{a0}', " "),
    );
    let (shown_disks, disks) = disks(fields, &copies, &mut wrong);
    let (shown_nics, nics) = nics(view, cluster, fields, &copies, &mut wrong);
    let count = number(fields, "count", "1", &mut wrong);
    let parts = (memory, disks, nics);
    let name = fields.or("name", &copies.name(view));
    let (boots, firmware) = firmware::of(fields, copies.original.as_ref());
    let ask = CreateMachines {
        firmware,
        ..asked(
            fields,
            &copies,
            (cluster, count),
            parts,
            (&usual.0, &name),
            &mut wrong,
        )
    };
    let provide = Provided::of(fields, &ask, &mut wrong);
    let shown = NewFields {
        name: name.clone(),
        count: fields.or("count", "1"),
        sizes: sizes(),
        vcpus: fields.or("vcpus", &usual.0),
        memory: fields.or("memory", &usual.1),
        kept: fields.get("kept").into(),
        max: fields.get("max").into(),
        disks: shown_disks,
        nics: shown_nics,
        networks: networks(view, cluster),
        cluster: cluster.map_or(0, |c| c.0),
        hosts: super::hosts(view, cluster),
        host: ask.host.map_or(0, |h| h.0),
        labels: fields.or("labels", &copies.labels()),
        tier: fields.or("tier", "3"),
        apart: ask.apart,
        protected: ask.protected,
        start: ask.start,
        note: (&ask.note).into(),
        qualities: fields.get("qualities").into(),
        pledge: ask.pledge.map_or(0, |p| p.0),
        pledges: super::super::protect::choices(view),
        offered: offered(view, cluster),
        volume: fields.get("volume").to_owned(),
        provided: provide.as_ref().map(Provided::shown),
        volumes: provided::places(view, cluster),
        image: ask.image.map_or(0, |i| i.0),
        images: super::images(view, cluster),
        first_boot: fields.get("once").into(),
        document: ask.document.map_or(0, |d| d.0),
        documents: super::super::first_boot::choices(view),
        firmware: boots,
        copies,
        clusters,
    };
    let many = many(count);
    Filled {
        title: "New machines".into(),
        lead: "Everything on the right follows from what you enter; nothing happens before you run it.".into(),
        run: format!("Run: create {many}"),
        danger: false,
        back: "/machines".into(),
        fields: render(&shown),
        ask: provided::proposal(provide, ask),
        wrong,
    }
}
