//! The demo: devices, people, and an estate that is claimed by runs like any other.

mod fronts;
mod history;
mod pairs;
mod pledges;
mod stores;
mod templates;
mod two;
mod welcome;

use crate::{
    args::{Demo, Serve, Standins},
    house::{Houses, Manager},
    serve::{Failed, engine_settings, start_standins},
};
use std::{
    net::{IpAddr, Ipv4Addr},
    path::PathBuf,
    sync::Arc,
    time::{Duration, Instant},
};
use uuid::Uuid;
use zastrugi_core::rooms::{clusters, edits, hosts, images, keepers, networks, storage};
use zastrugi_core::{
    addressing::range,
    endpoint::{Endpoint, Password},
    estate::{ArrayKind, Demand, NetRole, Part, PlaceRule, RuleKind, Subnet, Who},
    evidence::{Answer, Evidence, Probe},
    ids::{ClusterId, HostId, RunId},
    permits::Role,
    rooms::Proposal,
    rooms::clusters::CreateCluster,
    rooms::edits::{Set, Target},
    rooms::hosts::ClaimHosts,
    rooms::images::AddImage,
    rooms::networks::{ConnectSwitch, CreateNetwork},
    rooms::storage::{ConnectArray, ConnectVolume, VolumeSource},
    runs::RunState,
    units::Bytes,
};
use zastrugi_engine::{Desk, Engine, Viewer};
use zastrugi_standins::World;

/// Name, role, password of the demo's people.
const PEOPLE: [(&str, Role, &str); 3] = [
    ("duty.admin", Role::Admin, "harbour-lights"),
    ("shift.operator", Role::Operator, "mooring-lines"),
    ("bridge.viewer", Role::Viewer, "spyglass-only"),
];
/// Site, cluster, third number of the hosts' addresses, how many of them.
const CLUSTERS: [(&str, &str, u8, u8); 3] = [
    ("Quayside", "Eider", 1, 8),
    ("Hilltop", "Fulmar", 2, 4),
    ("Lantern Point", "Tern", 3, 2),
];
/// Site, kind, last two numbers of the management addresses.
const ARRAYS: [(&str, ArrayKind, &[&str]); 3] = [
    ("Quayside", ArrayKind::Block, &["1.201", "1.202"]),
    ("Hilltop", ArrayKind::Block, &["2.201", "2.202"]),
    ("Lantern Point", ArrayKind::File, &["3.201"]),
];
/// Name, label, MiB, cluster: images that the demo's people use.
const IMAGES: [(&str, &str, usize, &str); 4] = [
    ("Pilot Linux 12 server", "PILOT_12_SERVER", 6, "Eider"),
    ("Pilot Linux 12 rescue", "PILOT_12_RESCUE", 2, "Eider"),
    ("Kiosk installer 4", "KIOSK_4", 3, "Tern"),
    (
        "Pilot Linux 12 server, Hilltop",
        "PILOT_12_SERVER",
        6,
        "Fulmar",
    ),
];
/// Name, role, VLAN, MTU.
const NETWORKS: [(&str, NetRole, u16, u32); 5] = [
    ("management", NetRole::Management, 10, 1500),
    ("crew", NetRole::Guest, 20, 1500),
    ("tickets", NetRole::Guest, 30, 1500),
    ("storage", NetRole::Storage, 40, 9000),
    ("migration", NetRole::Migration, 50, 9000),
];
/// Where drills are carried out, at the site that takes over.
const DRILLS: [(&str, u16); 2] = [("drill-crew", 920), ("drill-tickets", 930)];
const FIRST_PASSWORD: &str = "first-light";

