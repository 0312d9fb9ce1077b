//! An array shall take snapshots of a volume as it did before somebody changed that there.

use super::{Draft, Step, assess::array};
use crate::{
    estate::{Array, Estate, Fact, Served, Snaps},
    finding::{Finding, Rule},
    ids::{ArrayId, VolumeId},
    pledges::{Promises, Standing},
};
use std::{collections::BTreeSet, sync::Arc};

pub(super) fn set_back(draft: &mut Draft<'_>, id: ArrayId, volume: VolumeId) {
    "Set snapshots back".clone_into(&mut draft.title);
    let Some(array) = array(draft, id) else { return };
    let Some(volume) = draft.volume(volume).cloned() else { return };
    let (name, of) = (&array.name, &volume.name);
    draft.title = format!("Have {name} take snapshots of {of} as before");
    let Some(served) = array.served.get(&volume.id) else {
        let text = format!("{name} says nothing of what it does for {of}.");
        return draft.found(Finding::stop(Rule::Exists, of, text).at("volume"));
    };
    let Some(was) = served.snapshots_before().cloned() else {
        let text = format!("How {name} takes snapshots of {of} was not changed there, or not from what it could be set back to.");
        return draft.found(Finding::stop(Rule::Nothing, of, text).at("volume"));
    };
    let words = |s: Option<&Snaps>| s.map_or_else(|| "no snapshots".to_owned(), |s| format!("snapshots {}", s.words()));
    let now = served.service.snapshots.as_ref();
    let text = format!("{name} is asked for {} of {of}; it takes {} now.", words(Some(&was)), words(now));
    draft.found(Finding::clear(Rule::Storage, of, text));
    let others = others(draft.estate(), &array, volume.id, served);
    if !others.is_empty() {
        let text = format!("It does the same for {}, which have the class {} too.", others.join(", "), served.service.class);
        draft.found(Finding::mind(Rule::Storage, of, text));
    }
    let text = "Somebody changed it there, perhaps for a reason: ask them, or they will do it again.";
    draft.found(Finding::mind(Rule::Owner, name, text));
    holds(draft, &array, served, &was);
    let step = Step::SetBack { array: id, volume: volume.id, snaps: was };
    draft.step(step, format!("{name} takes snapshots of {of} as before"), &[], Some("volume"));
}

/// Volumes that have the same class: it changes for them too.
fn others(estate: &Estate, array: &Array, volume: VolumeId, served: &Served) -> Vec<String> {
    let same = array.served.iter().filter(|(id, s)| **id != volume && s.service.class == served.service.class);
    same.filter_map(|(id, _)| Some(estate.volumes.get(id)?.name.clone())).collect()
}

/// What becomes of promises of machines on it.
fn holds(draft: &mut Draft<'_>, array: &Arc<Array>, served: &Served, was: &Snaps) {
    let before = &draft.view.estate;
    let mut then = Array::clone(array);
    let mut machines = BTreeSet::new();
    for (id, other) in then.served.iter_mut().filter(|(_, s)| s.service.class == served.service.class) {
        other.service.snapshots = Some(was.clone());
        machines.extend(before.machines_with_disk_on(*id).map(|m| m.id));
    }
    let mut after = Estate::clone(before);
    after.put(Fact::Array(Arc::new(then)));
    let broken = |estate: &Arc<Estate>| {
        let all = Promises::among(estate, machines.iter().copied(), draft.now);
        all.count(Standing::Broken)
    };
    let (is, will) = (broken(before), broken(&Arc::new(after)));
    let what = |n: usize| match n {
        0 => "no machine".to_owned(),
        1 => "one machine".to_owned(),
        n => format!("{n} machines"),
    };
    let text = format!("Promises to {} on it are broken now; to {} then.", what(is), what(will));
    draft.found(match will < is {
        true => Finding::clear(Rule::State, &array.name, text),
        false => Finding::mind(Rule::State, &array.name, text),
    });
}
