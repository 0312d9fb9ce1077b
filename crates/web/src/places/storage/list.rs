//! All volumes, and what they lie on.

use super::{super::templates, image, spare, state, width};
use crate::frame::{AtDesk, Page, Query, Signed, Window, page as whole, part};
use askama::Template;
use rocket::get;
use zastrugi_core::{
    estate::{Array, ArrayCondition, ArrayKind, Cause, Outages, Volume},
    permits::Act,
    view::View,
};

struct VolumeRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    cluster: String,
    used: String,
    capacity: String,
    width: u64,
    promised: String,
    array: Option<(u64, String)>,
    /// It lies on the hosts' own disks.
    own: bool,
    pool: String,
    hosts: String,
    /// Hosts that shall mount it and say nothing.
    silent: usize,
}

struct ImageRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    label: String,
    size: String,
    volume: Option<(u64, String)>,
    used: usize,
}

struct ArrayRow {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    site: String,
    kind: &'static str,
    management: String,
    pools: Vec<(String, u64)>,
    portals: usize,
}

#[derive(Template)]
#[template(path = "places/storage/list.html")]
struct List {
    sentence: String,
    volumes: Vec<VolumeRow>,
    arrays: Vec<ArrayRow>,
    images: Vec<ImageRow>,
    templates: Vec<templates::Row>,
    spare: Vec<spare::Row>,
    /// Which of the unattached disks these are.
    window: Window,
    query: String,
    may: bool,
    may_machines: bool,
    may_purge: bool,
    may_send: bool,
}

/// An array's glyph and word: first whether hosts reach it, then whether its management answers.
pub(super) fn array_state(array: &Array, outages: &Outages) -> (&'static str, String) {
    let mut felt = outages.of_array(array.id);
    if felt.any(|o| matches!(o.cause, Cause::Array(_))) {
        return ("down", "no host reaches it".into());
    }
    let dead = array
        .portals
        .iter()
        .filter(|p| outages.portal_is_down(array, p))
        .count();
    match &array.condition {
        ArrayCondition::Connecting => ("busy", "being connected".into()),
        ArrayCondition::Lost { .. } => ("down", "no controller answers".into()),
        ArrayCondition::Steady if dead > 0 => (
            "mind",
            format!(
                "{dead} of {} portals reached by no host",
                array.portals.len()
            ),
        ),
        ArrayCondition::Steady => match array.silent().count() {
            0 => ("steady", "steady".into()),
            n => (
                "mind",
                format!("{n} of {} controllers silent", array.controllers.len()),
            ),
        },
    }
}

pub(super) fn kind_word(kind: ArrayKind) -> &'static str {
    match kind {
        ArrayKind::Block => "LUNs by iSCSI",
        ArrayKind::File => "exports by NFS",
    }
}

fn volume_row(view: &View, v: &Volume) -> VolumeRow {
    let estate = &view.estate;
    let (glyph, word) = state(view, v);
    let array = v.backing.as_ref().and_then(|b| estate.arrays.get(&b.array));
    let pool = v
        .backing
        .as_ref()
        .and_then(|b| array.and_then(|a| a.pool(&b.pool)));
    let hosts = v.hosts(estate);
    let have = hosts
        .iter()
        .filter(|h| h.reports() && h.paths_up(v.id) > 0)
        .count();
    VolumeRow {
        id: v.id.0,
        name: v.name.clone(),
        glyph,
        word,
        cluster: v
            .cluster
            .and_then(|c| estate.clusters.get(&c))
            .map_or_else(String::new, |c| c.name.clone()),
        used: v.used.to_string(),
        capacity: v.capacity.to_string(),
        width: width(v.used, v.capacity),
        promised: v.promised(estate).to_string(),
        array: array.map(|a| (a.id.0, a.name.clone())),
        own: v.pooled.is_some(),
        pool: pool.map_or_else(
            || {
                v.pooled
                    .as_ref()
                    .map_or_else(String::new, |p| format!("{} copies", p.copies))
            },
            |p| format!("{}: {} free", p.name, p.free()),
        ),
        hosts: format!("{have} of {}", hosts.len()),
        silent: hosts.iter().filter(|h| !h.reports()).count(),
    }
}

