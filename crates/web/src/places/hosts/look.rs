//! Looking for hosts: a scan of an address range, announcements, and what was found.

use crate::frame::{AtDesk, Fields, Page, Problem, ago, page as whole, part, viewer::MayHosts};
use askama::Template;
use rocket::{get, http::Status, post, response::Redirect};
use std::collections::BTreeMap;
use zastrugi_core::{ids::ClusterId, view::View};

struct FoundRow {
    address: String,
    name: String,
    hardware: String,
    serial: String,
    software: String,
    owner: String,
    machines: usize,
    pin: String,
    asked: String,
}

/// Another manager, with the hosts of it that were found.
struct OwnerRow {
    name: String,
    hosts: String,
    addresses: String,
}

struct ScanView {
    range: String,
    words: String,
    share: usize,
    going: bool,
}

#[derive(Template)]
#[template(path = "places/hosts/look.html")]
struct Look {
    csrf: String,
    range: String,
    wrong: String,
    part: String,
}

#[derive(Template)]
#[template(path = "places/hosts/found.html")]
struct FoundPart {
    csrf: String,
    scan: Option<ScanView>,
    announced: Vec<(String, String)>,
    /// Controllers of hosts that are not claimed.
    bare: Vec<(String, String)>,
    /// Their addresses as a range, and the clusters that they could join, the nearest first.
    range: String,
    clusters: Vec<(u64, String)>,
    silent: Vec<String>,
    found: Vec<FoundRow>,
    owners: Vec<OwnerRow>,
}

/// `1 address`, `254 addresses`.
fn addresses(n: usize) -> String {
    if n == 1 {
        "1 address".into()
    } else {
        format!("{n} addresses")
    }
}

/// A fingerprint in groups of four, for comparing by eye.
pub(crate) fn grouped(pin: &str) -> String {
    let chars: Vec<char> = pin.chars().collect();
    chars
        .chunks(4)
        .map(|c| c.iter().collect::<String>())
        .collect::<Vec<_>>()
        .join(" ")
}

fn found_part(csrf: &str, desk: &AtDesk) -> FoundPart {
    let scan = desk.scan_state().map(|s| ScanView {
        words: match s.ended {
            None => format!(
                "{} of {} addresses asked, {} hosts so far",
                s.done, s.total, s.found
            ),
            Some(end) if s.found == 0 => {
                format!(
                    "{} addresses in {}: nobody answered",
                    s.total,
                    end.since(s.began)
                )
            }
            Some(end) => {
                format!(
                    "{} asked in {}: {} hosts answered, yours among them",
                    addresses(s.total),
                    end.since(s.began),
                    s.found
                )
            }
        },
        range: s.range,
        share: s.done * 300 / s.total.max(1),
        going: s.ended.is_none(),
    });
    let now = desk.now();
    let found: Vec<FoundRow> = desk
        .found()
        .into_iter()
        .map(|f| FoundRow {
            address: f.address,
            name: f.greeting.name,
            hardware: format!(
                "{} {} · {} cores · {}",
                f.greeting.hardware.maker,
                f.greeting.hardware.model,
                f.greeting.hardware.cpu.cores,
                f.greeting.hardware.memory
            ),
            serial: f.greeting.hardware.serial,
            software: f.greeting.software,
            owner: f.greeting.owner.map_or_else(String::new, |(_, name)| name),
            machines: f.greeting.machines.len(),
            pin: grouped(&f.greeting.pin),
            asked: ago(now, f.taken),
        })
        .collect();
    let announced = desk
        .announced()
        .into_iter()
        .map(|a| (a.name, a.address))
        .collect();
    let bare: Vec<(String, String)> = desk
        .announced_controllers()
        .into_iter()
        .map(|a| (a.name, a.address))
        .collect();
    let ips: Vec<&str> = bare.iter().map(|(_, at)| ip_of(at)).collect();
    FoundPart {
        csrf: csrf.to_owned(),
        scan,
        announced,
        range: ips.join(", "),
        clusters: near(&desk.look(), &ips),
        bare,
        silent: desk.silent(),
        owners: owners(&found),
        found,
    }
}

