//! The checks before a store is made, its key is taken out, or it is forgotten (rules, section 17).

use super::{Draft, Event, MakeStore, Step};
use crate::{
    endpoint::Password,
    estate::{Bucket, Export, Inside, Lies, Store},
    evidence::{Answer, Probe},
    finding::{Finding, Rule},
    ids::{SecretRef, StoreId, draw_uuid},
    limits,
    moment::Span,
    text::Line,
    units::Bytes,
};

fn stop(rule: Rule, field: &str, text: impl Into<String>) -> Finding {
    Finding::stop(rule, field, text).at(field)
}

pub(super) fn make(draft: &mut Draft<'_>, ask: &MakeStore) {
    "Make a store".clone_into(&mut draft.title);
    let name = ask.name.trim();
    if name.is_empty() {
        draft.found(stop(Rule::Name, "name", "Give it a name."));
    } else if let Err(words) = limits::NAME.check(name.chars().count()) {
        draft.found(stop(Rule::Name, "name", words));
    } else if draft.estate().store_named(name).is_some() {
        draft.found(stop(Rule::Name, "name", format!("There is a store {name} already.")));
    } else {
        draft.title = format!("Make store {name}");
    }
    let lies = match ask.export.trim() {
        "" => bucket(draft, ask),
        export => exported(draft, ask, export),
    };
    let site = draft.site(&ask.site);
    let lock = locked(draft, ask);
    let (Some(lies), Some(site)) = (lies, site) else { return };
    if let Some(known) = draft.estate().stores.values().find(|s| s.lies.is(&lies)) {
        let text = format!("{} is there already; choose another place or folder.", known.name);
        draft.found(stop(Rule::Owner, "bucket", text));
    }
    apart(draft, &ask.site);
    let id = StoreId(draft.number());
    let key = kept(ask.key);
    draft.intend(Event::Planned(Box::new(Store {
        id,
        name: name.to_owned(),
        site,
        uuid: draw_uuid(draft.run().0, id.0, draft.now.0.unsigned_abs()),
        lies: lies.clone(),
        key,
        ready: false,
        lock,
        taken_out: None,
        swept: None,
    })));
    if key.is_some() {
        let text = "What is in it is known here from then on. If another manager still writes to it, let it forget it first: what the one lets go the other does not know of.";
        draft.found(Finding::mind(Rule::Owner, name, text).at("key"));
        let opened = draft.step(Step::Open { store: id }, format!("Open {name} in {}", lies.words()), &[], Some("key"));
        draft.step(Step::Read { store: id, job: None }, format!("Look through {name}"), &[opened], None);
        return;
    }
    let text = "What is written there is packed and sealed with a key that is made now. Take the key out afterwards and keep it elsewhere: with it and the place machines come back without this manager, without it never.";
    draft.found(Finding::mind(Rule::Password, name, text));
    let keyed = draft.step(Step::Key { store: id }, format!("Make a key for {name}"), &[], None);
    draft.step(Step::Make { store: id }, format!("Make {name} in {}", lies.words()), &[keyed], Some("bucket"));
}

/// For how long what is written there is locked.
fn locked(draft: &mut Draft<'_>, ask: &MakeStore) -> Option<Span> {
    let typed = ask.lock.trim();
    if typed.is_empty() {
        return None;
    }
    let refused = |text: &str| Some(stop(Rule::State, "lock", text));
    let days = typed.parse::<u64>().ok().filter(|d| *d > 0);
    let found = match (days, limits::LOCKED.check(days.map_or(0, |d| usize::try_from(d).unwrap_or(usize::MAX)))) {
        (None, _) => refused("Type for how many days, or leave it empty."),
        (_, Err(words)) => refused(&words),
        _ if !ask.export.trim().is_empty() => refused("Only what lies in a bucket can be locked."),
        _ if ask.key != Password::Missing => refused("A store that is there already says itself for how long it locks; leave it empty."),
        _ => None,
    };
    if let Some(found) = found {
        draft.found(found);
        return None;
    }
    let span = Span::days(days.unwrap_or_default());
    let text = format!("Nobody can take away what is written there before {span} are over, its administrator and you neither: points stay for so long whatever a job keeps, and what they take for up to half as long again.");
    draft.found(Finding::mind(Rule::Deleted, typed, text).at("lock").because("object lock, mode compliance; the bucket must have been made with it"));
    Some(span)
}

