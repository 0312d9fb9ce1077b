//! A volume that is there: larger, back on all hosts, given up.

use super::{
    Draft, Step,
    assess::{answering, mount, reach},
    connect::pool_room,
    pooled,
};
use crate::{
    estate::{Cause, Drift, Estate, Host, Outages, Provisioning, Volume},
    finding::{Finding, Rule},
    ids::{ArrayId, VolumeId},
    units::Bytes,
};
use std::sync::Arc;

/// A host that works and mounts it; else a *stop*.
fn via(draft: &mut Draft<'_>, v: &Volume) -> Option<Arc<Host>> {
    let found = draft.estate().reach(v.id).cloned();
    if found.is_none() {
        let text = format!("No host that mounts {} answers.", v.name);
        draft.found(Finding::stop(Rule::HostOpen, &v.name, text).at("hosts"));
    }
    found
}

pub(super) fn extend(draft: &mut Draft<'_>, id: VolumeId, size: Bytes) {
    "Extend a volume".clone_into(&mut draft.title);
    let Some(v) = draft.volume(id).cloned() else {
        return;
    };
    draft.title = format!("Extend {}", v.name);
    if size <= v.capacity {
        let text = format!("{} has {} now; a volume only grows.", v.name, v.capacity);
        draft.found(Finding::stop(Rule::VolumeRoom, &v.name, text).at("size"));
        return;
    }
    if v.pooled.is_some() {
        let text = format!("{} grows with the disks that its hosts lend to it.", v.name);
        return draft.found(Finding::stop(Rule::Storage, &v.name, text).at("size").remedy("Lend more disks on its page, or take more hosts into the cluster."));
    }
    let Some(backing) = &v.backing else {
        let text = format!("The array that {} lies on is not connected.", v.name);
        draft.found(
            Finding::stop(Rule::Storage, &v.name, text)
                .at("size")
                .remedy("Connect the array first."),
        );
        return;
    };
    let Some(array) = answering(draft, backing.array).cloned() else {
        return;
    };
    if let Some(pool) = array.pool(&backing.pool) {
        let more = size.less(v.capacity);
        let finding = pool_room(draft, array.id, pool, more, Provisioning::Thin);
        draft.found(finding.at("size"));
    }
    let paused: Vec<_> = draft
        .estate()
        .machines_with_disk_on(id)
        .filter(|m| matches!(m.state, crate::estate::MachineState::Paused(_)))
        .map(|m| m.name.clone())
        .collect();
    if !paused.is_empty() {
        let text = format!(
            "{} go on by themselves when there is room.",
            paused.join(", ")
        );
        draft.found(Finding::clear(Rule::State, &v.name, text));
    }
    let Some(host) = via(draft, &v) else { return };
    let grow = Step::GrowLun {
        array: array.id,
        volume: id,
        size,
    };
    let grown = draft.step(
        grow,
        format!("Extend it on {}", array.name),
        &[],
        Some("size"),
    );
    let fill = Step::Fill {
        volume: id,
        host: host.id,
    };
    draft.step(
        fill,
        format!("Grow its format, by {}", host.name),
        &[grown],
        None,
    );
}