fn owners(found: &[FoundRow]) -> Vec<OwnerRow> {
    let mut all: BTreeMap<&str, Vec<&FoundRow>> = BTreeMap::new();
    for host in found.iter().filter(|f| !f.owner.is_empty()) {
        all.entry(&host.owner).or_default().push(host);
    }
    let row = |(name, hosts): (&str, Vec<&FoundRow>)| {
        let addresses: Vec<&str> = hosts.iter().map(|h| h.address.as_str()).collect();
        let names: Vec<&str> = hosts.iter().map(|h| h.name.as_str()).collect();
        OwnerRow {
            name: name.to_owned(),
            hosts: names.join(", "),
            addresses: addresses.join(","),
        }
    };
    all.into_iter().map(row).collect()
}

fn ip_of(address: &str) -> &str {
    address.rsplit_once(':').map_or(address, |(ip, _)| ip)
}

/// Clusters by how many of the controllers of their hosts are in the same network as these, then by name.
fn near(view: &View, ips: &[&str]) -> Vec<(u64, String)> {
    let net = |ip: &str| ip.rsplit_once('.').map(|(net, _)| net.to_owned());
    let theirs: Vec<_> = ips.iter().filter_map(|ip| net(ip)).collect();
    let beside = |cluster: ClusterId| {
        let hosts = view.estate.hosts_in(cluster);
        let at = hosts.filter_map(|h| net(ip_of(&h.bmc.as_ref()?.address)));
        at.filter(|n| theirs.contains(n)).count()
    };
    let ready = view.estate.clusters.values().filter(|c| c.ready);
    let mut all: Vec<_> = ready
        .map(|c| (beside(c.id), c.name.clone(), c.id.0))
        .collect();
    all.sort_by(|a, b| (b.0, &a.1).cmp(&(a.0, &b.1)));
    all.into_iter().map(|(_, name, id)| (id, name)).collect()
}

fn look_page(may: &MayHosts, desk: &AtDesk, range: &str, wrong: &str) -> Page {
    let part = crate::frame::sheet::render(&found_part(&may.0.csrf, desk));
    let look = Look {
        csrf: may.0.csrf.clone(),
        range: range.into(),
        wrong: wrong.into(),
        part,
    };
    whole(&may.0, desk, "hosts", "Look for hosts", &look)
}

#[get("/hosts/look")]
pub(crate) fn show(may: MayHosts, desk: &AtDesk) -> Page {
    let range = desk.scan_state().map(|s| s.range).unwrap_or_default();
    look_page(&may, desk, &range, "")
}

#[get("/hosts/look/part")]
pub(crate) fn look_part(may: MayHosts, desk: &AtDesk) -> Page {
    part(&found_part(&may.0.csrf, desk))
}

#[post("/hosts/look", data = "<fields>")]
pub(crate) fn scan(
    may: MayHosts,
    desk: &AtDesk,
    fields: Fields,
) -> Result<Redirect, (Status, Page)> {
    let range = fields.get("range");
    match desk.scan(range) {
        Ok(()) => Ok(Redirect::to("/hosts/look")),
        Err(error) => Err((
            Status::UnprocessableEntity,
            look_page(&may, desk, range, &error.to_string()),
        )),
    }
}

/// Asks the hosts that announced themselves who they are; only now is anything fetched.
#[post("/hosts/look/announced", data = "<_fields>")]
pub(crate) async fn greet(
    _may: MayHosts,
    desk: &AtDesk,
    _fields: Fields,
) -> Result<Redirect, Problem> {
    let addresses: Vec<String> = desk.announced().into_iter().map(|a| a.address).collect();
    desk.greet(&addresses).await;
    Ok(Redirect::to("/hosts/look"))
}