/// Where what was typed is kept.
fn kept(password: Password) -> Option<SecretRef> {
    match password {
        Password::Kept(secret) => Some(secret),
        Password::Typed => Some(SecretRef(uuid::Uuid::nil())),
        Password::Missing => None,
    }
}

fn folder(ask: &MakeStore) -> String {
    ask.folder.trim().trim_matches('/').to_owned()
}

/// A bucket, if it is said which; else what is missing is told.
fn bucket(draft: &mut Draft<'_>, ask: &MakeStore) -> Option<Lies> {
    if ask.access.trim().is_empty() {
        draft.found(stop(Rule::Name, "access", "The name of the access key is missing."));
    }
    if ask.secret == Password::Missing {
        draft.found(stop(Rule::Password, "password", "Type the secret of this access key."));
    }
    named(draft, ask);
    folded(draft, ask);
    let address = &ask.target.address;
    if address.is_empty() {
        draft.found(stop(Rule::Nothing, "address", "Type the address of the server that has the bucket."));
        return None;
    }
    let probe = Probe::StoreGreeting(address.to_string());
    draft.manager(&probe, &ask.target, false, "address")?;
    Some(Lies::Bucket(Bucket {
        address: address.to_string(),
        pin: ask.target.pin.to_string(),
        region: ask.region.trim().to_owned(),
        name: ask.bucket.trim().to_owned(),
        folder: folder(ask),
        access: ask.access.trim().to_owned(),
        secret: kept(ask.secret),
    }))
}

/// A mounted export, if it is there.
fn exported(draft: &mut Draft<'_>, ask: &MakeStore, export: &str) -> Option<Lies> {
    folded(draft, ask);
    let answer = draft.view.evidence.fresh(&Probe::Exports, draft.now).cloned();
    let found = match answer {
        Some(Answer::Exports { all }) => all.into_iter().find(|e| e.name == export),
        Some(Answer::Silent { why }) => {
            draft.found(stop(Rule::Reachable, "export", format!("No export can be used: {why}.")));
            return None;
        }
        _ => {
            draft.found(Finding::unchecked(Rule::Reachable, "export", "Which exports are mounted is not known yet.").at("export"));
            return None;
        }
    };
    let Some(found) = found else {
        let text = format!("No export {export} is mounted where this manager runs.");
        draft.found(stop(Rule::Exists, "export", text));
        return None;
    };
    let text = format!("{export} has {} free of {}. It must be mounted likewise wherever another process carries.", found.free, found.size);
    draft.found(Finding::clear(Rule::VolumeRoom, export, text).at("export"));
    if !found.mounted {
        let text = format!("{export} is a plain directory of this manager's own machine: what ends that ends the store with it.");
        draft.found(Finding::mind(Rule::Place, export, text).at("export"));
    }
    Some(Lies::Export(Export {
        export: export.to_owned(),
        folder: folder(ask),
    }))
}

/// Names of buckets as servers take them: 3 to 63 of a–z, 0–9, hyphens and dots.
fn named(draft: &mut Draft<'_>, ask: &MakeStore) {
    let bucket = ask.bucket.trim();
    let odd = bucket.chars().find(|c| !(c.is_ascii_lowercase() || c.is_ascii_digit() || "-.".contains(*c)));
    if !(3..=63).contains(&bucket.len()) || odd.is_some() {
        let text = "The name of a bucket has 3 to 63 of a–z, 0–9, hyphens and dots.";
        draft.found(stop(Rule::Name, "bucket", text));
    }
}

fn folded(draft: &mut Draft<'_>, ask: &MakeStore) {
    let folder = ask.folder.trim();
    if folder.split('/').any(|part| part == ".." || part == ".") || folder.contains(['\\', '?', '#']) {
        draft.found(stop(Rule::Name, "folder", "A folder is names with / between them."));
    }
}

