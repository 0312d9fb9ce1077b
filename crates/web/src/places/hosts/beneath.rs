//! What a host stands on: its ports, the networks on them, the volumes and the ways to them; and what is not as it was meant.

use askama::Template;
use zastrugi_core::{
    estate::{DiskState, Host, LocalDisk, Outages, Standing},
    view::View,
};

struct PortRow {
    dead: bool,
    name: String,
    speed: String,
    mac: String,
    place: String,
}

struct DiskRow {
    name: String,
    size: String,
    glyph: &'static str,
    words: String,
    /// The volume that it is lent to.
    lent: Option<(u64, String)>,
}

struct NetRow {
    id: u64,
    name: String,
    glyph: &'static str,
    words: String,
    vlan: String,
    uplinks: String,
}

struct VolumeRow {
    id: u64,
    name: String,
    glyph: &'static str,
    words: String,
    /// Where the ways lead that don't work.
    dead: String,
    mend: bool,
}

#[derive(Template)]
#[template(path = "places/hosts/beneath.html")]
pub(super) struct Beneath {
    ports: Vec<PortRow>,
    disks: Vec<DiskRow>,
    networks: Vec<NetRow>,
    volumes: Vec<VolumeRow>,
    /// On the host and in no network of its cluster.
    strange: Vec<String>,
    may: bool,
}

impl Beneath {
    pub(super) fn of(view: &View, host: &Host, may: bool) -> Beneath {
        let ports = host.uplinks.iter().map(|u| PortRow {
            name: u.name.clone(),
            speed: speed(u.mbit),
            mac: u.mac.clone(),
            dead: !u.up,
            place: match u.switch.as_str() {
                "" => "not known".into(),
                switch => format!("{switch} port {}", u.port),
            },
        });
        let known = host
            .cluster
            .map(|c| view.estate.networks_of(c))
            .unwrap_or_default();
        let strange = host
            .networks
            .keys()
            .filter(|n| known.iter().all(|k| k.name != **n))
            .cloned();
        Beneath {
            ports: ports.collect(),
            disks: host.disks.iter().map(|d| disk(view, d)).collect(),
            networks: networks(view, host),
            volumes: volumes(view, host),
            strange: strange.collect(),
            may,
        }
    }
}

fn disk(view: &View, disk: &LocalDisk) -> DiskRow {
    let volume = |uid: &str| {
        view.estate
            .volume_with_uid(uid)
            .map(|v| (v.id.0, v.name.clone()))
    };
    let (glyph, words, lent) = match &disk.state {
        DiskState::Free => ("off", "free".to_owned(), None),
        DiskState::Dead => ("down", "dead".into(), None),
        DiskState::Holds(what) => ("unknown", format!("not empty: {what}"), None),
        DiskState::Lent(uid) => match volume(uid) {
            Some(v) => ("steady", "lent to".into(), Some(v)),
            None => (
                "unknown",
                "lent to a volume that is not known here".into(),
                None,
            ),
        },
    };
    DiskRow {
        name: disk.name.clone(),
        size: disk.size.to_string(),
        glyph,
        words,
        lent,
    }
}

fn speed(mbit: u64) -> String {
    match mbit {
        0 => "not known".into(),
        m if m % 1000 == 0 => format!("{} Gbit/s", m / 1000),
        m => format!("{m} Mbit/s"),
    }
}

fn networks(view: &View, host: &Host) -> Vec<NetRow> {
    let all = host
        .cluster
        .map(|c| view.estate.networks_of(c))
        .unwrap_or_default();
    let row = |n: &&std::sync::Arc<zastrugi_core::estate::Network>| {
        let standing = n.standing(&view.estate, host);
        let glyph = match &standing {
            _ if !host.reports() => "unknown",
            Standing::Fine => "steady",
            Standing::Unchecked(_) => "unknown",
            Standing::Wire(_) => "mind",
            Standing::Missing | Standing::Differs(_) => "down",
        };
        let words = if host.reports() {
            standing.words()
        } else {
            "the host is silent".into()
        };
        NetRow {
            id: n.id.0,
            name: n.name.clone(),
            glyph,
            words,
            vlan: n.vlan_word(),
            uplinks: n.uplinks.iter().cloned().collect::<Vec<_>>().join(", "),
        }
    };
    all.iter().filter(|n| n.ready).map(row).collect()
}

fn volumes(view: &View, host: &Host) -> Vec<VolumeRow> {
    let estate = &view.estate;
    let cluster = host.cluster.and_then(|c| estate.clusters.get(&c));
    let Some(cluster) = cluster else {
        return vec![];
    };
    let outages = Outages::of(estate);
    let meant = estate
        .volumes_of(cluster)
        .into_iter()
        .filter(|v| v.ready && v.shall_mount(host.id));
    meant
        .map(|v| {
            let (up, of) = (host.paths_up(v.id), v.portals(estate));
            let paths = host.mounts.get(&v.id);
            let dead: Vec<_> = paths
                .into_iter()
                .flatten()
                .filter(|p| !p.up)
                .map(|p| p.portal.as_str())
                .collect();
            let mine = outages.mendable(estate, v);
            let (glyph, words) = match up {
                _ if !host.reports() => ("unknown", "the host is silent".to_owned()),
                0 if paths.is_none() => ("down", "not mounted".to_owned()),
                0 => ("down", "out of reach".to_owned()),
                up if up < of => ("mind", format!("{up} of {of} paths")),
                up => ("steady", format!("{up} of {of} paths")),
            };
            VolumeRow {
                id: v.id.0,
                name: v.name.clone(),
                glyph,
                words,
                dead: dead.join(", "),
                mend: mine.iter().any(|d| d.host.id == host.id),
            }
        })
        .collect()
}
