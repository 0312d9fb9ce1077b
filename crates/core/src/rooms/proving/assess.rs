//! The checks before a recovery point is proven (rules, section 18).

use super::{
    Draft, ProvePoint, Step,
    copies::{self, Copied, Had, started},
};
use crate::{
    copying::{Line, Source},
    estate::{AnyPoint, Cluster, Estate, Network, Question},
    finding::{Finding, Rule},
    ids::{HostId, SiteId},
    limits,
    moment::Span,
    rooms::answers,
};
use std::sync::Arc;

/// No guest answers sooner.
const SHORTEST: Span = Span::secs(5);
/// Nobody waits for a guest longer.
const LONGEST: Span = Span::mins(60);
/// So many hosts are tried for copies that must be on one.
const LOOKED_AT: usize = 16;

/// A point that is proven here.
struct Member {
    at: AnyPoint,
    words: String,
    had: Had,
    must: Vec<Question>,
}

pub(super) fn point(draft: &mut Draft<'_>, ask: &ProvePoint) {
    "Prove a recovery point".clone_into(&mut draft.title);
    let Some((at, _)) = draft.point(ask.point) else { return };
    let words = at.words(draft.estate());
    let all = if ask.together { draft.estate().of_one_instant(at) } else { vec![at] };
    draft.title = match all.len() {
        1 => format!("Prove {words}"),
        n => format!("Prove {words} and {} of the same instant", n - 1),
    };
    if let Err(words) = limits::TOGETHER.check(all.len()) {
        return draft.found(Finding::stop(Rule::State, "point", words).at("together").remedy("Prove them one by one."));
    }
    if ask.limit < SHORTEST || ask.limit > LONGEST {
        draft.found(Finding::stop(Rule::State, &words, format!("Between {SHORTEST} and {LONGEST}.")).at("limit"));
    }
    let members: Vec<Member> = all.into_iter().filter_map(|at| member(draft, at)).collect();
    if draft.is_stopped() {
        return;
    }
    let mut clusters = members.iter().filter_map(|m| place(draft, ask, m.at)).collect::<Vec<_>>();
    clusters.dedup_by_key(|c| c.id);
    let cluster = match clusters.as_slice() {
        [one] => one.clone(),
        [] => return,
        _ => {
            let text = "Hosts of different clusters reach these replicas: no host can boot copies of all of them.";
            return draft.found(Finding::stop(Rule::Place, &words, text).at("together").remedy("Prove them one by one."));
        }
    };
    let alone = alone(draft.estate(), &cluster);
    for member in &members {
        said(draft, &member.had, alone.as_deref(), member.must.len());
        bytes(draft, (member.at, &member.words), &cluster);
    }
    if members.len() > 1 {
        draft.found(one_network(&members, alone.as_deref()));
    }
    let brought = bring(draft, ask, (&members, &cluster), alone.as_deref());
    let title = std::mem::take(&mut draft.title);
    let steps = draft.take_in(brought, &[], |f| f, (|s| s, |e| e));
    draft.title = title;
    taken_away(draft, steps);
}

/// What is told of one of them, or why it can't be proven.
fn member(draft: &mut Draft<'_>, at: AnyPoint) -> Option<Member> {
    let words = at.words(draft.estate());
    if let Some(copy) = draft.estate().proving().find(|m| m.proves.as_deref() == Some(&at)) {
        let text = format!("It is being proven already, by {}.", copy.name);
        draft.found(Finding::stop(Rule::State, &words, text).at("point"));
        return None;
    }
    let must = at.original(draft.estate()).map(|m| m.must.clone()).unwrap_or_default();
    match Had::of(draft.view, at, draft.now) {
        Ok(had) => Some(Member { at, words, had, must }),
        Err(why) => {
            draft.found(why.at("point"));
            None
        }
    }
}

fn one_network(members: &[Member], alone: Option<&Network>) -> Finding {
    let names: Vec<&str> = members.iter().map(|m| m.had.name.as_str()).collect();
    let names = names.join(", ");
    match alone {
        Some(network) => {
            let text = format!("{names} are booted by one host and hear each other on {}; none of them goes before all were asked.", network.name);
            Finding::clear(Rule::Placement, &network.name, text)
        }
        None => {
            let text = format!("{names} are booted at the same time, but do not hear each other: no network of this cluster ends at its host.");
            let remedy = "Make a network without a VLAN and without subnets, on no port.";
            Finding::mind(Rule::Placement, "together", text).at("together").remedy(remedy)
        }
    }
}

/// Copies of all of them, booted and asked. Where they shall hear each other, by one host: the one that suits the first, else
/// another that has room for all.
fn bring<'a>(draft: &mut Draft<'a>, ask: &ProvePoint, (members, cluster): (&[Member], &Cluster), alone: Option<&Network>) -> Draft<'a> {
    let first = booted(draft, ask, (members, cluster), (alone, None));
    if members.len() == 1 || !first.is_stopped() {
        return first;
    }
    // Where one of them alone finds no place, that they are together is not what is wrong.
    let one = |n: usize| booted(draft, ask, (&members[n..=n], cluster), (alone, None));
    if (0..members.len()).any(|n| one(n).is_stopped()) {
        return first;
    }
    let hosts: Vec<HostId> = draft.estate().hosts_in(cluster.id).map(|h| h.id).take(LOOKED_AT).collect();
    let others = hosts.into_iter().map(|host| booted(draft, ask, (members, cluster), (alone, Some(host))));
    let mut others = others.filter(|brought| !brought.is_stopped());
    match others.next() {
        Some(brought) => brought,
        None => {
            if alone.is_some() {
                let text = format!("No host of {} has room for all {} at once, as they share a network that ends at its host.", cluster.name, members.len());
                draft.found(Finding::stop(Rule::Placement, &cluster.name, text).at("cluster").remedy("Prove them one by one."));
            }
            first
        }
    }
}