/// A store that goes with what it keeps is none.
fn apart(draft: &mut Draft<'_>, site: &Line) {
    let estate = draft.estate();
    let at = estate.sites.values().find(|s| s.name == site.trim());
    let others = at.map(|at| {
        let here = |id| estate.clusters.get(&id).is_some_and(|c: &std::sync::Arc<crate::estate::Cluster>| c.site == at.id);
        estate.machines.values().filter(|m| m.deleted.is_none() && m.cluster.is_some_and(here)).count()
    });
    let text = match others {
        Some(0) | None => return,
        Some(n) => format!("{n} machines run at the same site: what ends the site ends their backups with them."),
    };
    draft.found(Finding::mind(Rule::Place, "site", text).at("site"));
}

pub(super) fn take_out(draft: &mut Draft<'_>, id: StoreId) {
    "Take out a key".clone_into(&mut draft.title);
    let Some(store) = draft.estate().stores.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "store", "The store is gone."));
    };
    draft.title = format!("Take out the key of {}", store.name);
    if store.key.is_none() {
        return draft.found(stop(Rule::State, "store", format!("{} has no key yet.", store.name)));
    }
    let text = format!("Whoever has the key and reaches the bucket reads every machine in {}. That you took it out stands in the Logbook.", store.name);
    draft.found(Finding::mind(Rule::Password, &store.name, text));
    draft.intend(Event::TakenOut { store: id, at: draft.now });
}

/// That it was read is told; what it holds is no business of this manager.
pub(super) fn read_file(draft: &mut Draft<'_>, file: &Inside) {
    "Read a file out of a recovery point".clone_into(&mut draft.title);
    let estate = draft.estate();
    let found = file.point.found(estate).map(|(_, point)| point.taken);
    let series = estate.backups_with(file.point.machine).find(|s| s.store == file.point.store);
    let of = series.map_or_else(String::new, |s| s.name.clone());
    match found {
        Ok(taken) => draft.intend(Event::FileRead { file: file.clone(), of, taken }),
        Err(why) => draft.found(why),
    }
}

pub(super) fn forget(draft: &mut Draft<'_>, id: StoreId, typed: &Line) {
    "Forget a store".clone_into(&mut draft.title);
    let Some(store) = draft.estate().stores.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "store", "The store is gone."));
    };
    let name = &store.name;
    draft.title = format!("Forget {name}");
    if typed.trim() != name {
        draft.found(stop(Rule::Name, "typed", format!("Type its name to confirm: {name}.")));
    }
    let jobs: Vec<String> = draft.estate().jobs_into(id).map(|j| j.name.clone()).collect();
    if !jobs.is_empty() {
        let text = format!("Jobs copy into it: {}.", jobs.join(", "));
        draft.found(stop(Rule::State, "typed", text).remedy("Remove them first, or let them copy elsewhere."));
    }
    let series: Vec<_> = draft.estate().series_in(id).cloned().collect();
    let points: usize = series.iter().map(|s| s.points.len()).sum();
    let bytes: Bytes = series.iter().map(|s| s.stored()).sum();
    if points > 0 {
        let text = format!("{points} recovery points of {} machines are known here no more; no promise rests on them.", series.len());
        draft.found(Finding::mind(Rule::Deleted, name, text).because(format!("{bytes} in the bucket")).at("typed"));
    }
    let text = match store.taken_out {
        Some(_) => "What lies in the bucket stays there, and opens with the key that was taken out.",
        None => "What lies in the bucket stays there, and nobody can open it any more: its key was never taken out.",
    };
    let finding = match store.taken_out {
        Some(_) => Finding::clear(Rule::Content, name, text),
        None => Finding::mind(Rule::Content, name, text).at("typed").remedy("Take its key out first."),
    };
    draft.found(finding);
    draft.intend(Event::Forgotten { store: id, series: series.iter().map(|s| s.id).collect() });
}