pub(crate) async fn demo(args: Demo) -> Result<(), Failed> {
    let began = Instant::now();
    std::fs::create_dir_all(&args.dir)?;
    let devices = Standins {
        dir: args.dir.join("devices"),
        net: args.net.clone(),
        speed: args.speed,
        scenario: None,
        large: None,
        announcements: args.announcements,
        control_port: args.control_port,
        control_token: control_token(&args)?,
    };
    let standins = start_standins(&devices).await?;
    let exports = args.dir.join("exports");
    std::fs::create_dir_all(exports.join("hill-nfs"))?;
    let serve = Serve {
        database: args.database.clone(),
        address: IpAddr::V4(Ipv4Addr::LOCALHOST),
        port: args.port,
        key_file: args.dir.join("seal.key"),
        behind_proxy: false,
        proxies: vec![],
        name: "Skarholm Ferries".into(),
        networks: format!("{}.0.0/16", args.net),
        announcements: args.announcements,
        own_machine: None,
        media: Some(media(&args)?),
        media_url: None,
        exports: Some(exports),
        weather: None,
        control_token: None,
        stand_by: false,
        pages_only: false,
        carry_only: vec![],
        order_lease: 30,
        die_at: None,
    };
    let engine = Engine::start(engine_settings(&serve).await?).await?;
    let desk = engine.desk();
    let admin = people(&desk).await?;
    if !args.empty && desk.look().estate.hosts.is_empty() {
        fill(&desk, &admin, &args.net, &standins.world).await?;
        // What somebody did on one host alone.
        standins
            .world
            .change_port("quay-switch-2", "eider-04", Some(1500), None);
        standins.world.forget("eider-07", "5d20-basalt-bulk");
        // Somebody brought an old copy of the volume back to look something up, and left two records behind.
        standins.world.lays("test-sails", "basalt-bulk", None);
        standins
            .world
            .lays("legacy-fares", "basalt-bulk", Some("fares-2023"));
        pledges::drift(&desk, &standins.world).await;
    }
    // From here on the manager is a process of its own: it can be killed, and devices and keepers go on.
    engine.stop().await;
    let (control, token) = (standins.control, devices.control_token.clone());
    let other = two::stand_by(&args, &serve);
    let manager = Manager::new(serve, control, token.clone());
    let other = other.map(|serve| Manager::new(serve, control, token));
    let houses = Houses::new(manager, other);
    standins.world.stands_in(houses.clone());
    let kept = async {
        let up = async {
            houses.answer().await?;
            welcome::say(&args, began.elapsed(), &standins)
        };
        // One that does not come up is said at once.
        tokio::try_join!(houses.keep(), up).map(drop)
    };
    let stopped = async {
        let stopped = tokio::signal::ctrl_c().await;
        houses.end();
        stopped
    };
    tokio::pin!(kept);
    tokio::select! {
        kept = &mut kept => return kept,
        stopped = stopped => stopped?,
    }
    kept.await
}

/// What bare hosts can be installed from: file, software, the maker whose hardware it is for, MiB.
const MEDIA: [(&str, &str, Option<&str>, usize); 3] = [
    ("any-4.2.1.iso", "4.2.1", None, 4),
    ("brattholm-4.2.1.iso", "4.2.1", Some("Brattholm"), 6),
    ("korsnes-4.2.1.iso", "4.2.1", Some("Korsnes"), 6),
];

fn media(args: &Demo) -> Result<PathBuf, Failed> {
    let dir = args.dir.join("media");
    std::fs::create_dir_all(&dir)?;
    for (file, version, maker, mib) in MEDIA {
        let manifest = serde_json::json!({"version": version, "maker": maker}).to_string();
        let body = vec![0xa5; mib << 20];
        let files: [(&str, &[u8]); 2] = [("IMAGE.JSN", manifest.as_bytes()), ("SYSTEM.IMG", &body)];
        let image = zastrugi_formats::iso9660::write("INSTALL", &files);
        let image = image.map_err(|e| Failed::Other(e.to_string()))?;
        std::fs::write(dir.join(file), image)?;
    }
    Ok(dir)
}

/// The control socket's token lies in a file that only its owner can read.
fn control_token(args: &Demo) -> Result<String, Failed> {
    let key = zastrugi_engine::read_key(&args.dir.join("control.key"))?;
    Ok(key.iter().take(16).map(|b| format!("{b:02x}")).collect())
}

