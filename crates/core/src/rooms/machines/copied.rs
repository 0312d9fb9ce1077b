//! Machines whose disks are copies: of a version of a template, of a machine, or of a snapshot (rules, section 14).

use super::{Copied, CreateMachines, Draft, Step, brought, taken};
use crate::{
    copying::{Original, Source},
    estate::{Cluster, Parent, Provisioning, Sealed},
    finding::{Finding, Rule},
    ids::{HostId, VolumeId},
    moment::Span,
    placement,
    units::Bytes,
};

/// What a dependent copy takes to be made.
const AT_ONCE: Span = Span::millis(300);

/// What is copied, with everything that is wrong about it said; none where the disks are empty.
///
/// # Errors
/// Nothing can be said of machines that are copies of it.
pub(super) fn original(draft: &mut Draft<'_>, ask: &CreateMachines, cluster: &Cluster) -> Result<Option<Original>, ()> {
    let Some(copied) = ask.copied else {
        return Ok(None);
    };
    let origin = match copied.source.resolve(draft.view, draft.now) {
        Ok(origin) => origin,
        Err(found) => {
            draft.found(found.at("from"));
            return Err(());
        }
    };
    let words = &origin.words;
    let stop = |rule, field: &str, text: String| Finding::stop(rule, words, text).at(field);
    let home = origin.volume().and_then(|v| draft.estate().volumes.get(&v)).cloned();
    let elsewhere = origin.volume().is_some() && home.as_ref().and_then(|v| v.cluster) != Some(cluster.id);
    if elsewhere {
        let at = home.as_ref().map_or("its volume", |v| v.name.as_str());
        let text = format!("{words} lies on {at}, which the hosts of {} don't mount.", cluster.name);
        draft.found(stop(Rule::Paths, "from", text).remedy("Choose another cluster, or make a version on a volume of this one."));
    }
    shaped(draft, ask, &origin);
    match copied.source {
        Source::Package { image } => taken::check(draft, ask, image),
        Source::Point(at) => brought::check(draft, ask, at),
        Source::Template { .. } | Source::Machine { .. } => {}
    }
    if copied.dependent {
        lies_on(draft, ask, copied.source, &origin, home.map(|v| v.name.clone()));
    }
    itself(draft, &copied, &origin);
    Ok(Some(origin))
}

/// Disks are as large as what is copied to them, or larger.
fn shaped(draft: &mut Draft<'_>, ask: &CreateMachines, origin: &Original) {
    let words = &origin.words;
    let mut wrong = None;
    if ask.disks.len() < origin.disks.len() {
        wrong = Some(format!("{words} has {} disks; so must its copies.", origin.disks.len()));
    }
    for (n, (had, wish)) in origin.disks.iter().zip(&ask.disks).enumerate() {
        if wish.size < had.size {
            wrong = Some(format!("Disk {} of {words} has {}; a copy is never smaller.", n + 1, had.size));
        }
    }
    draft.found_all(wrong.map(|text| Finding::stop(Rule::Disk, words, text).at("disks")));
}

fn lies_on(draft: &mut Draft<'_>, ask: &CreateMachines, source: Source, origin: &Original, volume: Option<String>) {
    let words = &origin.words;
    let volume = volume.unwrap_or_else(|| "its volume".into());
    let found = match source {
        Source::Package { .. } => {
            let text = format!("{words} is packed: no disk can lie on what is in it.");
            let stop = Finding::stop(Rule::Disk, words, text).at("dependent");
            stop.remedy("Copy it in full, and make a template of what becomes of it.")
        }
        Source::Point(_) => {
            let text = format!("{words} lies in a store: no disk can lie on what is there.");
            let stop = Finding::stop(Rule::Disk, words, text).at("dependent");
            stop.remedy("Copy it in full.")
        }
        Source::Machine { .. } => {
            let text = format!("{words} is not frozen: only on versions of templates can other disks lie.");
            let stop = Finding::stop(Rule::Disk, words, text).at("dependent");
            stop.remedy("Copy it in full, or make a template of it first.")
        }
        Source::Template { .. } if ask.volume.is_some() && ask.volume != origin.volume() => {
            let text = format!("{words} lies on {volume}; so must disks that depend on it.");
            Finding::stop(Rule::Disk, words, text).at("volume")
        }
        Source::Template { .. } => {
            let text = format!("Their disks lie on {words} on {volume} and take only the room that is written; {words} can't be removed as long as they need it.");
            Finding::clear(Rule::Disk, words, text)
        }
    };
    draft.found(found);
}

