//! Load balancers, looked at every few seconds: who serves, who fails, and what is otherwise than it should be. Members follow their
//! machines: what is due is told by a run like any other, one for each front at a time.

use super::office::Office;
use crate::{
    desk::{By, Wish, start_as},
    scribe::{Decision, Guard, Scribe, Sight},
    shared::Shared,
};
use std::{collections::BTreeMap, sync::Arc, time::Duration};
use tokio::time::sleep;
use zastrugi_core::{
    estate::{Balancer, Estate, Front, Seen},
    fronts::{is_due, members},
    ids::{BalancerId, FrontId, draw_uuid},
    permits::{Permits, Role, Who},
    rooms::{
        Event, Proposal,
        fronts::{self, Ask},
    },
    runs::Object,
    view::View,
};
use zastrugi_store::Held;

const PAUSE: Duration = Duration::from_secs(2);
/// How often it is looked whether members are due.
const LOOK: Duration = Duration::from_secs(1);

pub(super) struct BalancerEye {
    pub(super) shared: Arc<Shared>,
    pub(super) scribe: Scribe,
    pub(super) held: Held,
    pub(super) balancer: BalancerId,
}

/// What a look said: the balancer, and each front on it.
type Look = (Balancer, Option<BTreeMap<FrontId, BTreeMap<String, Seen>>>);

impl BalancerEye {
    pub(super) async fn follow(self) {
        loop {
            let estate = self.shared.estate();
            let Some(balancer) = estate.balancers.get(&self.balancer).cloned() else {
                return;
            };
            // The run that connects it says the first word.
            if balancer.known {
                let (read, on_it) = self
                    .shared
                    .drivers
                    .look_at_balancer(&estate, &balancer)
                    .await;
                let on_it =
                    on_it.map(|all| all.into_iter().map(|(id, f)| (id, f.members)).collect());
                self.note((read, on_it), estate).await;
            }
            sleep(PAUSE).await;
        }
    }

    async fn note(&self, look: Look, asked: Arc<Estate>) {
        if news(&self.shared.view(), &asked, &look).is_empty() {
            return;
        }
        let decide = move |sight: Sight<'_>| {
            Ok(Decision {
                events: news(sight.view, &asked, &look),
                ..Decision::nothing(Who::itself())
            })
        };
        if let Err(refusal) = self.scribe.append(Guard::Leader(self.held), decide).await {
            tracing::debug!(?refusal, balancer = %self.balancer, "a look was not written");
        }
    }
}

/// What is new of what was seen. What a run changes, or changed since the balancer was asked, is left to the next look.
fn news(view: &View, asked: &Estate, (read, on_it): &Look) -> Vec<Event> {
    let estate = &view.estate;
    let Some(held) = estate.balancers.get(&read.id) else {
        return vec![];
    };
    let mut all = Vec::new();
    // Two silences in a row say the same, whatever their words.
    let both_silent = !held.answers() && !read.answers();
    let same = asked.balancers.get(&read.id) == Some(held);
    if same && !both_silent && **held != *read {
        let turn = fronts::Turn::between(held, read);
        all.push(fronts::Event::BalancerSeen {
            balancer: Box::new(read.clone()),
            turn,
        });
    }
    let ours = estate
        .fronts
        .values()
        .filter(|f| f.balancer == read.id && f.ready);
    let as_asked = |f: &Front| {
        asked.fronts.get(&f.id).is_some_and(|was| **was == *f)
            && !view.runs.holds(Object::Front(f.id))
    };
    for front in ours.filter(|f| on_it.is_some() && as_asked(f)) {
        let seen = on_it.as_ref().and_then(|all| all.get(&front.id)).cloned();
        if seen != front.seen {
            let names: BTreeMap<String, String> = members(estate, front)
                .iter()
                .map(|m| (m.key(), m.machine.name.clone()))
                .collect();
            let name = |at: &str| names.get(at).cloned().unwrap_or_else(|| at.to_owned());
            all.push(fronts::Event::seen(front, seen, name));
        }
    }
    all.into_iter().map(Event::Fronts).collect()
}

pub(super) async fn follow(office: Office) {
    loop {
        sleep(LOOK).await;
        let now = office.shared.snapshot();
        let view = office.shared.view();
        let answers = |id: &BalancerId| view.estate.balancers.get(id).is_some_and(|b| b.answers());
        let due = view
            .estate
            .fronts
            .values()
            .filter(|f| answers(&f.balancer) && is_due(&view, f));
        for front in due {
            if is_open(&office.shared, front.id) {
                continue;
            }
            let wish = Wish {
                who: Who::itself(),
                by: By::Itself,
                permits: Permits::of(Role::Admin),
                ask: Proposal::Fronts(Ask::Follow { front: front.id }),
                seen: None,
                // Of each state of the estate at most one.
                request: draw_uuid(front.id.0, now.estate.revision.0, FOLLOWING),
            };
            if let Err(error) = start_as(&office.shared, &office.scribe, wish).await {
                tracing::warn!(front = %front.name, %error, "members were not told");
            }
        }
    }
}

/// Whether a run about this front is not over.
fn is_open(shared: &Shared, front: FrontId) -> bool {
    let now = shared.snapshot();
    now.plans.values().any(|p| match &p.ask {
        Proposal::Fronts(Ask::Follow { front: f } | Ask::Remove { front: f }) => *f == front,
        Proposal::Fronts(Ask::Put(put)) => put.front == Some(front),
        _ => false,
    })
}

/// Sets these requests apart from all others that are drawn.
const FOLLOWING: u64 = 0x6672_6f6e_7473_2067;