/// Adds the demo's people the first time; answers the admin.
async fn people(desk: &Desk) -> Result<Viewer, Failed> {
    if desk.people().await?.is_empty() {
        for (name, role, password) in PEOPLE {
            desk.add_person(name, role, password)
                .await
                .map_err(|e| Failed::Other(e.to_string()))?;
        }
    }
    let admin = desk
        .people()
        .await?
        .into_iter()
        .find(|p| p.role == Role::Admin);
    let admin = admin.ok_or_else(|| Failed::Other("there is no admin".into()))?;
    Ok(Viewer {
        id: admin.id,
        name: admin.name,
        role: admin.role,
    })
}

/// Claims the hosts and makes the clusters, all at once, by runs.
async fn fill(desk: &Desk, admin: &Viewer, net: &str, world: &Arc<World>) -> Result<(), Failed> {
    let sites = CLUSTERS.map(|(site, _, third, count)| {
        let addresses: Vec<String> = (11..11 + count)
            .map(|n| format!("{net}.{third}.{n}:7443"))
            .collect();
        (site, addresses)
    });
    let claims =
        futures_join(sites.map(|(site, addresses)| claim(desk, admin, site, addresses))).await;
    claims.into_iter().collect::<Result<Vec<_>, _>>()?;
    for (site, kind, controllers) in ARRAYS {
        let addresses: Vec<String> = controllers
            .iter()
            .map(|last| format!("{net}.{last}:8443"))
            .collect();
        array(desk, admin, site, kind, addresses).await?;
    }
    let clusters =
        futures_join(CLUSTERS.map(|(site, name, _, _)| cluster(desk, admin, site, name))).await;
    clusters.into_iter().collect::<Result<Vec<_>, _>>()?;
    take(desk, admin, "basalt", "basalt-bulk", "Eider").await?;
    for (site, name) in [
        ("Quayside", "Eider"),
        ("Hilltop", "Fulmar"),
        ("Lantern Point", "Tern"),
    ] {
        networks(desk, admin, net, site, name).await?;
    }
    for (name, label, mib, cluster) in IMAGES {
        image(desk, admin, name, label, mib << 20, cluster).await?;
    }
    places(desk, admin).await?;
    fronts::front(desk, admin, net).await?;
    keep(desk, admin).await?;
    agents(desk, admin).await?;
    pledges::make(desk, admin).await?;
    let store = stores::store(desk, admin, net).await?;
    stores::jobs(desk, admin).await?;
    stores::past(desk, admin, (&store, world)).await?;
    pairs::pair(desk, admin).await?;
    templates::first_boot(desk, admin).await?;
    templates::kiosk(desk, admin).await?;
    templates::trainers(desk, admin).await?;
    pairs::first(desk, admin).await
}

/// Keepers of every cluster, where they are best put.
async fn keep(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    for cluster in estate.clusters.values() {
        let Some(volume) = keepers::quorum(&estate, cluster) else {
            continue;
        };
        let hosts = keepers::choose(&estate, cluster, volume);
        let place = keepers::Place {
            cluster: cluster.id,
            hosts,
        };
        carry_out(desk, admin, Proposal::Keepers(keepers::Ask::Place(place))).await?;
    }
    Ok(())
}

/// Racks and feeds of the main hall, and a rule that somebody would wish for.
async fn places(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let label = |key: &str, value: String| Set::Label {
        key: key.into(),
        value: value.into(),
    };
    let mut edits = Vec::new();
    for (n, host) in estate
        .hosts
        .values()
        .filter(|h| h.name.starts_with("eider"))
        .enumerate()
    {
        let rack = format!("a{}", n / 3 + 1);
        let feed = if n % 2 == 0 { "left" } else { "right" };
        edits.push((
            host.id,
            vec![label("rack", rack), label("feed", feed.into())],
        ));
    }
    carry_out(desk, admin, Proposal::Edits(edits::Ask::Hosts(edits))).await?;
    let Some(eider) = estate.cluster_named("Eider") else {
        return Ok(());
    };
    let rule = PlaceRule {
        name: "name service apart".into(),
        kind: RuleKind::Apart,
        who: Who::Machines(
            ["dns-1", "dns-2"]
                .iter()
                .filter_map(|n| estate.machine_named(n).map(|m| m.id))
                .collect(),
        ),
        required: true,
    };
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Cluster(eider.id)],
        sets: vec![Set::Rules(vec![rule])],
    });
    carry_out(desk, admin, ask).await
}