/// What is new in each copy, and what is not.
fn itself(draft: &mut Draft<'_>, copied: &Copied, origin: &Original) {
    let words = &origin.words;
    let new = match copied.source {
        Source::Point(_) => format!("It is another machine with an identity of its own; {words} stays in its store as it is."),
        Source::Template { .. } | Source::Machine { .. } | Source::Package { .. } => {
            format!("Identity, MAC addresses, keys, name and addresses of each copy are new; {words} stays as it is.")
        }
    };
    draft.found(Finding::clear(Rule::Identity, words, new));
    let sealed = match copied.source {
        Source::Machine { .. } => false,
        // Whoever packed it knows. Whoever brings a machine back wishes to have it as it was; beside its original: see `brought`.
        Source::Package { .. } | Source::Point(_) => true,
        Source::Template { template, version } => {
            let version = draft.estate().templates.get(&template).and_then(|t| t.version(version));
            version.is_some_and(|v| matches!(v.sealed, Sealed::Yes(_)))
        }
    };
    if !sealed && !copied.seal {
        let text = format!("Each copy has the host keys, the machine id and the histories of {words}.");
        draft.found(Finding::mind(Rule::Content, words, text).at("seal"));
    }
    if origin.running {
        let text = format!("{words} is on and goes on; the copies begin as after a power cut.");
        draft.found(Finding::clear(Rule::Guest, words, text));
    }
}

/// Room for all that is copied, and how long it takes, once it is known where.
pub(super) fn room(draft: &mut Draft<'_>, ask: &CreateMachines, origin: Option<&Original>, volume: VolumeId) {
    let (Some(copied), Some(origin)) = (ask.copied, origin) else { return };
    if copied.dependent {
        return;
    }
    let Some(volume) = draft.estate().volumes.get(&volume).cloned() else { return };
    let each = origin.bytes.max(origin.thick);
    draft.found(placement::more(&volume, Bytes(each.0.saturating_mul(u64::from(ask.count))), "volume"));
    let via = draft.estate().reach(volume.id).cloned();
    let time = via.and_then(|h| origin.time(&h, volume.id));
    draft.found_all(origin.said(&origin.words, time));
}

/// How long one takes at this host.
pub(super) fn time(draft: &Draft<'_>, copied: &Copied, via: HostId, to: Option<VolumeId>) -> Span {
    if copied.dependent {
        return AT_ONCE;
    }
    let host = draft.estate().hosts.get(&via);
    let origin = copied.source.resolve(draft.view, draft.now).ok();
    let known = host.zip(origin).zip(to).and_then(|((h, o), to)| o.time(h, to));
    known.unwrap_or(Span::mins(10))
}

/// Full copies of one run go one after the other at each host, so that each has the whole rate.
pub(super) fn before(draft: &Draft<'_>, copied: &Copied, via: HostId) -> Vec<usize> {
    if copied.dependent {
        return vec![];
    }
    let there = |step: &Step| matches!(step, Step::Copy { via: at, copied, .. } if *at == via && !copied.dependent);
    let all = draft.planned().enumerate().filter(|(_, step)| there(step));
    all.map(|(n, _)| n).last().into_iter().collect()
}

/// The version that they depend on.
pub(super) fn parent(ask: &CreateMachines) -> Option<Parent> {
    let copied = ask.copied.filter(|c| c.dependent)?;
    match copied.source {
        Source::Template { template, version } => Some(Parent { template, version }),
        Source::Machine { .. } | Source::Package { .. } | Source::Point(_) => None,
    }
}

/// What lies on another disk grows as it is written.
pub(super) fn provisioning(ask: &CreateMachines, wish: Provisioning) -> Provisioning {
    match ask.copied {
        Some(Copied { dependent: true, .. }) => Provisioning::Thin,
        Some(_) | None => wish,
    }
}