fn booted<'a>(
    draft: &Draft<'a>,
    ask: &ProvePoint,
    (members, cluster): (&[Member], &Cluster),
    (alone, host): (Option<&Network>, Option<HostId>),
) -> Draft<'a> {
    let mut all = draft.beside::<Step>(draft.view);
    let mut on = host;
    for member in members {
        // What those before it take is taken.
        let mut estate = (*draft.view.estate).clone();
        all.in_estate(&mut estate);
        let view = draft.view.with(estate);
        let with = members.iter().filter(|m| m.at != member.at).map(|m| m.had.name.clone());
        let wanted = Copied {
            at: member.at,
            had: &member.had,
            name: copies::name(&view.estate, "proof", &member.had.name),
            note: "It proves a recovery point, and goes by itself.",
            cards: vec![alone.map(|n| n.id); member.had.cards.len()],
            cluster: cluster.id,
            host: on,
            limit: ask.limit,
            must: &member.must,
            with: with.collect(),
        };
        let part = wanted.made(&all, &view);
        if alone.is_some() && members.len() > 1 {
            on = on.or_else(|| part.planned().find_map(|s| started(s).map(|(_, host)| host)));
        }
        all.take_in(part, &[], |f| f.at("cluster"), (wanted.asked(), wanted.marked()));
        // Of a host that does not suit nothing more is asked.
        if host.is_some() && all.is_stopped() {
            break;
        }
    }
    all
}

/// None goes before all were asked: one may answer by what another says.
fn taken_away(draft: &mut Draft<'_>, steps: std::ops::Range<usize>) {
    let kinds: Vec<(usize, Step)> = steps.clone().zip(draft.planned().skip(steps.start).cloned()).collect();
    let mut copies = Vec::new();
    let mut asked = Vec::new();
    for (at, kind) in &kinds {
        match kind {
            Step::Machine(step) => copies.extend(started(step)),
            Step::Try(answers::Step::Try { .. }) => asked.push(*at),
        }
    }
    for (machine, host) in copies {
        copies::gone(draft, machine, host, &asked);
    }
}

/// What is read for it, and how long that takes.
fn bytes(draft: &mut Draft<'_>, (at, words): (AnyPoint, &str), cluster: &Cluster) {
    let Ok(original) = Source::from(at).resolve(draft.view, draft.now) else { return };
    let bytes = original.bytes;
    let finding = match (at, original.known) {
        (AnyPoint::Stored(at), _) => {
            let store = draft.estate().stores.get(&at.store).map_or("its store", |s| s.name.as_str());
            let text = format!("{bytes} come from {store} to {}.", cluster.name);
            Finding::clear(Rule::Disk, words, text).because(Line::to(draft.estate(), at.store).because(bytes))
        }
        (AnyPoint::Replicated { .. }, true) => Finding::clear(Rule::Disk, words, format!("{bytes} are copied at its site.")),
        (AnyPoint::Replicated { .. }, false) => {
            let text = format!("How much it holds was not told; at most {bytes} are copied, at its site.");
            Finding::unchecked(Rule::Disk, words, text)
        }
    };
    draft.found(finding);
}

/// Where it is booted: at the site of the point.
fn place(draft: &mut Draft<'_>, ask: &ProvePoint, at: AnyPoint) -> Option<Arc<Cluster>> {
    let estate = draft.estate();
    let site: Option<SiteId> = at.site(estate);
    // The hosts of another cluster don't reach the disks of a replica.
    let own = match at {
        AnyPoint::Stored(_) => None,
        AnyPoint::Replicated { replica, .. } => estate.machines.get(&replica).and_then(|m| m.cluster),
    };
    let ready = |c: &&Arc<Cluster>| c.ready && Some(c.site) == site && own.is_none_or(|own| own == c.id);
    let found = match ask.cluster {
        Some(id) => estate.clusters.get(&id).filter(|c| c.ready),
        None => estate.clusters.values().find(ready),
    };
    if found.is_none() {
        let site = site.and_then(|s| estate.sites.get(&s)).map_or("the site of the point", |s| s.name.as_str());
        let text = format!("No cluster at {site} can boot a copy.");
        draft.found(Finding::stop(Rule::Exists, "cluster", text).at("cluster").remedy("Choose a cluster elsewhere: the bytes go there."));
    }
    found.cloned()
}

/// A network that ends at each host.
fn alone(estate: &Estate, cluster: &Cluster) -> Option<Arc<Network>> {
    let mut all = estate.networks.values();
    all.find(|n| n.cluster == cluster.id && n.ready && n.is_isolated() && n.subnets.is_empty()).cloned()
}

fn said(draft: &mut Draft<'_>, kept: &Had, alone: Option<&Network>, must: usize) {
    let name = &kept.name;
    let at = match alone {
        Some(network) => format!("on {}, which ends at its host", network.name),
        None => "on no network".into(),
    };
    let text = format!("The copy keeps the identity of {name} and stands {at}: nobody else hears of it. It is removed for good, whatever comes of it.");
    draft.found(Finding::clear(Rule::Identity, name, text));
    let text = match must {
        0 => format!("Nobody said what {name} must answer: it is proven if the agent in its guest answers."),
        1 => format!("The agent in its guest must answer, and then one question that {name} must answer."),
        n => format!("The agent in its guest must answer, and then {n} questions that {name} must answer."),
    };
    draft.found(Finding::clear(Rule::Guest, name, text));
}
