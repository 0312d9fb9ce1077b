//! Connecting a volume to all of its hosts in one run. What is on it decides: formatted only if empty by the rule's
//! definition, taken if it is ours or nobody's, taken over only with its name typed.

use super::{
    ConnectVolume, Draft, Event, Step, VolumeSource,
    assess::{answering, mount, reach},
    pooled,
};
use crate::{
    estate::{Array, Backing, Cluster, Host, Provisioning, Volume},
    evidence::{Answer, Probe, SeenDevice, SeenLun},
    finding::{Finding, Rule},
    ids::{ArrayId, ClusterId, VolumeId},
    names,
    units::Bytes,
};
use std::sync::Arc;

const LEAST: Bytes = Bytes::gib(1);

pub(super) fn connect(draft: &mut Draft<'_>, ask: &ConnectVolume) {
    let name = ask.name.trim();
    let place = ask.cluster.and_then(|c| draft.estate().clusters.get(&c));
    let place = place.map_or_else(String::new, |c| format!(" to {}", c.name));
    draft.title = format!("Connect volume {name}{place}");
    if let VolumeSource::Pooled { copies, wait } = ask.source {
        return pooled::make(draft, ask, copies, wait);
    }
    check_name(draft, name);
    let array = match ask.array {
        Some(id) => answering(draft, id).cloned(),
        None => {
            let text = if draft.estate().arrays.is_empty() {
                "No array is connected yet; connect one first."
            } else {
                "Choose the array that it lies on."
            };
            draft.found(Finding::stop(Rule::Exists, "array", text).at("array"));
            None
        }
    };
    let cluster = cluster_of(draft, ask.cluster);
    let hosts = cluster
        .as_ref()
        .map(|c| hosts_of(draft, c, ask))
        .unwrap_or_default();
    let Some(array) = array else { return };
    let found = match &ask.source {
        VolumeSource::New {
            pool,
            size,
            provisioning,
        } => check_new(draft, &array, pool, *size, *provisioning).then(|| Found {
            uid: String::new(),
            capacity: *size,
            used: Bytes::ZERO,
            backing: None,
            over: None,
        }),
        VolumeSource::Existing { lun } => existing(draft, &array, lun, ask),
        VolumeSource::Pooled { .. } => None,
    };
    if let (Some(found), Some(cluster), [first, ..]) = (found, cluster, hosts.as_slice()) {
        let first = first.clone();
        add_steps(draft, ask, &array, &cluster, &hosts, &first, found);
    }
}

/// What the volume is when the run begins.
struct Found {
    uid: String,
    capacity: Bytes,
    used: Bytes,
    backing: Option<Backing>,
    over: Option<String>,
}

pub(super) fn check_name(draft: &mut Draft<'_>, name: &str) {
    let taken = draft.estate().volumes.values().any(|v| v.name == name);
    let problem = match names::check(name) {
        Err(words) => Some(words),
        Ok(()) if taken => Some(format!("There is a volume {name} already.")),
        Ok(()) => None,
    };
    draft.found_all(problem.map(|text| Finding::stop(Rule::Name, "name", text).at("name")));
}

pub(super) fn cluster_of(draft: &mut Draft<'_>, id: Option<ClusterId>) -> Option<Arc<Cluster>> {
    let found = id.and_then(|id| draft.estate().clusters.get(&id)).cloned();
    if found.is_none() {
        let text = "Choose the cluster whose hosts shall mount it.";
        draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster"));
    }
    found
}

/// The hosts that get it: all of the cluster unless some are named. Whoever doesn't answer stops it, because a volume
/// on some hosts and not on others is the mistake that this prevents.
pub(super) fn hosts_of(draft: &mut Draft<'_>, cluster: &Cluster, ask: &ConnectVolume) -> Vec<Arc<Host>> {
    let members: Vec<Arc<Host>> = draft.estate().hosts_in(cluster.id).cloned().collect();
    let mut hosts: Vec<_> = members
        .iter()
        .filter(|h| ask.hosts.as_ref().is_none_or(|set| set.contains(&h.id)))
        .cloned()
        .collect();
    hosts.sort_by(|a, b| a.name.cmp(&b.name));
    if hosts.is_empty() {
        let text = "At least one host must mount it.";
        draft.found(Finding::stop(Rule::Nothing, "hosts", text).at("hosts"));
    } else if hosts.len() < members.len() {
        let text = format!(
            "{} of {} hosts of {} get it; machines on it can't run on the others.",
            hosts.len(),
            members.len(),
            cluster.name
        );
        draft.found(Finding::mind(Rule::Storage, "hosts", text).at("hosts"));
    } else {
        let text = format!("All {} hosts of {} get it.", hosts.len(), cluster.name);
        draft.found(Finding::clear(Rule::Storage, "hosts", text));
    }
    for host in hosts.iter().filter(|h| !h.accepts_work()) {
        let text = format!("{} does not answer; it would be left out.", host.name);
        draft.found(
            Finding::stop(Rule::HostOpen, &host.name, text)
                .at("hosts")
                .remedy("Wait until it answers, or leave it out knowingly."),
        );
    }
    hosts
}

