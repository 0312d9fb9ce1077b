//! What can be found: by name, address, part of a MAC, label; with where it is, since two sites may use one name.

use super::{Hit, MOST};
use zastrugi_core::{
    estate::{Estate, Machine},
    ids::{ClusterId, SiteId},
    view::View,
};

/// Something with a page of its own.
pub(super) struct Thing {
    pub(super) kind: &'static str,
    pub(super) id: u64,
    pub(super) name: String,
    /// Which of several that are called so.
    pub(super) place: String,
    link: String,
}

impl Thing {
    fn new(kind: &'static str, id: u64, name: &str, place: String, at: &str) -> Thing {
        Thing {
            kind,
            id,
            name: name.to_owned(),
            place,
            link: format!("{at}{id}"),
        }
    }
    pub(super) fn hit(self) -> Hit {
        let place = if self.place.is_empty() {
            String::new()
        } else {
            format!(" · {}", self.place)
        };
        Hit {
            link: self.link,
            text: self.name,
            kind: format!("{}{place}", self.kind),
        }
    }
}

fn site(estate: &Estate, id: SiteId) -> String {
    estate
        .sites
        .get(&id)
        .map_or_else(String::new, |s| s.name.clone())
}

fn cluster(estate: &Estate, id: Option<ClusterId>) -> String {
    let found = id.and_then(|id| estate.clusters.get(&id));
    found.map_or_else(String::new, |c| c.name.clone())
}

/// All things of which `named` is true for their name, each kind up to a few. `named` is asked in small letters.
pub(super) fn called(estate: &Estate, named: &dyn Fn(&str) -> bool) -> Vec<Thing> {
    let named = |name: &str| named(&name.to_lowercase());
    let clusters = estate
        .clusters
        .values()
        .filter(|c| named(&c.name))
        .map(|c| {
            Thing::new(
                "cluster",
                c.id.0,
                &c.name,
                site(estate, c.site),
                "/clusters/",
            )
        });
    let hosts = estate.hosts.values().filter(|h| named(&h.name)).map(|h| {
        let place = match cluster(estate, h.cluster) {
            none if none.is_empty() => site(estate, h.site),
            cluster => cluster,
        };
        Thing::new("host", h.id.0, &h.name, place, "/hosts/")
    });
    let machines = estate
        .machines_by_name()
        .filter(|m| named(&m.name))
        .map(|m| machine(estate, m));
    let volumes = estate.volumes.values().filter(|v| named(&v.name)).map(|v| {
        Thing::new(
            "volume",
            v.id.0,
            &v.name,
            cluster(estate, v.cluster),
            "/storage/volumes/",
        )
    });
    let images = estate
        .images
        .values()
        .filter(|i| named(&i.name) || named(&i.label))
        .map(|i| {
            let volume = estate.volumes.get(&i.volume);
            let place = volume.map_or_else(String::new, |v| v.name.clone());
            Thing::new("image", i.id.0, &i.name, place, "/storage/images/")
        });
    let networks = estate
        .networks
        .values()
        .filter(|n| named(&n.name))
        .map(|n| {
            Thing::new(
                "network",
                n.id.0,
                &n.name,
                cluster(estate, Some(n.cluster)),
                "/networks/",
            )
        });
    let each = |things: &mut dyn Iterator<Item = Thing>| things.take(MOST).collect::<Vec<_>>();
    let all = [
        each(&mut { clusters }),
        each(&mut { hosts }),
        each(&mut { machines }),
        each(&mut { volumes }),
        each(&mut { images }),
        each(&mut { networks }),
        each(&mut fronts(estate, &named)),
        each(&mut arrays(estate, &named)),
        each(&mut templates(estate, &named)),
        each(&mut first_boots(estate, &named)),
        each(&mut shared(estate, &named)),
        each(&mut pools(estate, &named)),
        each(&mut protecting(estate, &named)),
    ];
    all.into_iter().flatten().collect()
}

/// What protects machines: pledges, jobs, recovery plans, pairs and stores.
fn protecting<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    let thing = |kind, id: u64, name: &str, place, at: &str| {
        Thing::new(kind, id, name, place, &format!("/protect/{at}/"))
    };
    let none = String::new;
    let plans = estate.plans.values().filter(|p| named(&p.name));
    let plans = plans.map(move |p| {
        let way = estate.way_name(p.way);
        thing("recovery plan", p.id.0, &p.name, way, "plans")
    });
    let jobs = estate.jobs.values().filter(|j| named(&j.name));
    let jobs = jobs.map(move |j| thing("job", j.id.0, &j.name, j.to.name(estate), "jobs"));
    let pairs = estate.pairs.values().filter(|p| named(&p.name));
    let pairs = pairs.map(move |p| thing("pair", p.id.0, &p.name, none(), "pairs"));
    let stores = estate.stores.values().filter(|s| named(&s.name));
    let stores =
        stores.map(move |s| thing("store", s.id.0, &s.name, site(estate, s.site), "stores"));
    let pledges = estate.pledges.values().filter(|p| named(&p.name));
    let pledges = pledges.map(move |p| thing("pledge", p.id.0, &p.name, none(), "pledges"));
    plans.chain(jobs).chain(pairs).chain(stores).chain(pledges)
}

fn arrays<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    let all = estate.arrays.values().filter(|a| named(&a.name));
    all.map(|a| {
        Thing::new(
            "array",
            a.id.0,
            &a.name,
            site(estate, a.site),
            "/storage/arrays/",
        )
    })
}