fn array_row(view: &View, a: &Array, outages: &Outages) -> ArrayRow {
    let (glyph, word) = array_state(a, outages);
    ArrayRow {
        id: a.id.0,
        name: a.name.clone(),
        glyph,
        word,
        site: view
            .estate
            .sites
            .get(&a.site)
            .map_or_else(String::new, |s| s.name.clone()),
        kind: kind_word(a.kind),
        management: a
            .controllers
            .iter()
            .map(|c| c.address.as_str())
            .collect::<Vec<_>>()
            .join("  "),
        pools: a
            .pools
            .iter()
            .map(|p| {
                (
                    format!("{} {} free", p.name, p.free()),
                    width(p.used, p.capacity),
                )
            })
            .collect(),
        portals: a.portals.len(),
    }
}

/// The images on volumes of the site, by name, with how many machines have each in their drives.
fn images(view: &View, volumes: &[VolumeRow]) -> Vec<ImageRow> {
    let estate = &view.estate;
    let mut used = std::collections::BTreeMap::new();
    for attached in estate.machines.values().filter_map(|m| m.boot.attached) {
        *used.entry(attached.image).or_insert(0) += 1;
    }
    let here = |id: u64| volumes.iter().any(|v| v.id == id);
    let mut rows: Vec<_> = estate
        .images
        .values()
        .filter(|i| here(i.volume.0))
        .map(|i| {
            let (glyph, word) = image::state(view, i);
            let volume = estate.volumes.get(&i.volume);
            ImageRow {
                id: i.id.0,
                name: i.name.clone(),
                glyph,
                word,
                label: match i.holds.is_installer() {
                    true => i.label.clone(),
                    false => i.holds.word().into(),
                },
                size: i.size.to_string(),
                volume: volume.map(|v| (v.id.0, v.name.clone())),
                used: used.get(&i.id).copied().unwrap_or(0),
            }
        })
        .collect();
    rows.sort_by(|a, b| a.name.cmp(&b.name));
    rows
}

fn sentence(volumes: &[VolumeRow], arrays: &[ArrayRow]) -> String {
    let bad: Vec<_> = volumes
        .iter()
        .filter(|v| matches!(v.glyph, "down" | "mind"))
        .map(|v| format!("{}: {}", v.name, v.word))
        .chain(
            arrays
                .iter()
                .filter(|a| matches!(a.glyph, "down" | "mind"))
                .map(|a| format!("{}: {}", a.name, a.word)),
        )
        .collect();
    let count = match volumes.len() {
        0 => return "No volume is connected yet.".into(),
        1 => "1 volume".to_owned(),
        n => format!("{n} volumes"),
    };
    if bad.is_empty() {
        let silent: usize = volumes.iter().map(|v| v.silent).sum();
        if silent > 0 {
            format!(
                "{count}. Hosts that don't answer can't be asked what they mount; the others mount all of theirs on all paths."
            )
        } else {
            format!("{count}, each mounted by all of its hosts on all paths.")
        }
    } else {
        format!("{count}. {}.", bad.join(". "))
    }
}

fn build(signed: &Signed, desk: &AtDesk, query: &Query) -> List {
    let view = desk.look();
    let estate = &view.estate;
    let at = |site: u64| signed.site.is_none_or(|s| s == site);
    let mut volumes: Vec<_> = estate
        .volumes
        .values()
        .filter(|v| {
            let cluster = v.cluster.and_then(|c| estate.clusters.get(&c));
            cluster.is_none_or(|c| at(c.site.0))
        })
        .map(|v| volume_row(&view, v))
        .collect();
    volumes.sort_by(|a, b| a.name.cmp(&b.name));
    let outages = Outages::of(estate);
    let mut arrays: Vec<_> = estate
        .arrays
        .values()
        .filter(|a| at(a.site.0))
        .map(|a| array_row(&view, a, &outages))
        .collect();
    arrays.sort_by(|a, b| a.name.cmp(&b.name));
    let (spare, window) = spare::rows(&view, volumes.iter().map(|v| v.id), query);
    List {
        sentence: sentence(&volumes, &arrays),
        query: query.0.with("", ""),
        images: images(&view, &volumes),
        templates: templates::rows(&view, |id| volumes.iter().any(|v| v.id == id)),
        spare,
        window,
        volumes,
        arrays,
        may: signed.may(Act::Storage),
        may_machines: signed.may(Act::Machines),
        may_purge: signed.may(Act::Purge),
        may_send: signed.may(Act::Images),
    }
}

#[get("/storage")]
pub(crate) fn show(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    let body = build(&signed, desk, &query);
    whole(&signed, desk, "storage", "Storage", &body)
}
#[get("/storage/part")]
pub(crate) fn list_part(signed: Signed, desk: &AtDesk, query: Query) -> Page {
    part(&build(&signed, desk, &query))
}
