//! What was really done, told by device, call and object: a repeated effect is seen even when it came under a fresh key.

use crate::world::{State, World};
use axum::{extract::Request, middleware::Next, response::Response};
use std::{collections::BTreeMap, sync::Arc};

tokio::task_local! {
    /// The call that is being answered, as `METHOD /path`.
    static CALL: String;
}

/// Lets whatever answers the request know which call it is; what it changed is written before it is answered.
pub(crate) async fn known(world: &Arc<World>, request: Request, next: Next) -> Response {
    let call = format!("{} {}", request.method(), request.uri().path());
    let answer = CALL.scope(call, next.run(request)).await;
    world.written().await;
    answer
}

/// How often each thing was done.
#[derive(Default)]
pub(crate) struct Deeds {
    counts: BTreeMap<String, u32>,
    /// Names of machines, images and volumes by what devices call them, also of those that are gone.
    names: BTreeMap<String, String>,
}

impl State {
    /// Remembers what the call under way is about, as long as it is there: a machine, or `image:volume/id`.
    pub(crate) fn about_to(&mut self, object: &str) {
        let id = object.rsplit('/').next().unwrap_or(object);
        let name = self.volumes.values().find_map(|v| {
            let machine = v.records.get(id).map(|r| &r.name);
            machine.or_else(|| v.images.get(id).map(|i| &i.name))
        });
        if let Some(name) = name {
            self.deeds.names.insert(id.to_owned(), name.clone());
        }
        for (uid, volume) in &self.volumes {
            self.deeds.names.insert(uid.clone(), volume.name.clone());
        }
    }

    /// What people call something that the call under way is about.
    pub(crate) fn called(&mut self, id: &str, name: &str) {
        self.deeds.names.insert(id.to_owned(), name.to_owned());
    }

    /// The call under way had its effect.
    pub(crate) fn did(&mut self, device: &str) {
        let call = CALL.try_with(Clone::clone).unwrap_or_default();
        self.did_what(device, &call);
    }

    pub(crate) fn did_what(&mut self, device: &str, what: &str) {
        let words = format!("{device} {what}");
        *self.deeds.counts.entry(words).or_insert(0) += 1;
    }
}

impl World {
    /// How often each thing was done: `device METHOD /path` or in words, with machines, images and volumes by their names.
    pub fn deeds(&self) -> BTreeMap<String, u32> {
        let state = self.lock();
        let named = |words: &String| {
            let names = state.deeds.names.iter();
            names.fold(words.clone(), |w, (uuid, name)| w.replace(uuid, name))
        };
        let mut all = BTreeMap::new();
        for (words, n) in &state.deeds.counts {
            *all.entry(named(words)).or_insert(0) += n;
        }
        all
    }
}
