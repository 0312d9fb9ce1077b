//! The build sheet: a whole cluster on one page, from bare hosts to keepers (rules, sections 9 and 29).

mod expand;
pub(super) mod file;
mod look;
mod networks;
mod rows;
mod volume;

pub(crate) use look::look;

use super::kind;
use crate::frame::{
    AtDesk, Fields,
    consequences::Wrong,
    fields::whole,
    sheet::{Filled, render},
};
use askama::Template;
use expand::Into;
use futures::future::BoxFuture;
use networks::NetRow;
use rows::{HostRow, Looked, Usual};
use std::sync::Arc;
use uuid::Uuid;
use volume::VolumeFields;
use zastrugi_core::{
    endpoint::Password,
    estate::{Cluster, ClusterKind, Demand, Dns, NetRole, PsabiLevel},
    evidence::{Answer, Medium, Probe},
    ids::{ClusterId, SecretRef},
    rooms::{
        Proposal,
        building::{self, Build},
        installing::{self, Install},
        naming,
        networks::CreateNetwork,
    },
    text::Line,
    view::View,
};

/// Those that one sheet builds.
const KINDS: [ClusterKind; 3] = [
    ClusterKind::OneSite,
    ClusterKind::TwoHosts,
    ClusterKind::TwoSites,
];

#[derive(Template)]
#[template(path = "places/clusters/build/fields.html")]
struct BuildFields {
    /// None: they make a cluster.
    into: Option<Into>,
    given: Given,
    offered: Offered,
    like: u64,
    /// The password that was typed lately, sealed.
    kept: String,
    rows: Vec<HostRow>,
    /// The same as lines for a spreadsheet.
    lines: String,
    own: Own,
    networks: Vec<NetRow>,
    kind: String,
    /// Each host says at which of them it stands.
    two_sites: bool,
    zones: Vec<(u64, String, bool)>,
    there: bool,
    volume: VolumeFields,
    promises: Promises,
    typed: Typed,
    usual: Usual,
}

/// As it was typed, to be shown again.
struct Typed {
    name: String,
    range: String,
    pattern: String,
    from: String,
    time: String,
    image: String,
    /// What could not be loaded.
    file: String,
}

impl Typed {
    fn of(fields: &Fields) -> Typed {
        let text = |name: &str| fields.get(name).to_owned();
        Typed {
            name: text("name"),
            range: text("range"),
            pattern: text("pattern"),
            from: text("from"),
            time: text("time"),
            image: text("image"),
            file: fields.secret("file").to_owned(),
        }
    }
}

/// What must be known of this manager and of its arrays before the sheet can speak.
pub(crate) fn prepare<'a>(desk: &'a AtDesk, fields: &'a Fields) -> BoxFuture<'a, ()> {
    Box::pin(async move {
        desk.before_installing(&[]).await;
        let view = desk.look();
        let into = expand::into(&view, fields);
        let typed = typed_time(fields, into.as_ref());
        let sources = typed.iter().filter_map(|t| installing::at_source(t));
        desk.ask_the_time(&sources.collect::<Vec<_>>()).await;
        let arrays = view.estate.arrays.values().filter(|a| a.answers());
        let arrays: Vec<_> = arrays.map(|a| a.id).collect();
        desk.inspect_storage(&arrays, &[], false).await;
        let joined = into.as_ref().map(|i| ClusterId(i.id));
        let joined = joined.and_then(|id| view.estate.clusters.get(&id)).cloned();
        let named = joined.or_else(|| named_like(&view, fields));
        if let Some(dns) = named.and_then(|c| c.dns.clone()) {
            desk.ask_for_zone(&dns.servers, &dns.zone).await;
            ask_who_has(desk, fields, &dns).await;
        }
    })
}

/// Who has the names that the rows have by now, once a server is known to be in charge.
async fn ask_who_has(desk: &AtDesk, fields: &Fields, dns: &Dns) {
    let view = desk.look();
    let Some(server) = naming::asked(&view, dns, desk.now()) else {
        return;
    };
    let usual = Usual::of(fields, expand::into(&view, fields).as_ref());
    let looked = Looked {
        user: "",
        kept: None,
        usual: &usual,
    };
    let rows = rows::rows(&view, fields, &looked, &mut vec![]);
    let named = rows.iter().filter(|r| r.take).filter_map(HostRow::named);
    let names = named.map(|(name, address)| (dns.name_of(&name), address));
    desk.ask_for_names(server, names.collect()).await;
}

fn media(view: &View) -> Vec<Medium> {
    match view
        .evidence
        .answers
        .get(&Probe::Installations)
        .map(|e| &e.answer)
    {
        Some(Answer::Installations { media }) => media.clone(),
        _ => vec![],
    }
}

