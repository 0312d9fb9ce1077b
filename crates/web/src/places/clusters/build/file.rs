//! A build sheet saved as a file and loaded again, and its table of hosts as lines for a spreadsheet.

use super::{networks, rows};
use crate::frame::{AtDesk, Fields, Problem, Signed, consequences::Wrong, saved::Saved};
use rocket::{get, post};
use std::collections::BTreeSet;
use zastrugi_core::{estate::Array, permits::Act, view::View};
use zastrugi_formats::build::{self, Host, Hosts, Network, Sheet, Volume};

/// What is typed now, as a file.
#[post("/clusters/build/save", data = "<fields>")]
pub(crate) fn save(signed: Signed, desk: &AtDesk, fields: Fields) -> Result<Saved, Problem> {
    if !signed.may(Act::Clusters) {
        return Err(Problem::not_allowed());
    }
    let sheet = of_fields(&desk.look(), &fields);
    let text = build::write(&sheet).map_err(|_| Problem::not_found("A file of this sheet"))?;
    Ok(Saved::json(
        text,
        &format!("build-{}", sheet.name.to_lowercase()),
    ))
}

/// What such files look like, for whoever writes them.
#[get("/clusters/build/schema")]
pub(crate) fn schema(_signed: Signed) -> Saved {
    Saved::json(build::SCHEMA_TEXT.to_owned(), "build-sheet-1-schema")
}

fn of_fields(view: &View, fields: &Fields) -> Sheet {
    let text = |name: &str| fields.get(name).to_owned();
    let taken: BTreeSet<&str> = fields.all("take").collect();
    let row = |at: &str| Host {
        controller: at.to_owned(),
        pin: text(&format!("pin:{at}")),
        name: text(&format!("name:{at}")),
        address: text(&format!("address:{at}")),
        erase: fields.has(&format!("erase:{at}")),
        site: text(&format!("site:{at}")),
    };
    let networks = networks::rows(view, fields);
    let named = networks.into_iter().filter(|n| !n.name.is_empty());
    Sheet {
        schema: build::SCHEMA.into(),
        name: text("name"),
        kind: text("kind"),
        site: text("site"),
        level: Some(text("level")).filter(|l| !l.is_empty()),
        hosts: Hosts {
            range: text("range"),
            user: fields.or("user", "operator"),
            image: text("image"),
            names: text("pattern"),
            first: text("from"),
            time: super::typed_time(fields, None),
            rows: fields
                .all("at")
                .filter(|at| taken.contains(at))
                .map(row)
                .collect(),
        },
        networks: named
            .map(|n| Network {
                vlan: n.vlan.parse().ok(),
                mtu: n.mtu.parse().unwrap_or(1500),
                uplinks: n
                    .uplinks
                    .split([',', ' '])
                    .filter(|w| !w.is_empty())
                    .map(str::to_owned)
                    .collect(),
                name: n.name,
                role: n.role,
                subnet: n.subnet,
                gateway: n.gateway,
            })
            .collect(),
        volume: volume(view, fields),
        survive: fields.has("survive"),
        enforced: fields.has("enforced"),
        keepers: fields.has("keepers"),
        fencing: fields.has("fencing"),
        names: super::named_like(view, fields).map_or_else(String::new, |c| c.name.clone()),
    }
}

/// By names: numbers are another installation's.
fn volume(view: &View, fields: &Fields) -> Option<Volume> {
    let from = fields.get("volume-from").to_owned();
    if let Some(copies) = from.strip_prefix("own:") {
        return Some(Volume {
            copies: copies.parse().unwrap_or(2),
            name: fields.get("volume").to_owned(),
            ..Volume::default()
        });
    }
    let mut words = from.splitn(3, ':');
    let (kind, array, rest) = (words.next()?, words.next()?, words.next()?.to_owned());
    let array = view
        .estate
        .arrays
        .values()
        .find(|a| a.id.0.to_string() == array)?;
    let (pool, lun) = if kind == "lun" {
        (String::new(), rest)
    } else {
        (rest, String::new())
    };
    Some(Volume {
        copies: 0,
        array: array.name.clone(),
        pool,
        lun,
        size: fields.get("size").to_owned(),
        name: fields.get("volume").to_owned(),
    })
}

/// Where its volume comes from, as the sheet has it.
fn volume_from(view: &View, v: &Volume, wrong: &mut Vec<Wrong>) -> String {
    if v.copies > 0 {
        return format!("own:{}", v.copies);
    }
    let array = view.estate.arrays.values().find(|a| a.name == v.array);
    let of = |a: &std::sync::Arc<Array>| match v.lun.as_str() {
        "" => format!("new:{}:{}", a.id.0, v.pool),
        lun => format!("lun:{}:{lun}", a.id.0),
    };
    array.map(of).unwrap_or_else(|| {
        wrong.push((
            "array".into(),
            format!("No array {} is connected here.", v.array),
        ));
        String::new()
    })
}