fn check_new(
    draft: &mut Draft<'_>,
    array: &Array,
    pool: &str,
    size: Bytes,
    provisioning: Provisioning,
) -> bool {
    if size < LEAST {
        let text = format!("A volume has at least {LEAST}.");
        draft.found(Finding::stop(Rule::VolumeRoom, "size", text).at("size"));
        return false;
    }
    let Some(pool) = array.pool(pool) else {
        let text = format!("Choose a pool of {}.", array.name);
        draft.found(Finding::stop(Rule::Pool, "pool", text).at("pool"));
        return false;
    };
    if let Some(service) = &pool.service {
        let text = format!("What {} does for it: {}.", array.name, service.words());
        draft.found(Finding::clear(Rule::Storage, &pool.name, text).because(&service.class));
    }
    let finding = pool_room(draft, array.id, pool, size, provisioning);
    let fine = !finding.stops();
    draft.found(finding.at("size"));
    fine
}

/// The pool beneath: thick must fit, thin is promised (rules, section 8: two layers, the earlier counts).
pub(super) fn pool_room(
    draft: &Draft<'_>,
    array: ArrayId,
    pool: &crate::estate::Pool,
    more: Bytes,
    provisioning: Provisioning,
) -> Finding {
    let (name, free) = (&pool.name, pool.free());
    let promised: Bytes = draft
        .estate()
        .volumes_on(array)
        .filter(|(_, b)| b.pool == *name)
        .map(|(v, _)| v.capacity)
        .sum();
    let evidence = format!(
        "{} in all, {free} free, {promised} promised to volumes",
        pool.capacity
    );
    if provisioning == Provisioning::Thick && more > free {
        return Finding::stop(
            Rule::Pool,
            name,
            format!("Pool {name} is short of {}.", more.less(free)),
        )
        .because(evidence)
        .remedy("Make it smaller, thin, or choose another pool.");
    }
    if more > pool.capacity {
        return Finding::stop(
            Rule::Pool,
            name,
            format!("Pool {name} has {} in all.", pool.capacity),
        )
        .because(evidence);
    }
    if promised + more > pool.capacity {
        let text = format!(
            "Pool {name} would be promised more than it has; it can fill before the volumes do."
        );
        return Finding::mind(Rule::Pool, name, text).because(evidence);
    }
    Finding::clear(Rule::Pool, name, format!("Pool {name} has room for it.")).because(evidence)
}

fn existing(draft: &mut Draft<'_>, array: &Array, lun: &str, ask: &ConnectVolume) -> Option<Found> {
    let answer = draft.view.evidence.fresh(&Probe::Luns(array.id), draft.now);
    let seen = match answer {
        Some(Answer::Luns { luns }) => luns.iter().find(|l| l.id == lun).cloned(),
        Some(Answer::Silent { why }) => {
            let text = format!("{} does not say what it has: {why}.", array.name);
            draft.found(Finding::stop(Rule::Reachable, &array.name, text).at("lun"));
            return None;
        }
        _ => None,
    };
    let Some(seen) = seen else {
        let text = "Choose one of the volumes that the array has.";
        draft.found(Finding::stop(Rule::Exists, "lun", text).at("lun"));
        return None;
    };
    if let Some(ours) = draft.estate().volume_with_uid(&seen.uid) {
        let text = format!("It is connected already, as {}.", ours.name);
        draft.found(Finding::stop(Rule::Owner, &seen.name, text).at("lun"));
        return None;
    }
    strangers(draft, &seen);
    let over = contents(draft, array, &seen, ask)?;
    Some(Found {
        uid: seen.uid,
        capacity: seen.capacity,
        used: seen.used,
        backing: Some(Backing {
            array: array.id,
            lun: seen.id,
            pool: seen.pool,
        }),
        over,
    })
}

/// Somebody may reach it who is no host of ours: it could be in use there.
fn strangers(draft: &mut Draft<'_>, seen: &SeenLun) {
    let ours = |name: &String| draft.estate().hosts.values().any(|h| h.initiator == *name);
    let foreign: Vec<_> = seen
        .initiators
        .iter()
        .filter(|i| !ours(i))
        .cloned()
        .collect();
    if foreign.is_empty() {
        return;
    }
    let text = format!(
        "{} can be reached by {} that is no host of ours; it may be in use there.",
        seen.name, foreign[0]
    );
    draft.found(
        Finding::stop(Rule::Owner, &seen.name, text)
            .because(foreign.join(", "))
            .at("lun")
            .remedy("Take that initiator's reach away on the array, if nobody uses the volume."),
    );
}