/// Made for the hosts that were found; else the first for any hardware.
fn usual_medium(view: &View, rows: &[HostRow]) -> String {
    let all = media(view);
    let maker = rows.iter().find(|r| r.take).map(|r| r.maker.as_str());
    let fits = all
        .iter()
        .find(|m| m.maker.as_deref() == maker && maker.is_some());
    let found = fits.or_else(|| all.iter().find(|m| m.maker.is_none()));
    found.map_or_else(String::new, |m| m.file.clone())
}

/// The hosts, and what each of them is given; their own addresses lie in the network that is for management.
fn install(
    fields: &Fields,
    rows: &[HostRow],
    networks: &[CreateNetwork],
    given: &Given,
    kind: ClusterKind,
) -> Install {
    // What was typed while it was to have two sites stays in the sheet, and means nothing.
    let ask = |row: &HostRow| {
        let mut host = row.ask();
        if kind != ClusterKind::TwoSites {
            host.site = Line::default();
        }
        host
    };
    let management = networks.iter().find(|n| n.role == NetRole::Management);
    let subnet = management.and_then(|n| n.subnets.first());
    let text = |t: Option<String>| t.unwrap_or_default();
    Install {
        hosts: rows.iter().filter(|r| r.take).map(ask).collect(),
        site: (&given.site).into(),
        image: (&given.image).into(),
        user: (&given.user).into(),
        password: match given.kept {
            Some(kept) => Password::Kept(kept),
            None if fields.secret("password").is_empty() => Password::Missing,
            None => Password::Typed,
        },
        subnet: text(subnet.map(|s| s.net.to_string())).into(),
        gateway: text(subnet.and_then(|s| s.gateway).map(|g| g.to_string())).into(),
        vlan: management.and_then(|n| n.vlan),
        time: given.time.iter().map(Line::from).collect(),
    }
}

/// Time sources as typed, else those of the cluster that they join.
fn typed_time(fields: &Fields, into: Option<&Into>) -> Vec<String> {
    let words = fields
        .get("time")
        .split(|c: char| c == ',' || c.is_whitespace());
    let typed: Vec<String> = words.filter(|w| !w.is_empty()).map(str::to_owned).collect();
    match into {
        Some(into) if typed.is_empty() => into.time.clone(),
        _ => typed,
    }
}

/// Where the hosts' own addresses lie, in a cluster that has no network for management.
struct Own {
    subnet: String,
    gateway: String,
    vlan: String,
}

impl Own {
    fn of(fields: &Fields) -> Own {
        Own {
            subnet: fields.get("subnet").to_owned(),
            gateway: fields.get("gateway").to_owned(),
            vlan: fields.get("vlan").to_owned(),
        }
    }
    /// As it stands in the sheet; what is no VLAN is said beside it.
    fn fill(&self, install: &mut Install, wrong: &mut Vec<Wrong>) {
        install.subnet = (&self.subnet).into();
        install.gateway = (&self.gateway).into();
        if !self.vlan.is_empty() {
            match whole(&self.vlan) {
                Ok(vlan) => install.vlan = Some(u16::try_from(vlan).unwrap_or(u16::MAX)),
                Err(words) => wrong.push(("vlan".into(), words)),
            }
        }
    }
}

/// What can be chosen.
struct Offered {
    sites: Vec<String>,
    clusters: Vec<(u64, String)>,
    images: Vec<(String, String)>,
    roles: Vec<&'static str>,
    levels: Vec<&'static str>,
}

impl Offered {
    fn of(view: &View) -> Self {
        let clusters = view.estate.clusters.values();
        Offered {
            sites: view.estate.sites.values().map(|s| s.name.clone()).collect(),
            clusters: clusters.map(|c| (c.id.0, c.name.clone())).collect(),
            images: media(view)
                .into_iter()
                .map(|m| (m.file.clone(), words(&m)))
                .collect(),
            roles: NetRole::ALL.into_iter().map(NetRole::word).collect(),
            levels: PsabiLevel::ALL.into_iter().map(PsabiLevel::word).collect(),
        }
    }
}

/// The cluster whose zone the new one shares.
fn named_like(view: &View, fields: &Fields) -> Option<Arc<Cluster>> {
    let id = fields.get("names").parse().ok().map(ClusterId)?;
    view.estate.clusters.get(&id).cloned()
}

/// Clusters with names in DNS: number, zone with the cluster, whether it is chosen.
fn zones(view: &View, fields: &Fields) -> Vec<(u64, String, bool)> {
    let chosen = fields.get("names");
    let named = view
        .estate
        .clusters
        .values()
        .filter_map(|c| Some((c, c.dns.as_deref()?)));
    let choice = |(c, dns): (&Arc<Cluster>, &zastrugi_core::estate::Dns)| {
        let words = format!("{}, as {}", dns.zone, c.name);
        (c.id.0, words, c.id.0.to_string() == chosen)
    };
    named.map(choice).collect()
}