/// The fields that a saved sheet means.
pub(super) fn load(view: &View, mut fields: Fields) -> (Fields, Vec<Wrong>) {
    let sheet = match build::read(fields.secret("file")) {
        Ok(sheet) => sheet,
        Err(words) => return (fields, vec![("file".into(), words)]),
    };
    let mut wrong = Vec::new();
    let from = sheet
        .volume
        .as_ref()
        .map(|v| volume_from(view, v, &mut wrong));
    let Sheet { hosts, volume, .. } = sheet;
    let volume = volume.unwrap_or_default();
    for (name, value) in [
        ("name", sheet.name),
        ("kind", sheet.kind),
        ("site", sheet.site),
        ("level", sheet.level.unwrap_or_default()),
        ("range", hosts.range),
        ("user", hosts.user),
        ("image", hosts.image),
        ("pattern", hosts.names),
        ("from", hosts.first),
        ("time", hosts.time.join(" ")),
        ("volume-from", from.unwrap_or_default()),
        (
            "size",
            if volume.size.is_empty() {
                "2 TiB".into()
            } else {
                volume.size
            },
        ),
        ("volume", volume.name),
    ] {
        fields.set(name, Some(value));
    }
    let named = view
        .estate
        .cluster_named(&sheet.names)
        .map(|c| c.id.0.to_string());
    if named.is_none() && !sheet.names.is_empty() {
        wrong.push((
            "names".into(),
            format!("No cluster {} is here.", sheet.names),
        ));
    }
    fields.set("names", named);
    let tick = |on: bool| on.then(|| "on".to_owned());
    fields.set("survive", tick(sheet.survive));
    fields.set("enforced", tick(sheet.enforced));
    fields.set("keepers", tick(sheet.keepers));
    fields.set("fencing", tick(sheet.fencing));
    fields.set("file", None);
    host_rows(&mut fields, hosts.rows);
    let kinds = [
        "net-name",
        "net-role",
        "net-vlan",
        "net-mtu",
        "net-subnet",
        "net-gateway",
        "net-uplinks",
    ];
    kinds.iter().for_each(|name| fields.set(name, None));
    for n in sheet.networks {
        let vlan = n.vlan.map_or_else(String::new, |v| v.to_string());
        let values = [
            n.name,
            n.role,
            vlan,
            n.mtu.to_string(),
            n.subnet,
            n.gateway,
            n.uplinks.join(" "),
        ];
        kinds
            .iter()
            .zip(values)
            .for_each(|(name, value)| fields.add(name, &value));
    }
    (fields, wrong)
}

/// These hosts and no others.
fn host_rows(fields: &mut Fields, rows: Vec<Host>) {
    fields.set("at", None);
    fields.set("take", None);
    fields.set("rows", Some(rows.len().to_string()));
    for row in rows {
        let at = row.controller;
        fields.add("at", &at);
        fields.add("take", &at);
        if !row.pin.is_empty() {
            fields.set(&format!("pin:{at}"), Some(row.pin));
        }
        fields.set(&format!("name:{at}"), Some(row.name));
        fields.set(&format!("address:{at}"), Some(row.address));
        fields.set(&format!("erase:{at}"), row.erase.then(|| "on".to_owned()));
        fields.set(&format!("site:{at}"), Some(row.site));
    }
}

/// The table as lines for a spreadsheet: controller, name, own address, whether its disks may be erased.
pub(super) fn lines(rows: &[rows::HostRow]) -> String {
    let line = |r: &rows::HostRow| {
        let ask = r.ask();
        let erase = if r.erase { "erase" } else { "" };
        format!("{}\t{}\t{}\t{erase}", r.at, ask.name, ask.address)
            .trim_end()
            .to_owned()
    };
    rows.iter()
        .filter(|r| r.take)
        .map(line)
        .collect::<Vec<_>>()
        .join("\n")
}

/// Lines from a spreadsheet, into the table: those that are there get what stands in them; a controller that nobody found is said.
pub(super) fn paste(mut fields: Fields) -> (Fields, Vec<Wrong>) {
    let text = fields.secret("lines").to_owned();
    let read = match zastrugi_formats::csv::read::<4>(&text) {
        Ok(read) => read,
        Err(words) => return (fields, vec![("lines".into(), words)]),
    };
    let known: BTreeSet<String> = fields.all("at").map(str::to_owned).collect();
    let mut wrong = Vec::new();
    let mut seen = BTreeSet::new();
    for (n, [at, name, address, erase]) in read.into_iter().filter(|(_, c)| !c[0].is_empty()) {
        let at = crate::frame::fields::at_manager(&at);
        let words = match erase.as_str() {
            _ if !known.contains(&at) => format!("Line {n}: no controller was found at {at}."),
            _ if !seen.insert(at.clone()) => format!("Line {n}: {at} stands twice."),
            "" | "erase" => {
                fields.set(&format!("name:{at}"), Some(name));
                fields.set(&format!("address:{at}"), Some(address));
                fields.set(
                    &format!("erase:{at}"),
                    (erase == "erase").then(|| "on".to_owned()),
                );
                continue;
            }
            other => format!("Line {n}: “{other}” is neither empty nor “erase”."),
        };
        wrong.push(("lines".to_owned(), words));
    }
    if wrong.is_empty() {
        fields.set("take", None);
        seen.iter().for_each(|at| fields.add("take", at));
        fields.set("lines", None);
    }
    wrong.truncate(1);
    (fields, wrong)
}
