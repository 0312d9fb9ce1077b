//! One machine.

use super::{deeds::Deeds, snapshots::Tree};
use crate::frame::{AtDesk, Page, Problem, Signed, Word, machine_state, page as whole, part};
use crate::frame::{rounds::Rounds, sheet::render};
use crate::places::{
    logbook::lately::{Line, lately},
    protect::ReplicaOf,
};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{
        Estate, Host, Image, Machine, MachineState, Memory, Moved, Nic, PlaceRule, Provisioning,
        SharedAs,
    },
    ids::{HostId, MachineId},
    permits::Act,
    pledges::Promise,
    view::View,
};
use zastrugi_engine::{EventFilter, StoreError};

#[derive(Template)]
#[template(path = "places/machines/page.html")]
struct MachinePage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: Word,
    lead: String,
    host: Option<(u64, String)>,
    cluster: Option<(u64, String)>,
    facts: Vec<(&'static str, String)>,
    /// Its pledges, and how they stand.
    pledged: Option<(String, &'static str, &'static str)>,
    mono: Vec<(&'static str, String)>,
    labels: Vec<String>,
    note: String,
    events: Vec<Line>,
    deeds: Deeds,
    /// Something counts from its next start alone.
    waits: bool,
    /// No agent answers in its guest: images that carry one, and whether one is in its drive.
    agentless: Option<(Vec<(u64, String)>, bool)>,
    /// Another volume on which a record of it lies, and its own.
    twice: Option<(u64, String, String)>,
    /// What, who asked for it, and when.
    asked: Vec<(&'static str, String, String)>,
    /// Its disks can go to another volume.
    may_disks: bool,
    /// Foretold and measured, drawn.
    moved: String,
    /// What it follows and holds, where it is a replica.
    replica: String,
    /// The tree, where it can have one.
    snapshots: String,
    /// The newest kept picture of its screen: its identifier, when, and why.
    kept: Option<(String, String, String)>,
    may_machines: bool,
    /// Disks that other machines have too: identity, name, what is to be known.
    shares: Vec<(String, String, String)>,
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<MachinePage, Problem> {
    let view = desk.look();
    let estate = &view.estate;
    let m = estate
        .machines
        .get(&MachineId(id))
        .ok_or_else(|| Problem::not_found("This machine"))?;
    let host = m.host.and_then(|h| estate.hosts.get(&h));
    let (glyph, word) = machine_state(m, host.map(|h| &**h));
    let unknown = estate.unknown(m).map(|(h, _)| h);
    let lead = match (m.recoverable_until(), view.uses(m)) {
        _ if unknown.is_some() => unknown.map(|h| silent(h)).unwrap_or_default(),
        (Some(_), _) if m.state == MachineState::Planned => {
            "Its creation was given up before an answer came. Bring it back if it is there, or remove it for good."
                .into()
        }
        (Some(until), _) => format!(
            "It was deleted and can be brought back for another {}.",
            until.since(desk.now())
        ),
        (None, Some(l)) => format!("It uses {} of CPU and {} of memory now.", l.cpu, l.active),
        (None, None) => at_rest(estate, m),
    };
    let kept = desk.kept_picture(m.id).await?;
    let events = lately(desk, &m.id.to_string()).await?;
    Ok(MachinePage {
        id,
        name: m.name.clone(),
        glyph,
        word,
        lead,
        host: host.map(|h| (h.id.0, h.name.clone())),
        cluster: m
            .cluster
            .and_then(|c| estate.clusters.get(&c))
            .map(|c| (c.id.0, c.name.clone())),
        facts: facts(&view, m),
        pledged: Promise::of(estate, m, desk.now()).map(|p| pledged(&p)),
        mono: identity(estate, m),
        labels: m.label_words().collect(),
        note: m.note.clone(),
        events,
        deeds: Deeds::of(&signed.viewer.permits(), estate, m),
        waits: m.now.is_some(),
        agentless: agentless(estate, m),
        twice: twice(estate, m),
        asked: asked(desk, m).await?,
        may_disks: signed.may(Act::Machines)
            && m.deleted.is_none()
            && m.replica.is_none()
            && unknown.is_none()
            && !m.disks.is_empty()
            && (m.is_off() || matches!(m.state, MachineState::Running { .. })),
        moved: m
            .moved
            .as_ref()
            .map_or_else(String::new, |moved| last_move(estate, moved)),
        replica: ReplicaOf::of(estate, m, signed.may(Act::Machines))
            .map_or_else(String::new, |r| render(&r)),
        // A replica tells of its points itself.
        snapshots: match m.deleted.is_some() || m.replica.is_some() {
            true => String::new(),
            false => render(&Tree::of(&view, m, desk.now(), signed.may(Act::Machines))),
        },
        kept: kept.map(|p| (p.id.to_string(), crate::frame::time(p.at), p.why)),
        may_machines: signed.may(Act::Machines),
        shares: shares(estate, m),
    })
}

#[get("/machines/<id>", rank = 3)]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "machines", &title, &body)
}

#[get("/machines/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}

/// Where a second record of it lies: nothing but its start is possible while it is off.
fn twice(estate: &Estate, m: &Machine) -> Option<(u64, String, String)> {
    let other = estate.lies_twice(m)?;
    let home = m.volumes().into_iter().find_map(|v| estate.volumes.get(&v));
    let home = home.map_or_else(String::new, |v| v.name.clone());
    Some((other.id.0, other.name.clone(), home))
}

/// Where no agent answers in a guest that is up: the images of its cluster that carry one, and whether such a one is in its drive.
fn agentless(estate: &Estate, m: &Machine) -> Option<(Vec<(u64, String)>, bool)> {
    if m.state != (MachineState::Running { guest: false }) {
        return None;
    }
    let near = |i: &&std::sync::Arc<Image>| {
        let volume = estate.volumes.get(&i.volume);
        i.ready
            && i.carries_agent
            && volume.is_some_and(|v| v.cluster.is_some() && v.cluster == m.cluster)
    };
    let all: Vec<(u64, String)> = estate
        .images
        .values()
        .filter(near)
        .map(|i| (i.id.0, i.name.clone()))
        .collect();
    let inside = m
        .boot
        .attached
        .is_some_and(|a| all.iter().any(|(id, _)| *id == a.image.0));
    Some((all, inside))
}

/// Who asked for what waits for its next start, as far as the logbook goes back.
async fn asked(
    desk: &AtDesk,
    m: &Machine,
) -> Result<Vec<(&'static str, String, String)>, StoreError> {
    let Some(now) = m.now.as_deref() else {
        return Ok(vec![]);
    };
    let vcpus = (now.vcpus, now.vcpus_max) != (m.vcpus, m.most_vcpus());
    let waiting = [
        (vcpus, "vCPUs", "vCPUs"),
        (now.memory != m.memory, "memory", "memory "),
    ];
    let mut all = Vec::new();
    for (_, what, text) in waiting.into_iter().filter(|w| w.0) {
        let filter = EventFilter {
            about: m.id.to_string(),
            kind: "edit".into(),
            text: text.into(),
            ..EventFilter::default()
        };
        let found = desk.events(&filter, 1).await?.into_iter().next();
        all.extend(found.map(|e| (what, e.who, crate::frame::time(e.at))));
    }
    Ok(all)
}

/// What to do about a machine that is on a silent host.
fn silent(host: &Host) -> String {
    let name = &host.name;
    format!(
        "{name} does not answer, so nobody knows whether it runs. Once {name} is proved off, it can be started on another host."
    )
}

/// Why a machine uses nothing.
fn at_rest(estate: &Estate, m: &Machine) -> String {
    match (&m.state, &m.fell) {
        (_, Some(fell)) => {
            let host = estate.hosts.get(&fell.host);
            let host = host.map_or("Its host", |h| h.name.as_str());
            format!("{host} went down under it.")
        }
        (MachineState::Off, None) => "It is off.".into(),
        (MachineState::Paused(why), None) => {
            format!("Its host halted it: {why}. It goes on by itself when that is over.")
        }
        _ => "Not measured yet.".into(),
    }
}

/// What the machine has, in words.
fn facts(view: &View, m: &Machine) -> Vec<(&'static str, String)> {
    let estate = &view.estate;
    let disks: Vec<String> = m
        .disks
        .iter()
        .map(|d| {
            let volume = estate
                .volumes
                .get(&d.volume)
                .map_or("its host's volume", |v| v.name.as_str());
            let kind = if d.provisioning == Provisioning::Thick {
                "thick"
            } else {
                "thin"
            };
            format!("{} {kind} on {volume}", d.size)
        })
        .collect();
    let mut facts = vec![
        ("vCPUs", vcpus(m)),
        ("Memory", memory(m)),
        (
            "Held on its host",
            format!("{}, {} of it overhead", m.held(), m.overhead()),
        ),
        ("Disks", disks.join("; ")),
        ("Belongs at", belongs(estate, m)),
        ("Made from", made_from(estate, m)),
        ("Pool", of_pool(estate, m)),
        (
            "Console",
            match m.console_lock {
                Some(_) => "opens with a password".into(),
                None => String::new(),
            },
        ),
        ("Firmware", super::firmware::words(m)),
        ("First boot", first_boot(m)),
        ("Drive", drive(estate, m)),
        ("Boots from", boots(m)),
        ("If its host fails", restart(estate, m)),
        ("Rules", rules(estate, m)),
        ("Stands behind", fronts(estate, m)),
        (
            "Deletion",
            if m.protected { "protected" } else { "allowed" }.into(),
        ),
        (
            "Virtual hardware",
            format!("version {}", m.virtual_hardware),
        ),
    ];
    facts.retain(|(what, said)| {
        !matches!(
            *what,
            "Stands behind" | "Made from" | "First boot" | "Firmware" | "Pool" | "Console"
        ) || !said.is_empty()
    });
    facts
}

fn vcpus(m: &Machine) -> String {
    let now = m.runs_with();
    let grows = match now.most_vcpus() > now.vcpus {
        true => format!(" · may grow to {}", now.most_vcpus()),
        false => String::new(),
    };
    let next = match (m.vcpus, m.most_vcpus()) == (now.vcpus, now.most_vcpus()) {
        true => String::new(),
        false if m.vcpus == now.vcpus => format!(" · to {} from its next start", m.most_vcpus()),
        false => format!(" · {} from its next start", m.vcpus),
    };
    format!("{}{grows}{next}", now.vcpus)
}

fn memory(m: &Machine) -> String {
    let said = |memory: &Memory| {
        format!(
            "{} · {} always kept · may grow to {}",
            memory.size, memory.kept, memory.max
        )
    };
    let now = m.runs_with().memory;
    match now == m.memory {
        true => said(&now),
        false => format!("{}; from its next start {}", said(&now), said(&m.memory)),
    }
}

/// What was foretold of its last move beside what was measured.
fn last_move(estate: &Estate, moved: &Moved) -> String {
    let name = |id: &HostId| {
        let host = estate.hosts.get(id);
        host.map_or_else(|| id.to_string(), |h| h.name.clone())
    };
    let legs = format!("{} → {}", name(&moved.from), name(&moved.to));
    let at = crate::frame::time(moved.at);
    let foretold = moved.foretold.as_ref();
    let picture = Rounds::new(&legs, foretold, Some(&moved.measured));
    format!("<p class=\"hint\">{at}</p>{}", render(&picture))
}

fn restart(estate: &Estate, m: &Machine) -> String {
    if !m.restarts {
        return "left off: it was asked that it has no place elsewhere".into();
    }
    let other = m.after.and_then(|id| estate.machines.get(&id));
    let after = other.map_or_else(String::new, |o| format!(", once {} answers", o.name));
    let cluster = m.cluster.and_then(|c| estate.clusters.get(&c));
    let who = if cluster.is_some_and(|c| c.recovers) {
        "starts elsewhere by itself"
    } else {
        "has a place elsewhere, and you start it there"
    };
    if m.carries {
        return format!("{who}, before all others: this manager runs in it");
    }
    format!("{who}, in tier {}{after}", m.tier)
}

/// The pool that made it, and who has it.
fn of_pool(estate: &Estate, m: &Machine) -> String {
    let Some(of) = m.of_pool.as_deref() else {
        return String::new();
    };
    let pool = estate.spare_pools.get(&of.pool);
    let name = pool.map_or_else(|| "a pool that is gone".into(), |p| p.name.clone());
    match &of.held {
        _ if of.back => format!("{name}; it was given back, and is thrown away"),
        Some(held) => format!(
            "{name}; {} has it, and it is thrown away when it is given back",
            held.by
        ),
        None => format!("{name}; a spare"),
    }
}

/// What its guest was told, and what came of it.
fn first_boot(m: &Machine) -> String {
    let told = m.first_boot.as_ref();
    told.map_or_else(String::new, |b| {
        format!("{}; {}", b.words(), super::super::first_boot::outcome(m).1)
    })
}

/// Where it went over from.
fn belongs(estate: &Estate, m: &Machine) -> String {
    let Some(crossed) = m.crossed else {
        return String::new();
    };
    let site = estate.sites.get(&crossed.from);
    let site = site.map_or_else(|| crossed.from.to_string(), |s| s.name.clone());
    format!("{site}; it went over on {} UTC", crossed.at.stamp())
}

/// What its disks were copied from, or lie on.
fn made_from(estate: &Estate, m: &Machine) -> String {
    match m.parent {
        Some(parent) => format!("{}; its disks lie on it", estate.called(parent)),
        None => m.made_from.clone(),
    }
}

/// What it is promised, and how that stands.
fn pledged(promise: &Promise) -> (String, &'static str, &'static str) {
    let names: Vec<&str> = promise.pledges.iter().map(|(_, n)| n.as_str()).collect();
    let standing = promise.standing();
    let glyph = super::super::protect::glyph_of(standing);
    (names.join(", "), glyph, standing.word())
}

/// Service fronts that it is a member of.
fn fronts(estate: &Estate, m: &Machine) -> String {
    let all = zastrugi_core::fronts::of_machine(estate, m).into_iter();
    all.map(|(f, at)| format!("{} ({at})", f.name))
        .collect::<Vec<_>>()
        .join(", ")
}

/// Disks that other machines have too.
fn shares(estate: &Estate, m: &Machine) -> Vec<(String, String, String)> {
    let one = |s: &SharedAs| {
        let (name, size, part) = match estate.shared_disk(s.disk) {
            Some((_, d)) if d.is_held_by(m) => {
                (d.name.clone(), d.size.to_string(), ", and it writes")
            }
            Some((_, d)) if d.registered.contains_key(&m.uuid) => {
                (d.name.clone(), d.size.to_string(), ", and it stands by")
            }
            Some((_, d)) => (
                d.name.clone(),
                d.size.to_string(),
                ", and it is not registered",
            ),
            None => (
                "a disk that nobody tells of".into(),
                "size not known".into(),
                "",
            ),
        };
        let with: Vec<&str> = estate
            .nodes(s.disk)
            .filter(|o| o.id != m.id)
            .map(|o| o.name.as_str())
            .collect();
        let with = if with.is_empty() {
            "nobody".to_owned()
        } else {
            with.join(", ")
        };
        (
            s.disk.to_string(),
            name,
            format!("{size}, with {with}{part}"),
        )
    };
    m.shares.iter().map(one).collect()
}

/// What keeps it to certain hosts, or away from some.
fn rules(estate: &Estate, m: &Machine) -> String {
    let group = m.apart.iter().map(|g| format!("apart as “{g}”"));
    let of = |r: &PlaceRule| format!("{} by “{}”, {}", r.kind_word(), r.name, r.strength());
    let nodes = estate
        .clustered(m)
        .into_iter()
        .map(|n| format!("apart as a node of {n}"));
    let all: Vec<String> = group
        .chain(estate.rules_of(m).map(of))
        .chain(nodes)
        .collect();
    if all.is_empty() {
        "none".into()
    } else {
        all.join("; ")
    }
}

/// The image in its drive.
fn drive(estate: &Estate, m: &Machine) -> String {
    let Some(attached) = m.boot.attached else {
        return "empty".into();
    };
    let image = estate.images.get(&attached.image);
    image.map_or_else(|| "an image that is gone".into(), |i| i.name.clone())
}

fn boots(m: &Machine) -> String {
    let order = m.boot.order_words();
    match m.boot.once {
        Some(once) => format!("{once} once, then {order}"),
        None => order,
    }
}

/// Each card: MAC, network, addresses.
fn cards(estate: &Estate, m: &Machine) -> String {
    let card = |n: &Nic| {
        let network = n.network.and_then(|id| estate.networks.get(&id));
        let network = network.map_or_else(String::new, |n| format!(" · {}", n.name));
        let addresses: Vec<_> = n.addresses.iter().map(ToString::to_string).collect();
        let addresses = if addresses.is_empty() {
            String::new()
        } else {
            format!(" · {}", addresses.join(", "))
        };
        format!("{}{network}{addresses}", n.mac)
    };
    m.nics.iter().map(card).collect::<Vec<_>>().join("; ")
}

/// What stands for it in DNS, where its cluster's machines have names.
fn name_in_dns(estate: &Estate, m: &Machine) -> Option<String> {
    let cluster = estate.clusters.get(&m.cluster?)?;
    cluster.dns.as_ref()?;
    let due = estate.name_due(m).is_some();
    Some(match m.entered.as_deref() {
        None if due => "not entered yet".into(),
        None => "none: it has no address, or its own name can't be one there".into(),
        Some(e) => {
            let back = if e.back {
                "its addresses lead back"
            } else {
                "its addresses do not lead back"
            };
            let stale = if due { "; a change of it is due" } else { "" };
            format!("{}; {back}{stale}", e.name)
        }
    })
}

/// Who it is to networks, volumes and hosts.
fn identity(estate: &Estate, m: &Machine) -> Vec<(&'static str, String)> {
    let name = name_in_dns(estate, m).map(|words| ("Name in DNS", words));
    let mut facts = vec![
        ("Cards", cards(estate, m)),
        ("UUID", m.uuid.to_string()),
        (
            "Guest key",
            m.guest_key.clone().unwrap_or_else(|| "none yet".into()),
        ),
        ("Run lease", format!("generation {}", m.generation)),
    ];
    if let Some(id) = m.generation_id {
        facts.push(("Generation id of its guest", id.to_string()));
    }
    facts.extend(name);
    facts
}