struct Given {
    site: String,
    image: String,
    user: String,
    kept: Option<SecretRef>,
    time: Vec<String>,
}

impl Given {
    fn of(
        (view, fields): (&View, &Fields),
        (into, offered): (Option<&Into>, &Offered),
        (rows, user, kept): (&[HostRow], String, Option<SecretRef>),
    ) -> Given {
        Given {
            site: match into {
                Some(into) => into.site.clone(),
                None => fields.or("site", offered.sites.first().map_or("", String::as_str)),
            },
            image: match fields.get("image") {
                "" => usual_medium(view, rows),
                chosen => chosen.to_owned(),
            },
            user,
            kept,
            time: typed_time(fields, into),
        }
    }
}

/// What the cluster promises its machines.
struct Promises {
    level: String,
    survive: bool,
    enforced: bool,
    keepers: bool,
    fencing: bool,
}

impl Promises {
    fn level(&self) -> Option<PsabiLevel> {
        let mut all = PsabiLevel::ALL.into_iter();
        all.find(|l| l.word() == self.level)
    }
    fn demand(&self) -> Demand {
        Demand {
            failures: u32::from(self.survive),
            domains: [false; 3],
            enforced: self.enforced,
        }
    }
    fn of(fields: &Fields) -> Self {
        Promises {
            level: fields.get("level").to_owned(),
            survive: fields.ticked("survive", true),
            enforced: fields.ticked("enforced", false),
            keepers: fields.ticked("keepers", true),
            fencing: fields.ticked("fencing", true),
        }
    }
}

/// What could not be taken stays as it was typed.
fn lines(fields: &Fields, rows: &[HostRow]) -> String {
    match (fields.get("look"), fields.secret("lines")) {
        ("lines", typed) if !typed.is_empty() => typed.to_owned(),
        _ => file::lines(rows),
    }
}

pub(crate) fn fill(view: &View, fields: &Fields) -> Filled {
    let mut wrong: Vec<Wrong> = Vec::new();
    let into = expand::into(view, fields);
    let kept = fields.get("kept").parse::<Uuid>().ok().map(SecretRef);
    let user = fields.or("user", "operator");
    let usual = Usual::of(fields, into.as_ref());
    let asked = Looked {
        user: &user,
        kept,
        usual: &usual,
    };
    let rows = rows::rows(view, fields, &asked, &mut wrong);
    let networks = networks::rows(view, fields);
    let read = match &into {
        Some(into) => into.management.clone(),
        None => networks::read(&networks, &mut wrong),
    };
    let volume = volume::fields(view, fields, &mut wrong);
    let offered = Offered::of(view);
    let promises = Promises::of(fields);
    let given = Given::of(
        (view, fields),
        (into.as_ref(), &offered),
        (&rows, user, kept),
    );
    let kind = kind::chosen(fields, ClusterKind::default());
    let mut install = install(fields, &rows, &read, &given, kind);
    let own = Own::of(fields);
    if into.as_ref().is_some_and(|i| i.management.is_empty()) {
        own.fill(&mut install, &mut wrong);
    }
    let ask = match &into {
        Some(into) => expand::joins(into, install, promises.fencing),
        None => Build {
            into: None,
            kind,
            name: fields.get("name").into(),
            install,
            networks: read,
            level: promises.level(),
            demand: promises.demand(),
            volume: volume.ask(fields.get("name")),
            keepers: promises.keepers,
            fencing: promises.fencing,
            names: named_like(view, fields).map(|c| c.id),
        },
    };
    let words = expand::Words::of(into.as_ref(), ask.install.hosts.len());
    let shown = BuildFields {
        own,
        typed: Typed::of(fields),
        into,
        offered,
        like: networks::like(view, fields).map_or(0, |c| c.id.0),
        kept: kept.map_or_else(String::new, |k| k.0.to_string()),
        usual,
        networks,
        two_sites: kind == ClusterKind::TwoSites,
        kind: kind::field(kind, &KINDS),
        zones: zones(view, fields),
        there: fields.get("like") == networks::THERE,
        volume,
        promises,
        lines: lines(fields, &rows),
        rows,
        given,
    };
    Filled {
        title: words.title,
        lead: words.lead,
        run: words.run,
        danger: false,
        back: words.back,
        fields: render(&shown),
        ask: Proposal::Building(building::Ask::Build(Box::new(ask))),
        wrong,
    }
}

fn words(medium: &Medium) -> String {
    let made = medium
        .maker
        .as_ref()
        .map_or_else(|| "any hardware".into(), |m| format!("hardware of {m}"));
    format!(
        "{} · {}, for {made}, {}",
        medium.file, medium.version, medium.size
    )
}
