//! A store is looked through anew: what is in it that nobody knows, and what is known that is there no more (rules, section 17).

use super::{Draft, Step};
use crate::{
    finding::{Finding, Rule},
    ids::{JobId, StoreId},
};

pub(super) fn again(draft: &mut Draft<'_>, id: StoreId, job: Option<JobId>) {
    "Look through a store".clone_into(&mut draft.title);
    let stop = |rule, field: &str, text: String| Finding::stop(rule, "store", text).at(field);
    let Some(store) = draft.estate().stores.get(&id).cloned() else {
        return draft.found(stop(Rule::Exists, "store", "The store is gone.".into()));
    };
    let name = &store.name;
    draft.title = format!("Look through {name}");
    if !store.ready {
        return draft.found(stop(Rule::State, "store", format!("{name} is being made.")));
    }
    let text = format!("Its recovery points are listed and told; nothing in it is changed. What is known here and not in {name} is known no more, and no promise rests on it.");
    draft.found(Finding::clear(Rule::Content, name, text));
    match job.map(|id| draft.estate().jobs.get(&id).cloned()) {
        None => {
            let text = "Points that were not known stay until somebody lets them go.";
            draft.found(Finding::clear(Rule::Content, name, text).at("job"));
        }
        Some(Some(job)) if job.to.store() == Some(id) => {
            let text = format!("Points that were not known are of job {}: what it does not keep ({}) goes at its next run.", job.name, job.keeps);
            draft.found(Finding::mind(Rule::Deleted, name, text).at("job"));
        }
        Some(Some(job)) => draft.found(stop(Rule::State, "job", format!("Job {} copies elsewhere.", job.name))),
        Some(None) => draft.found(stop(Rule::Exists, "job", "The job is gone.".into())),
    }
    draft.step(Step::Read { store: id, job }, format!("Look through {name}"), &[], Some("store"));
}
