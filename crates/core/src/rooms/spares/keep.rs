//! The checks before a pool is kept, changed, or kept no more.

use super::{Draft, Event, Keep};
use crate::{
    estate::{Cluster, SparePool, Version},
    finding::{Finding, Rule},
    ids::SparePoolId,
    limits,
    spares::{Stand, names},
    units::Bytes,
};

pub(super) fn keep(draft: &mut Draft<'_>, ask: &Keep) {
    let name = ask.name.trim().to_owned();
    draft.title = match (ask.pool, name.as_str()) {
        (_, "") => "Keep a pool".to_owned(),
        (None, name) => format!("Keep pool {name}"),
        (Some(_), name) => format!("Change pool {name}"),
    };
    let had = ask.pool.and_then(|id| draft.estate().spare_pools.get(&id)).cloned();
    if ask.pool.is_some() && had.is_none() {
        return draft.found(Finding::stop(Rule::Exists, "pool", "The pool is gone.").at("name"));
    }
    named(draft, ask, &name);
    counted(draft, ask);
    if let Err(words) = names(draft.estate(), ask.pattern.trim(), 1) {
        draft.found(Finding::stop(Rule::Name, "pattern", words).at("pattern"));
    }
    let template = ask.template.and_then(|t| draft.estate().templates.get(&t)).cloned();
    let Some(template) = template else {
        return draft.found(Finding::stop(Rule::Nothing, "template", "Choose the template that they are made from.").at("template"));
    };
    let cluster = ask.cluster.and_then(|c| draft.estate().clusters.get(&c)).cloned();
    let Some(cluster) = cluster else {
        return draft.found(Finding::stop(Rule::Nothing, "cluster", "Choose the cluster that they run on.").at("cluster"));
    };
    match template.newest() {
        None => {
            let text = format!("No version of {} is whole yet: the pool stays empty until one is.", template.name);
            draft.found(Finding::mind(Rule::Exists, &template.name, text).at("template"));
        }
        Some(version) => lies(draft, &template.name, version, &cluster),
    }
    if let Some(wrong) = foreign(draft, ask, &cluster) {
        draft.found(wrong);
    }
    let each = ask.memory;
    let all = Bytes(each.0.saturating_mul(u64::from(ask.spare)));
    let text = format!("{} spares run with {each} each, {all} together; they count in {} as any other machine.", ask.spare, cluster.name);
    draft.found(Finding::clear(Rule::Memory, &cluster.name, text));
    let text = match ask.ends_off {
        true => "One that is handed out is thrown away when it is given back, or once it is off; nothing of it is kept.",
        false => "One that is handed out is thrown away when it is given back; nothing of it is kept.",
    };
    draft.found(Finding::mind(Rule::Deleted, "given back", text));
    let id = had.as_ref().map_or_else(|| SparePoolId(draft.number()), |p| p.id);
    let pool = SparePool {
        id,
        name,
        template: template.id,
        cluster: cluster.id,
        pattern: ask.pattern.trim().to_owned(),
        spare: ask.spare,
        most: ask.most,
        vcpus: ask.vcpus,
        memory: ask.memory,
        dependent: ask.dependent,
        networks: ask.networks.clone(),
        document: ask.document,
        ends_off: ask.ends_off,
    };
    if had.is_some_and(|p| *p == pool) {
        let text = "Nothing of the pool is changed.";
        return draft.found(Finding::stop(Rule::Nothing, "pool", text).at("name"));
    }
    draft.intend(Event::Kept(Box::new(pool)));
}

fn named(draft: &mut Draft<'_>, ask: &Keep, name: &str) {
    let stop = |text: String| Finding::stop(Rule::Name, "name", text).at("name");
    if name.is_empty() {
        draft.found(stop("Give it a name.".into()));
    } else if let Err(words) = limits::GROUP.check(name.chars().count()) {
        draft.found(stop(words));
    } else if draft.estate().spare_pool_named(name).is_some_and(|p| Some(p.id) != ask.pool) {
        draft.found(stop(format!("There is a pool {name} already.")));
    }
}

fn counted(draft: &mut Draft<'_>, ask: &Keep) {
    let usize_of = |n: u32| usize::try_from(n).unwrap_or(usize::MAX);
    let mut stop = |rule, field: &str, text: String| draft.found(Finding::stop(rule, field, text).at(field));
    if ask.spare > ask.most {
        stop(Rule::Count, "most", format!("{} can't be kept ready where at most {} may be.", ask.spare, ask.most));
    }
    if let Err(words) = limits::SPARES.check(usize_of(ask.spare)) {
        stop(Rule::Count, "spare", words);
    }
    if let Err(words) = limits::OF_POOL.check(usize_of(ask.most)) {
        stop(Rule::Count, "most", words);
    }
    if ask.vcpus == 0 {
        stop(Rule::Cores, "vcpus", "At least one vCPU.".into());
    }
    if ask.memory < Bytes::mib(64) {
        stop(Rule::Memory, "memory", "At least 64 MiB of memory.".into());
    }
    if let Err(words) = limits::CARDS.check(ask.networks.len()) {
        stop(Rule::Count, "networks", words);
    }
}

fn lies(draft: &mut Draft<'_>, template: &str, version: &Version, cluster: &Cluster) {
    let volume = draft.estate().volumes.get(&version.volume).cloned();
    if volume.as_ref().and_then(|v| v.cluster) == Some(cluster.id) {
        return;
    }
    let at = volume.map_or_else(|| "its volume".to_owned(), |v| v.name.clone());
    let text = format!("{template} {} lies on {at}, which the hosts of {} don't mount.", version.number, cluster.name);
    let stop = Finding::stop(Rule::Paths, template, text).at("template");
    draft.found(stop.remedy("Choose another cluster, or make a version on a volume of this one."));
}

/// A network of another cluster.
fn foreign(draft: &Draft<'_>, ask: &Keep, cluster: &Cluster) -> Option<Finding> {
    let networks = ask.networks.iter().flatten().filter_map(|n| draft.estate().networks.get(n));
    let other = networks.into_iter().find(|n| n.cluster != cluster.id)?;
    let text = format!("{} is a network of another cluster.", other.name);
    Some(Finding::stop(Rule::Address, &other.name, text).at("networks"))
}

pub(super) fn end(draft: &mut Draft<'_>, id: SparePoolId) {
    "Keep a pool no more".clone_into(&mut draft.title);
    let Some(pool) = draft.estate().spare_pools.get(&id).cloned() else {
        return draft.found(Finding::stop(Rule::Exists, "pool", "The pool is gone.").at("pool"));
    };
    let name = &pool.name;
    draft.title = format!("Keep pool {name} no more");
    let stand = Stand::of(draft.estate(), &pool);
    let spares = stand.ready.len() + stand.coming.len() + stand.stale.len() + stand.back.len();
    if spares > 0 {
        let text = format!("{spares} machines of {name} wait for somebody, or for being thrown away.");
        let stop = Finding::stop(Rule::Held, name, text).at("pool");
        return draft.found(stop.remedy("Let it keep no spare first; they are thrown away then."));
    }
    let text = match stand.held.len() {
        0 => "Nobody has a machine of it.".to_owned(),
        n => format!("{n} machines that people have go on as any other; nobody throws them away."),
    };
    draft.found(Finding::mind(Rule::Deleted, name, text));
    draft.intend(Event::Ended {
        pool: id,
        name: name.clone(),
        held: stand.held,
    });
}