/// Brings every intended host that misses it, or misses paths, back; hosts that are fine are not touched.
pub(super) fn heal(draft: &mut Draft<'_>, id: VolumeId) {
    "Bring a volume back to its hosts".clone_into(&mut draft.title);
    let Some(v) = draft.volume(id).cloned() else {
        return;
    };
    draft.title = format!("Bring {} back to all its hosts", v.name);
    let mut drift = v.drift(draft.estate());
    drift.retain(|d| d.host.accepts_work());
    for host in v
        .hosts(draft.estate())
        .into_iter()
        .filter(|h| !h.accepts_work())
        .cloned()
        .collect::<Vec<_>>()
    {
        let text = format!("{} does not answer; it is left as it is.", host.name);
        draft.found(Finding::mind(Rule::HostOpen, &host.name, text));
    }
    if drift.is_empty() {
        let text = format!("Every host that answers mounts {} by all paths.", v.name);
        draft.found(Finding::stop(Rule::Nothing, &v.name, text));
        return;
    }
    if v.pooled.is_some() {
        return heal_pooled(draft, &v, drift);
    }
    let Some(array) = v.backing.as_ref().map(|b| b.array) else {
        let text = format!("The array that {} lies on is not connected.", v.name);
        draft.found(Finding::stop(Rule::Storage, &v.name, text).remedy("Connect the array first."));
        return;
    };
    let Some(array) = answering(draft, array).map(|a| a.id) else {
        return;
    };
    let outages = Outages::of(draft.estate());
    let caused: Vec<_> = drift.iter().filter(|d| outages.explain(draft.estate(), &v, d)).collect();
    if let Some(first) = caused.first() {
        let hosts = match caused.len() {
            1 => first.host.name.clone(),
            n => format!("{n} hosts"),
        };
        let text = format!("The paths of {hosts} to {} are down at the array or on the way to it; nothing that is done here brings them back.", v.name);
        let rule = |text| match caused.len() == drift.len() {
            true => Finding::stop(Rule::Paths, &v.name, text),
            false => Finding::mind(Rule::Paths, &v.name, text),
        };
        let names = draft.estate().arrays.get(&array).map_or("the array", |a| a.name.as_str());
        let remedy = format!("Look at the portals on the page of {names}; the paths come back by themselves when the portals do.");
        draft.found(rule(text).because(causes(draft.estate(), &outages, array)).remedy(remedy));
    }
    for found in drift {
        if outages.explain(draft.estate(), &v, &found) {
            continue;
        }
        let text = if found.misses() {
            format!("{} does not mount {}.", found.host.name, v.name)
        } else {
            format!(
                "{} has {} of {} paths to {}.",
                found.host.name, found.up, found.of, v.name
            )
        };
        // What is so; whether it is mended, the last step looks.
        draft.found(Finding::mind(Rule::Paths, &found.host.name, text));
        let reached = reach(draft, array, id, &found.host, &[]);
        let mounted = mount(draft, id, &found.host, &[reached]);
        let step = Step::CheckPaths {
            volume: id,
            host: found.host.id,
        };
        let title = format!("{} reaches it by all paths", found.host.name);
        draft.step(step, title, &[mounted], None);
    }
}

/// Of the hosts' own disks: whoever does not mount it takes part again; where copies are what is missing, nothing here makes them.
fn heal_pooled(draft: &mut Draft<'_>, v: &Volume, drift: Vec<Drift>) {
    let lost = v.pooled.as_ref().is_some_and(|p| p.health.lost > Bytes::ZERO);
    if lost {
        let text = format!("{} has contents of which no copy can be read; it comes back by itself when the hosts do that have them.", v.name);
        return draft.found(Finding::stop(Rule::Paths, &v.name, text).remedy("Look at the hosts that are away, on its page."));
    }
    let lent: Vec<usize> = drift.iter().map(|found| pooled::heal(draft, v, &found.host)).collect();
    // Nobody came so far as to mount it: perhaps it was never formatted.
    let fresh = draft.estate().hosts.values().all(|h| !h.mounts.contains_key(&v.id));
    let prepared = drift.first().filter(|_| fresh).map(|first| {
        let step = Step::Prepare { volume: v.id, host: first.host.id, over: None };
        draft.step(step, format!("Format it if it is empty, by {}", first.host.name), &lent, None)
    });
    for (found, lent) in drift.into_iter().zip(lent) {
        let text = format!("{} does not reach {}.", found.host.name, v.name);
        draft.found(Finding::mind(Rule::Paths, &found.host.name, text));
        let after: Vec<usize> = [lent].into_iter().chain(prepared).collect();
        let mounted = mount(draft, v.id, &found.host, &after);
        let step = Step::CheckPaths { volume: v.id, host: found.host.id };
        draft.step(step, format!("{} reaches it", found.host.name), &[mounted], None);
    }
}

/// What has failed at an array, in words.
fn causes(estate: &Estate, outages: &Outages, array: ArrayId) -> String {
    let words = |o: &crate::estate::Outage| match &o.cause {
        Cause::Array(_) => "no host reaches any portal".to_owned(),
        Cause::Portal(_, portal) => format!("no host reaches portal {portal}"),
        Cause::Cut(host, _) => {
            let host = estate.hosts.get(host).map_or("a host", |h| h.name.as_str());
            format!("{host} reaches no portal")
        }
    };
    outages.of_array(array).map(words).collect::<Vec<_>>().join("; ")
}

