//! One network: how it stands on each host, how large a packet gets through, who has which address.

use super::tried;
use crate::{
    frame::{AtDesk, Fields, Page, Problem, Signed, page as whole, part, time, viewer::MayStorage},
    places::logbook::lately::{Line, lately},
};
use askama::Template;
use rocket::{get, http::ContentType, post, response::Redirect};
use std::net::IpAddr;
use zastrugi_core::{
    addressing::next_free,
    estate::{Host, Network, Part, Standing},
    ids::NetworkId,
    moment::Moment,
    permits::Act,
    view::View,
};

/// (address, who, since, the machine)
type AddressRow = (String, String, String, Option<u64>);

#[derive(Template)]
#[template(path = "places/networks/page.html")]
struct NetworkPage {
    id: u64,
    name: String,
    glyph: &'static str,
    word: String,
    lead: String,
    csrf: String,
    drifts: bool,
    /// It goes from no host to another.
    isolated: bool,
    facts: Vec<(&'static str, String)>,
    /// (subnet, gateway, ranges)
    subnets: Vec<(String, String, Vec<String>)>,
    /// (glyph, host, words)
    hosts: Vec<(&'static str, String, String)>,
    /// (glyph, words)
    tried: Vec<(&'static str, String)>,
    next: String,
    addresses: Vec<AddressRow>,
    more: usize,
    note: String,
    events: Vec<Line>,
    may: bool,
}

const SHOWN: usize = 250;

fn glyph_of(standing: &Standing) -> &'static str {
    match standing {
        Standing::Fine => "steady",
        Standing::Unchecked(_) => "unchecked",
        Standing::Missing | Standing::Differs(_) => "down",
        Standing::Wire(_) => "mind",
    }
}

fn hosts<'a>(view: &'a View, network: &Network) -> Vec<(&'a Host, Standing)> {
    let mut all: Vec<_> = view
        .estate
        .hosts_in(network.cluster)
        .map(|h| (&**h, network.standing(&view.estate, h)))
        .collect();
    all.sort_by(|a, b| a.0.name.cmp(&b.0.name));
    all
}

fn addresses(view: &View, network: &Network) -> Vec<AddressRow> {
    let taken = network.taken(&view.estate);
    let row = |(address, (who, since)): (IpAddr, (String, Moment))| {
        let machine = view.estate.machine_named(&who).map(|m| m.id.0);
        let since = if since.0 == 0 {
            String::new()
        } else {
            time(since)
        };
        (address.to_string(), who, since, machine)
    };
    taken.into_iter().map(row).collect()
}

fn next_words(view: &View, network: &Network, now: Moment) -> String {
    let taken = network.taken(&view.estate).into_keys().collect();
    let found = next_free(network, &taken, now);
    if found.is_empty() {
        return "It has no range for guests; addresses are typed by hand.".into();
    }
    let words = found
        .into_iter()
        .map(|f| f.map_or_else(|words| words, |a| a.to_string()));
    format!("Next free: {}", words.collect::<Vec<_>>().join(", "))
}

fn facts(view: &View, n: &Network) -> Vec<(&'static str, String)> {
    vec![
        (
            "Cluster",
            view.estate
                .clusters
                .get(&n.cluster)
                .map_or_else(String::new, |c| c.name.clone()),
        ),
        ("Role", n.role.word().to_owned()),
        ("VLAN", n.vlan_word()),
        ("MTU", n.mtu.to_string()),
        (
            "Uplinks",
            match n.is_isolated() {
                true => "none: it ends at each host".into(),
                false => n.uplinks.iter().cloned().collect::<Vec<_>>().join(", "),
            },
        ),
    ]
}

fn subnets(n: &Network) -> Vec<(String, String, Vec<String>)> {
    let range = |r: &zastrugi_core::estate::AddressRange| {
        let part: Part = r.part;
        format!("{}: {} to {}", part.word(), r.first, r.last)
    };
    n.subnets
        .iter()
        .map(|s| {
            (
                s.net.to_string(),
                s.gateway.map_or_else(String::new, |g| g.to_string()),
                s.ranges.iter().map(range).collect(),
            )
        })
        .collect()
}

async fn build(signed: &Signed, desk: &AtDesk, id: u64) -> Result<NetworkPage, Problem> {
    let view = desk.look();
    let n = view
        .estate
        .networks
        .get(&NetworkId(id))
        .ok_or_else(|| Problem::not_found("This network"))?;
    let standings = hosts(&view, n);
    let bad = standings.iter().filter(|(_, s)| s.bad()).count();
    let (glyph, word) = match (n.ready, bad) {
        (false, _) => ("busy", "being made".to_owned()),
        (true, 0) => ("steady", "steady".to_owned()),
        (true, 1) => ("mind", "one host differs".to_owned()),
        (true, b) => ("mind", format!("{b} hosts differ")),
    };
    let mut rows = addresses(&view, n);
    let more = rows.len().saturating_sub(SHOWN);
    rows.truncate(SHOWN);
    Ok(NetworkPage {
        id,
        name: n.name.clone(),
        glyph,
        word,
        lead: format!(
            "{} machines have a card on it.",
            n.machines(&view.estate).count()
        ),
        csrf: signed.csrf.clone(),
        drifts: n.ready && standings.iter().any(|(_, s)| s.drifts()),
        facts: facts(&view, n),
        subnets: subnets(n),
        hosts: standings
            .iter()
            .map(|(h, s)| (glyph_of(s), h.name.clone(), s.words()))
            .collect(),
        isolated: n.is_isolated(),
        tried: tried::lines(desk, &view, n),
        next: next_words(&view, n, desk.now()),
        addresses: rows,
        more,
        note: n.note.clone(),
        events: lately(desk, &n.id.to_string()).await?,
        may: signed.may(Act::Storage),
    })
}

#[get("/networks/<id>", rank = 3)]
pub(crate) async fn show(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    let body = build(&signed, desk, id).await?;
    let title = body.name.clone();
    whole(&signed, desk, "networks", &title, &body)
}
#[get("/networks/<id>/part")]
pub(crate) async fn page_part(signed: Signed, desk: &AtDesk, id: u64) -> Page {
    part(&build(&signed, desk, id).await?)
}

/// Tries the MTU between neighbouring pairs of hosts, and the gateways from each; changes nothing.
#[post("/networks/<id>/try", data = "<_fields>")]
pub(crate) async fn try_it(may: MayStorage, desk: &AtDesk, id: u64, _fields: Fields) -> Redirect {
    desk.try_network(&may.0.viewer, NetworkId(id)).await;
    Redirect::to(format!("/networks/{id}"))
}

#[get("/networks/<id>/addresses.csv")]
pub(crate) fn csv(
    _signed: Signed,
    desk: &AtDesk,
    id: u64,
) -> Result<(ContentType, String), Problem> {
    let view = desk.look();
    let n = view
        .estate
        .networks
        .get(&NetworkId(id))
        .ok_or_else(|| Problem::not_found("This network"))?;
    let rows = n
        .taken(&view.estate)
        .into_iter()
        .map(|(address, (who, since))| {
            let since = if since.0 == 0 {
                String::new()
            } else {
                zastrugi_formats::csv::utc(since.0)
            };
            [address.to_string(), who, since]
        });
    let text = zastrugi_formats::csv::write(["address", "what", "since"], rows);
    Ok((ContentType::CSV, text))
}