/// The switches of a site, and the networks of its cluster.
/// Hosts are really there, at addresses of this machine; guests are not.
fn subnet(net: &str, third: u8, role: NetRole, vlan: u16) -> Result<Subnet, Failed> {
    let (head, ranges): (String, &[(&str, Part)]) = match role {
        NetRole::Management => (format!("{net}.{third}"), &[("11-99", Part::Hosts)]),
        NetRole::Guest => (
            format!("10.{}.{vlan}", 76 + third),
            &[
                ("20-199", Part::Guests),
                ("200-209", Part::Virtual),
                ("210-239", Part::Hosts),
            ],
        ),
        _ => (
            format!("10.{}.{vlan}", 76 + third),
            &[("20-199", Part::Guests), ("210-239", Part::Hosts)],
        ),
    };
    let read = |(tail, part): &(&str, Part)| range(&format!("{head}.{tail}"), *part).ok();
    Ok(Subnet {
        net: format!("{head}.0/24")
            .parse()
            .map_err(|_| Failed::Other("a subnet of the demo".into()))?,
        gateway: format!("{head}.1").parse().ok(),
        ranges: ranges.iter().filter_map(read).collect(),
    })
}

async fn networks(
    desk: &Desk,
    admin: &Viewer,
    net: &str,
    site: &str,
    cluster: &str,
) -> Result<(), Failed> {
    let third = CLUSTERS.iter().find(|c| c.0 == site).map_or(1, |c| c.2);
    for n in [221, 222] {
        let address = format!("{net}.{third}.{n}:8443");
        desk.greet_switch(&address).await;
        let book = desk.look().evidence;
        let probe = Probe::SwitchGreeting(address.clone());
        let pin = match book.answers.get(&probe).map(|e| &e.answer) {
            Some(Answer::Manager { pin, .. }) => pin.clone(),
            _ => String::new(),
        };
        let secret = desk
            .keep_secret(FIRST_PASSWORD)
            .await
            .map_err(Failed::Other)?;
        let ask = Proposal::Networks(networks::Ask::ConnectSwitch(ConnectSwitch {
            target: Endpoint {
                address: address.into(),
                pin: pin.into(),
            },
            site: site.into(),
            user: "reader".into(),
            password: Password::Kept(secret),
        }));
        carry_out(desk, admin, ask).await?;
    }
    let estate = desk.look().estate;
    let id = estate.cluster_named(cluster).map(|c| c.id);
    for (name, role, vlan, mtu) in NETWORKS {
        let in_vlans = third < 3 || [10, 20, 50].contains(&vlan);
        if !in_vlans {
            continue;
        }
        let subnet = subnet(net, third, role, vlan)?;
        let ask = Proposal::Networks(networks::Ask::Create(CreateNetwork {
            name: name.into(),
            cluster: id,
            role,
            vlan: Some(vlan),
            mtu,
            subnets: vec![subnet],
            uplinks: uplinks_for(role).map(str::to_owned).into(),
        }));
        carry_out(desk, admin, ask).await?;
    }
    if site == "Hilltop" {
        drills(desk, admin, id).await?;
    }
    Ok(())
}

/// Networks that nobody of production is on, and that lead nowhere.
async fn drills(desk: &Desk, admin: &Viewer, cluster: Option<ClusterId>) -> Result<(), Failed> {
    for (name, vlan) in DRILLS {
        let ask = Proposal::Networks(networks::Ask::Create(CreateNetwork {
            name: name.into(),
            cluster,
            role: NetRole::Guest,
            vlan: Some(vlan),
            mtu: 1500,
            subnets: vec![],
            uplinks: uplinks_for(NetRole::Guest).map(str::to_owned).into(),
        }));
        carry_out(desk, admin, ask).await?;
    }
    Ok(())
}