/// What lies on a volume that somebody wants to hand back.
fn used(draft: &Draft<'_>, v: &Volume) -> Option<Finding> {
    let estate = draft.estate();
    let machines = estate.machines_with_disk_on(v.id);
    let machines: Vec<_> = machines.map(|m| m.name.clone()).collect();
    let images: Vec<_> = estate
        .images_on(v.id)
        .into_iter()
        .map(|i| i.name.clone())
        .collect();
    let versions = estate.versions_on(v.id);
    let versions: Vec<_> = versions.map(|(t, v)| format!("{} {}", t.name, v.number)).collect();
    let (text, names, remedy) = if !machines.is_empty() {
        (
            format!("{} machines have disks on {}.", machines.len(), v.name),
            machines,
            "Remove these machines for good, or move their disks first.",
        )
    } else if !images.is_empty() {
        (
            format!("{} images lie on {}.", images.len(), v.name),
            images,
            "Remove them first.",
        )
    } else if !versions.is_empty() {
        (
            format!("{} versions of templates lie on {}.", versions.len(), v.name),
            versions,
            "Remove them first.",
        )
    } else if !v.shared.disks.is_empty() {
        let disks = v.shared.disks.values().map(|d| d.name.clone());
        (
            format!("{} shared disks lie on {}.", v.shared.disks.len(), v.name),
            disks.collect(),
            "Share them no more, then attach them to machines or remove them.",
        )
    } else if !v.unattached.disks.is_empty() {
        let disks = v.unattached.disks.values().map(|d| format!("one that {} had", d.had));
        (
            format!("{} unattached disks lie on {}.", v.unattached.disks.len(), v.name),
            disks.collect(),
            "Attach them to machines, or delete them and remove them for good.",
        )
    } else {
        return None;
    };
    let shown: Vec<_> = names.into_iter().take(8).collect();
    let stop = Finding::stop(Rule::State, &v.name, text);
    Some(stop.because(shown.join(", ")).remedy(remedy))
}

pub(super) fn give(draft: &mut Draft<'_>, id: VolumeId) {
    "Hand back a volume".clone_into(&mut draft.title);
    let Some(v) = draft.volume(id).cloned() else {
        return;
    };
    draft.title = format!("Hand back {}", v.name);
    if let Some(stop) = used(draft, &v) {
        return draft.found(stop);
    }
    let clusters = draft.estate().clusters.values();
    let agree = clusters.filter(|c| c.keeping.as_ref().is_some_and(|k| k.volume == id));
    let stops: Vec<Finding> = agree
        .map(|cluster| {
            let text = format!("The keepers of {} agree on {}.", cluster.name, v.name);
            let stop = Finding::stop(Rule::Keepers, &v.name, text);
            stop.remedy("Take them away first (on the cluster's page, Keepers, none ticked); place them again afterwards.")
        })
        .collect();
    draft.found_all(stops);
    let Some(last) = via(draft, &v) else { return };
    let others: Vec<_> = draft
        .estate()
        .hosts
        .values()
        .filter(|h| h.mounts.contains_key(&id) && h.id != last.id)
        .cloned()
        .collect();
    for host in others.iter().filter(|h| !h.accepts_work()) {
        let text = format!("{} mounts it and does not answer.", host.name);
        draft.found(Finding::stop(Rule::HostOpen, &host.name, text).at("hosts"));
    }
    let unmounted: Vec<usize> = others
        .iter()
        .map(|host| {
            let step = Step::Unmount {
                volume: id,
                host: host.id,
            };
            draft.step(step, format!("{} unmounts it", host.name), &[], None)
        })
        .collect();
    let disown = Step::Disown {
        volume: id,
        host: last.id,
    };
    let title = format!("{} unmounts it last and clears its owner", last.name);
    let mut done = vec![draft.step(disown, title, &unmounted, None)];
    if let Some(array) = v.backing.as_ref().map(|b| b.array) {
        let disowned = done.clone();
        done = others
            .iter()
            .chain([&last])
            .map(|host| {
                let step = Step::Unmap {
                    array,
                    volume: id,
                    host: host.id,
                };
                let title = format!("{} can't reach it any more", host.name);
                draft.step(step, title, &disowned, None)
            })
            .collect();
    }
    let text = match v.pooled.is_some() {
        true => {
            done = pooled::give_back(draft, &v, &done);
            format!("{} is no more afterwards: its hosts have their disks to themselves again, empty.", v.name)
        }
        false => format!("Nothing on {} is deleted; another installation can take it.", v.name),
    };
    draft.found(match v.pooled.is_some() {
        true => Finding::mind(Rule::State, &v.name, text),
        false => Finding::clear(Rule::State, &v.name, text),
    });
    draft.step(
        Step::VolumeGone { volume: id },
        format!("{} is handed back", v.name),
        &done,
        None,
    );
}
