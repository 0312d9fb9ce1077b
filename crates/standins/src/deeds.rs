//! What was really done, told by device, call and object: a repeated effect is seen even when it came under a fresh key.

use crate::world::{State, World};
use axum::{extract::Request, middleware::Next, response::Response};
use std::collections::BTreeMap;

tokio::task_local! {
    /// The call that is being answered, as `METHOD /path`.
    static CALL: String;
}

/// Lets whatever answers the request know which call it is.
pub(crate) async fn known(request: Request, next: Next) -> Response {
    let call = format!("{} {}", request.method(), request.uri().path());
    CALL.scope(call, next.run(request)).await
}

/// How often each thing was done.
#[derive(Default)]
pub(crate) struct Deeds {
    counts: BTreeMap<String, u32>,
    /// Names of machines by uuid, also of those that are gone.
    names: BTreeMap<String, String>,
}

impl State {
    /// Remembers the machine that the call under way is about, as long as it is there.
    pub(crate) fn about_to(&mut self, object: &str) {
        let name = self
            .volumes
            .values()
            .find_map(|v| v.records.get(object))
            .map(|r| r.name.clone());
        if let Some(name) = name {
            self.deeds.names.insert(object.to_owned(), name);
        }
    }

    /// The call under way had its effect; `what` says more than its path.
    pub(crate) fn did(&mut self, device: &str, what: &str) {
        let call = CALL.try_with(Clone::clone).unwrap_or_default();
        let said = [device, &call, what].map(str::trim);
        let words = said.join(" ").trim().to_owned();
        *self.deeds.counts.entry(words).or_insert(0) += 1;
    }
}

impl World {
    /// How often each thing was done: `device METHOD /path`, with machines by their names.
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