/// What a host found on it. Answers the installation that it is taken from; none where something stops it.
fn contents(
    draft: &mut Draft<'_>,
    array: &Array,
    seen: &SeenLun, ask: &ConnectVolume) -> Option<Option<String>> {
    let book = &draft.view.evidence;
    let device = draft.estate().hosts.keys().find_map(|host| {
        match book.fresh(&Probe::Devices(*host), draft.now) {
            Some(Answer::Devices { devices, .. }) => devices.iter().find(|d| d.uid == seen.uid),
            _ => None,
        }
    });
    let name = &seen.name;
    let found = array.found.get(&seen.id).cloned();
    let (finding, over) = match device.cloned() {
        None if found.is_some() => {
            let said = found.unwrap_or_default();
            let text = format!("When a run last looked at {name}: {said} It looks again first, and formats only what is empty.");
            (Finding::mind(Rule::Content, name, text).at("lun"), Some(None))
        }
        None => (
            Finding::unchecked(
                Rule::Content,
                name,
                format!(
                    "No host sees {name} yet; the run looks at it first and formats only what is empty."
                ),
            ),
            Some(None),
        ),
        Some(device) if device.is_blank() => (
            Finding::clear(
                Rule::Content,
                name,
                format!("{name} is empty; it is formatted."),
            )
            .because("no known signature, sampled blocks zero"),
            Some(None),
        ),
        Some(device) if !device.has_our_format() => {
            let what = device
                .signature
                .unwrap_or_else(|| "data without a known signature".into());
            (
                Finding::stop(Rule::Content, name, format!("{name} is not empty: {what}."))
                    .at("lun")
                    .remedy("Choose another volume, or clear this one where it is used."),
                None,
            )
        }
        Some(device) => taken_from(name, device, ask),
    };
    draft.found(finding);
    over
}

fn taken_from(
    name: &str,
    device: SeenDevice,
    ask: &ConnectVolume,
) -> (Finding, Option<Option<String>>) {
    let machines = device.machines;
    match device.owner {
        None => {
            let text = format!(
                "{name} has our format and no owner; it is taken with its {machines} machine records."
            );
            (Finding::clear(Rule::Content, name, text), Some(None))
        }
        Some((id, owner)) if ask.typed.trim() == ask.name.trim() && !ask.typed.is_empty() => {
            let text = format!(
                "{name} is taken over from {owner} with its {machines} machine records; {owner} must not use it any more."
            );
            (Finding::mind(Rule::Owner, name, text), Some(Some(id)))
        }
        Some((id, owner)) => {
            let text = format!("{name} belongs to {owner}.");
            (
                Finding::stop(Rule::Owner, name, text)
                    .because(format!("installation {id}"))
                    .at("typed")
                    .remedy("If that owner is gone, type the volume's new name to take it over."),
                None,
            )
        }
    }
}

fn add_steps(
    draft: &mut Draft<'_>,
    ask: &ConnectVolume,
    array: &Array,
    cluster: &Cluster,
    hosts: &[Arc<Host>],
    first: &Host,
    found: Found,
) {
    let id = VolumeId(draft.number());
    draft.intend(Event::VolumePlanned(Box::new(Volume {
        id,
        uid: found.uid,
        name: ask.name.trim().to_owned(),
        cluster: Some(cluster.id),
        capacity: found.capacity,
        used: found.used,
        backing: found.backing,
        pooled: None,
        made: matches!(ask.source, VolumeSource::New { .. }),
        intended: ask.hosts.clone(),
        ready: false,
        qualities: Default::default(),
        note: String::new(),
        unattached: Default::default(),
        strays: Default::default(),
        shared: Default::default(),
    })));
    let made: Vec<usize> = match &ask.source {
        VolumeSource::New {
            pool,
            size,
            provisioning,
        } => {
            let make = Step::MakeLun {
                array: array.id,
                volume: id,
                pool: pool.to_string(),
                size: *size,
                provisioning: *provisioning,
            };
            vec![draft.step(
                make,
                format!("Make it on {}", array.name),
                &[],
                Some("size"),
            )]
        }
        VolumeSource::Existing { .. } | VolumeSource::Pooled { .. } => vec![],
    };
    let reached: Vec<usize> = hosts
        .iter()
        .map(|host| reach(draft, array.id, id, host, &made))
        .collect();
    let prepare = Step::Prepare {
        volume: id,
        host: first.id,
        over: found.over,
    };
    let title = format!("Format or take it, by {}", first.name);
    let prepared = draft.step(prepare, title, &reached[..1], Some("lun"));
    let mounted: Vec<usize> = hosts
        .iter()
        .zip(&reached)
        .map(|(host, reached)| mount(draft, id, host, &[*reached, prepared]))
        .collect();
    let ready = Step::VolumeReady { volume: id };
    draft.step(
        ready,
        format!("{} is connected", ask.name.trim()),
        &mounted,
        None,
    );
}