/// Guests have uplinks of their own, and so have the hosts: one can be moved away from a host whose guests' are dead.
fn uplinks_for(role: NetRole) -> [&'static str; 2] {
    match role {
        NetRole::Guest => ["uplink-1", "uplink-2"],
        NetRole::Management
        | NetRole::Heartbeat
        | NetRole::Migration
        | NetRole::Replication
        | NetRole::Storage
        | NetRole::OutOfBand
        | NetRole::Discovery => ["uplink-3", "uplink-4"],
    }
}

/// What carries the agent and the drivers of guests, and that somebody said so.
async fn agents(desk: &Desk, admin: &Viewer) -> Result<(), Failed> {
    const NAME: &str = "Pilot guest agent 12";
    image(desk, admin, NAME, "PILOT_12_AGENT", 200_000, "Eider").await?;
    let Some(image) = desk.look().estate.image_named(NAME).map(|i| i.id) else {
        return Ok(());
    };
    let ask = Proposal::Edits(edits::Ask::Edit {
        targets: vec![Target::Image(image)],
        sets: vec![Set::CarriesAgent(true)],
    });
    carry_out(desk, admin, ask).await
}

/// An image made here, sent in pieces as a person's browser sends it.
async fn image(
    desk: &Desk,
    admin: &Viewer,
    name: &str,
    label: &str,
    payload: usize,
    cluster: &str,
) -> Result<(), Failed> {
    let other = |e: &dyn std::fmt::Display| Failed::Other(format!("{name}: {e}"));
    let bytes: Vec<u8> = (0..payload).map(|n| n.to_le_bytes()[n % 3]).collect();
    let file =
        zastrugi_formats::iso9660::write(label, &[("payload", &bytes)]).map_err(|e| other(&e))?;
    let file = bytes::Bytes::from(file);
    let estate = desk.look().estate;
    let cluster = estate.cluster_named(cluster).map(|c| c.id);
    let volume = estate.volumes.values().find(|v| v.cluster == cluster);
    let ask = Proposal::Images(images::Ask::Add(AddImage {
        holds: Default::default(),
        name: name.into(),
        volume: volume.map(|v| v.id),
        size: Bytes(u64::try_from(file.len()).unwrap_or(u64::MAX)),
        mark: "".into(),
        label: Ok(label.into()),
        expected: "".into(),
    }));
    let run = desk
        .start(admin, ask, None, Uuid::new_v4())
        .await
        .map_err(|e| other(&e))?;
    let made = desk.look().estate.image_named(name).map(|i| i.id);
    let id = made.ok_or_else(|| other(&"it was not made"))?;
    while desk.received(admin, id).await.is_err() {
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    let mut from = 0;
    while from < file.len() {
        let piece = file.slice(from..file.len().min(from + (4 << 20)));
        let at = u64::try_from(from).unwrap_or(u64::MAX);
        let there = desk
            .feed(admin, id, at, piece)
            .await
            .map_err(|e| other(&e))?;
        from = usize::try_from(there).unwrap_or(usize::MAX);
    }
    finished(desk, run).await
}

async fn array(
    desk: &Desk,
    admin: &Viewer,
    site: &str,
    kind: ArrayKind,
    addresses: Vec<String>,
) -> Result<(), Failed> {
    desk.greet_arrays(&addresses).await;
    let book = desk.look().evidence;
    let shown = |address: &String| match book.answers.get(&Probe::ArrayGreeting(address.clone())) {
        Some(Evidence {
            answer: Answer::Manager { pin, .. },
            ..
        }) => pin.clone(),
        _ => String::new(),
    };
    let controllers = addresses
        .iter()
        .map(|address| Endpoint {
            pin: shown(address).into(),
            address: address.into(),
        })
        .collect();
    let secret = desk
        .keep_secret(FIRST_PASSWORD)
        .await
        .map_err(Failed::Other)?;
    let ask = Proposal::Storage(storage::Ask::ConnectArray(ConnectArray {
        controllers,
        kind,
        site: site.into(),
        user: "keeper".into(),
        password: Password::Kept(secret),
    }));
    carry_out(desk, admin, ask).await
}

/// Takes a volume that the array has already, for a whole cluster.
async fn take(
    desk: &Desk,
    admin: &Viewer,
    array: &str,
    name: &str,
    cluster: &str,
) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let missing = || Failed::Other(format!("{name} is not there"));
    let array = estate.array_named(array).ok_or_else(missing)?.id;
    let cluster = estate.cluster_named(cluster).ok_or_else(missing)?.id;
    let hosts: Vec<HostId> = estate.hosts_in(cluster).map(|h| h.id).collect();
    desk.inspect_storage(&[array], &hosts, true).await;
    let view = desk.look();
    let lun = match view
        .evidence
        .answers
        .get(&Probe::Luns(array))
        .map(|e| &e.answer)
    {
        Some(Answer::Luns { luns }) => luns.iter().find(|l| l.name == name),
        _ => None,
    };
    let lun = lun.ok_or_else(missing)?.id.clone();
    let ask = Proposal::Storage(storage::Ask::ConnectVolume(ConnectVolume {
        array: Some(array),
        source: VolumeSource::Existing { lun: lun.into() },
        name: name.into(),
        cluster: Some(cluster),
        hosts: None,
        typed: "".into(),
    }));
    carry_out(desk, admin, ask).await
}