fn templates<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    let all = estate.templates.values().filter(|t| named(&t.name));
    all.map(|t| {
        let volume = t.newest().and_then(|v| estate.volumes.get(&v.volume));
        let place = volume.map_or_else(String::new, |v| v.name.clone());
        Thing::new("template", t.id.0, &t.name, place, "/templates/")
    })
}

fn pools<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    let all = estate.spare_pools.values().filter(|p| named(&p.name));
    all.map(|p| {
        Thing::new(
            "pool",
            p.id.0,
            &p.name,
            cluster(estate, Some(p.cluster)),
            "/pools/",
        )
    })
}

/// Disks that several machines have.
fn shared<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    estate.volumes.values().flat_map(move |v| {
        let all = v.shared.disks.iter().filter(|(_, d)| named(&d.name));
        all.map(|(key, d)| Thing {
            kind: "shared disk",
            id: v.id.0,
            name: d.name.clone(),
            place: v.name.clone(),
            link: format!("/storage/shared/{key}"),
        })
    })
}

fn first_boots<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    let all = estate.first_boots.values().filter(|d| named(&d.name));
    all.map(|d| {
        Thing::new(
            "first-boot document",
            d.id.0,
            &d.name,
            String::new(),
            "/first-boot/",
        )
    })
}

fn fronts<'a>(
    estate: &'a Estate,
    named: &'a dyn Fn(&str) -> bool,
) -> impl Iterator<Item = Thing> + 'a {
    estate.fronts.values().filter(|f| named(&f.name)).map(|f| {
        let network = estate.networks.get(&f.network);
        let place = network.map_or_else(String::new, |n| n.name.clone());
        Thing::new("front", f.id.0, &f.name, place, "/fronts/")
    })
}

fn machine(estate: &Estate, m: &Machine) -> Thing {
    Thing::new(
        "machine",
        m.id.0,
        &m.name,
        cluster(estate, m.cluster),
        "/machines/",
    )
}

/// Everything that answers `q`, which is in small letters.
pub(super) fn found(view: &View, q: &str) -> Vec<Thing> {
    let estate = &view.estate;
    let mut all = called(estate, &|name| name.contains(q));
    all.extend(by_address(estate, q, &all));
    all.extend(labels(estate, q));
    all.extend(rules(estate, q));
    all.extend(runs(view, q));
    all
}

/// Hosts and machines by an address, or a part of a MAC.
fn by_address(estate: &Estate, q: &str, known: &[Thing]) -> Vec<Thing> {
    let looks_so = q.len() >= 2 && q.contains(['.', ':']);
    if !looks_so {
        return vec![];
    }
    let new = |kind: &str, id: u64| !known.iter().any(|t| t.kind == kind && t.id == id);
    let hosts = estate.hosts.values().filter(|h| {
        let bmc = h.bmc.as_ref().is_some_and(|b| b.address.contains(q));
        (h.access.address.contains(q) || bmc) && new("host", h.id.0)
    });
    let hosts = hosts
        .take(MOST)
        .map(|h| Thing::new("host", h.id.0, &h.name, h.access.address.clone(), "/hosts/"));
    let has = |m: &&std::sync::Arc<Machine>| {
        let nic = |n: &zastrugi_core::estate::Nic| {
            n.mac.contains(q) || n.addresses.iter().any(|a| a.to_string().contains(q))
        };
        m.nics.iter().any(nic) && new("machine", m.id.0)
    };
    let machines = estate.machines_by_name().filter(has).take(MOST).map(|m| {
        let addresses: Vec<_> = m
            .nics
            .iter()
            .flat_map(|n| &n.addresses)
            .map(ToString::to_string)
            .collect();
        Thing {
            place: addresses.join(", "),
            ..machine(estate, m)
        }
    });
    hosts.chain(machines).collect()
}

fn labels(estate: &Estate, q: &str) -> Vec<Thing> {
    let named = estate
        .labels()
        .filter(|(label, _)| label.to_lowercase().contains(q));
    named
        .take(MOST)
        .map(|(label, n)| {
            let query: String = form_urlencoded::Serializer::new(String::new())
                .append_pair("label", label)
                .finish();
            Thing {
                kind: "label",
                id: 0,
                name: label.to_owned(),
                place: format!("{n} {}", if n == 1 { "machine" } else { "machines" }),
                link: format!("/machines?{query}"),
            }
        })
        .collect()
}

fn rules(estate: &Estate, q: &str) -> Vec<Thing> {
    let all = estate
        .clusters
        .values()
        .flat_map(|c| c.rules.iter().map(move |r| (c, r)));
    let named = all.filter(|(_, r)| r.name.to_lowercase().contains(q));
    named
        .take(MOST)
        .map(|(c, r)| Thing {
            kind: "rule",
            id: 0,
            name: r.name.to_string(),
            place: c.name.clone(),
            link: format!("/clusters/{}#rules", c.id.0),
        })
        .collect()
}

/// Runs that are open, by what they do; any run by its number.
fn runs(view: &View, q: &str) -> Vec<Thing> {
    let number = q
        .strip_prefix("run")
        .map(|n| n.trim_start_matches(['-', ' ']));
    let number: Option<u64> = number.and_then(|n| n.parse().ok());
    let by_number = number.map(|n| {
        Thing::new(
            "run",
            n,
            &format!("run-{n}"),
            String::new(),
            "/logbook/runs/",
        )
    });
    let open = view
        .runs
        .iter()
        .filter(|r| r.title.to_lowercase().contains(q));
    let open = open.take(MOST).map(|r| {
        Thing::new(
            "run",
            r.id.0,
            &r.title,
            r.state.word().to_owned(),
            "/logbook/runs/",
        )
    });
    by_number.into_iter().chain(open).collect()
}