async fn futures_join<T, F: Future<Output = T>, const N: usize>(all: [F; N]) -> Vec<T> {
    let mut pinned: Vec<_> = all.into_iter().map(Box::pin).collect();
    let mut done = Vec::with_capacity(N);
    for one in &mut pinned {
        done.push(one.await);
    }
    done
}

async fn claim(
    desk: &Desk,
    admin: &Viewer,
    site: &str,
    addresses: Vec<String>,
) -> Result<(), Failed> {
    desk.greet(&addresses).await;
    let found = desk.found();
    let targets: Vec<_> = found
        .into_iter()
        .filter(|f| addresses.contains(&f.address))
        .map(|f| Endpoint {
            address: f.address.into(),
            pin: f.greeting.pin.into(),
        })
        .collect();
    let secret = desk
        .keep_secret(FIRST_PASSWORD)
        .await
        .map_err(Failed::Other)?;
    let ask = Proposal::Hosts(hosts::Ask::Claim(ClaimHosts {
        targets,
        site: site.into(),
        password: Password::Kept(secret),
    }));
    carry_out(desk, admin, ask).await
}

async fn cluster(desk: &Desk, admin: &Viewer, site: &str, name: &str) -> Result<(), Failed> {
    let estate = desk.look().estate;
    let site = estate.site_named(site).map(|s| s.id);
    let hosts: Vec<HostId> = estate
        .hosts
        .values()
        .filter(|h| Some(h.site) == site)
        .map(|h| h.id)
        .collect();
    desk.inspect(&hosts).await;
    let demand = Demand {
        failures: 1,
        domains: [false; 3],
        enforced: false,
    };
    let ask = Proposal::Clusters(clusters::Ask::Create(CreateCluster {
        time: vec![],
        kind: Default::default(),
        name: name.into(),
        hosts,
        level: None,
        volume: None,
        demand,
    }));
    carry_out(desk, admin, ask).await
}

async fn carry_out(desk: &Desk, admin: &Viewer, ask: Proposal) -> Result<(), Failed> {
    let run = desk
        .start(admin, ask, None, Uuid::new_v4())
        .await
        .map_err(|e| Failed::Other(e.to_string()))?;
    finished(desk, run).await
}

async fn finished(desk: &Desk, run: RunId) -> Result<(), Failed> {
    let mut revisions = desk.revisions();
    let began = Instant::now();
    while began.elapsed() < Duration::from_secs(60) {
        let Some((state, _)) = desk.run(run).await? else {
            break;
        };
        match state.state {
            RunState::Done => return Ok(()),
            RunState::NeedsYou | RunState::Cancelled => {
                let words = state
                    .steps()
                    .find_map(|s| s.fault.as_ref())
                    .map_or("", |f| f.said.as_str());
                return Err(Failed::Other(format!("{}: {words}", state.title)));
            }
            _ => drop(tokio::time::timeout(Duration::from_millis(200), revisions.changed()).await),
        }
    }
    Err(Failed::Other(
        "the demo's estate was not ready in time".into(),
    ))
}
